package inspect

import (
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

// Own is what of the service itself no source may give away, and where none may lead. Records,
// keys and the policy are nobody's to read; and whoever reaches the socket of the administration
// may do everything.
type Own struct {
	Paths   []string          // files and directories, such as the data directory; the policy file is always among them
	Socket  string            // of the administration
	Listens func() []net.Addr // the addresses of the service; nil for none
	// ConsoleApart says that the console has an origin of its own, where no source is.
	ConsoleApart bool
}

// check finds the sources of a Book that give away what is the service's own, or lead to it.
func (o Own) check(book *policy.Book, policyFile string) (findings []document.Finding) {
	own := append([]string{policyFile}, o.Paths...)
	if o.Socket != "" {
		own = append(own, o.Socket)
	}
	for i := range book.Sources {
		s := &book.Sources[i]
		var f document.Finding
		switch {
		case s.Files != "":
			f = document.Finding{Rule: "gives-itself-away", Message: givesAway(Directory(*s, policyFile), own), Length: len(s.Files)}
		case o.leadsHere(s, policyFile):
			f = document.Finding{Rule: "leads-to-itself", Message: "the server behind " + s.Path + " is Ostiarius itself; what it would hand on " +
				"comes back to it, or reaches its administration", Length: len(s.Proxy)}
		}
		if f.Message != "" {
			f.Severity, f.File, f.Line, f.Column = document.SeverityError, policyFile, s.Line, s.Column
			findings = append(findings, f)
		}
	}
	return findings
}

// givesAway says in a sentence which of the paths that are Ostiarius's own a directory has in it;
// "" if none. A directory that is inside one of them is as bad. So is another name of the same
// file or directory, a hard link or a second mount.
func givesAway(directory string, own []string) string {
	root := real(directory)
	var same []os.FileInfo
	var names []string
	for _, path := range own {
		at := real(path)
		info, err := os.Stat(path)
		if within(root, at) || err == nil && info.IsDir() && within(at, root) {
			return fmt.Sprintf("the directory %s has %s in it, or is inside it, and would give that away; keep what is served apart",
				directory, path)
		}
		if err == nil {
			same, names = append(same, info), append(names, path)
			if info.IsDir() {
				inside, _ := os.ReadDir(path)
				for _, entry := range inside {
					if info, err := entry.Info(); err == nil && info.Mode().IsRegular() {
						same, names = append(same, info), append(names, filepath.Join(path, entry.Name()))
					}
				}
			}
		}
	}
	message, seen := "", 0
	fs.WalkDir(os.DirFS(root), ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if seen++; seen > maxChecked {
			return fs.SkipAll
		}
		info, err := entry.Info()
		if err != nil {
			return nil
		}
		for i := range same {
			if os.SameFile(info, same[i]) {
				message = fmt.Sprintf("%s is another name of %s, and would give that away; remove it", filepath.Join(directory, name), names[i])
				return fs.SkipAll
			}
		}
		return nil
	})
	return message
}

// real returns a path without links, as far as it is there.
func real(path string) string {
	path, err := filepath.Abs(path)
	if err != nil {
		return path
	}
	rest := ""
	for at := path; ; at, rest = filepath.Dir(at), filepath.Join(filepath.Base(at), rest) {
		if found, err := filepath.EvalSymlinks(at); err == nil {
			return filepath.Join(found, rest)
		}
		if at == filepath.Dir(at) {
			return path
		}
	}
}

func within(directory, path string) bool {
	relative, err := filepath.Rel(directory, path)
	return err == nil && relative != ".." && !strings.HasPrefix(relative, ".."+string(filepath.Separator))
}

func (o Own) leadsHere(s *policy.Source, policyFile string) bool {
	if socket, ok := strings.CutPrefix(s.Proxy, "unix:"); ok {
		return o.IsSocket(SocketPath(socket, policyFile))
	}
	u, err := url.Parse(s.Proxy)
	if err != nil {
		return false
	}
	ip := net.ParseIP(u.Hostname())
	if strings.EqualFold(u.Hostname(), "localhost") {
		ip = net.IPv4(127, 0, 0, 1)
	}
	return ip != nil && o.Hears(ip, PortOf(u))
}

// IsSocket reports whether a path leads to the socket of the administration.
func (o Own) IsSocket(path string) bool {
	if o.Socket == "" {
		return false
	}
	one, err := os.Stat(path)
	other, err2 := os.Stat(o.Socket)
	return real(path) == real(o.Socket) || err == nil && err2 == nil && os.SameFile(one, other)
}

// Hears reports whether the service listens at a port of an address of this machine.
func (o Own) Hears(ip net.IP, port string) bool {
	if o.Listens == nil {
		return false
	}
	for _, a := range o.Listens() {
		at, ok := a.(*net.TCPAddr)
		if !ok || fmt.Sprint(at.Port) != port {
			continue
		}
		if at.IP.Equal(ip) || ip.IsUnspecified() || at.IP.IsLoopback() && ip.IsLoopback() || at.IP.IsUnspecified() && isHere(ip) {
			return true
		}
	}
	return false
}

// isHere reports whether an address is one of this machine.
func isHere(ip net.IP) bool {
	if ip.IsLoopback() {
		return true
	}
	addresses, err := net.InterfaceAddrs()
	if err != nil {
		return true // fail closed
	}
	for _, a := range addresses {
		if n, ok := a.(*net.IPNet); ok && n.IP.Equal(ip) {
			return true
		}
	}
	return false
}

// SocketPath returns where a socket is that a policy file names.
func SocketPath(socket, policyFile string) string {
	if filepath.IsAbs(socket) {
		return socket
	}
	return filepath.Join(filepath.Dir(policyFile), socket)
}

// PortOf returns the port of an address, also where it is the usual one.
func PortOf(u *url.URL) string {
	switch port := u.Port(); {
	case port != "":
		return port
	case u.Scheme == "https":
		return "443"
	}
	return "80"
}
