package e2e

import (
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"ostiarius/e2e/needs"
)

const nobody = 65534 // another user of the machine

func asRoot(t *testing.T) {
	if os.Geteuid() != 0 {
		needs.Skip(t, "another user can only be played by root")
	}
}

// Another user prepares the directory in which the service is to keep its records, or what is in it.
func TestDirectoryOfAnother(t *testing.T) {
	t.Parallel()
	asRoot(t)
	for name, c := range map[string]struct {
		prepare func(data string) error
		says    string // "" if it starts
	}{
		"its own": {func(data string) error { return errors.Join(os.Mkdir(data, 0o700), os.Chown(data, nobody, nobody)) },
			"belongs to another user"},
		"its own, for all": {func(data string) error {
			return errors.Join(os.Mkdir(data, 0o777), os.Chmod(data, 0o777), os.Chown(data, nobody, nobody))
		}, "belongs to another user"},
		"records": {func(data string) error {
			return errors.Join(os.Mkdir(data, 0o700), os.WriteFile(data+"/ostiarius.db", nil, 0o600), os.Chown(data+"/ostiarius.db", nobody, nobody))
		}, "belongs to another user"},
		"a journal": {func(data string) error {
			return errors.Join(os.Mkdir(data, 0o700), os.WriteFile(data+"/ostiarius.db-wal", nil, 0o600),
				os.Chown(data+"/ostiarius.db-wal", nobody, nobody))
		}, "belongs to another user"},
		"a link to records": {func(data string) error {
			return errors.Join(os.Mkdir(data, 0o700), os.Symlink("/tmp/elsewhere.db", data+"/ostiarius.db"))
		}, "is a link"},
		"a link": {func(data string) error {
			return errors.Join(os.Mkdir(data+"-real", 0o700), os.Symlink(data+"-real", data))
		}, "is a link"},
		"anybody's place": {func(data string) error {
			return errors.Join(os.Mkdir(data, 0o700), os.Chmod(filepath.Dir(data), 0o777))
		}, "anybody may rename"},
		"for all": {func(data string) error {
			return errors.Join(os.Mkdir(data, 0o777), os.Chmod(data, 0o777), os.WriteFile(data+"/ostiarius.db", nil, 0o644))
		}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			write(t, dir, "doors.yaml", "doors: [{path: /, admit: public}]\n")
			data := filepath.Join(dir, "data")
			if err := c.prepare(data); err != nil {
				t.Fatal(err)
			}
			s, err := Start("serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0", "--data", data)
			if c.says != "" {
				if err == nil {
					s.Kill()
					t.Fatal("it starts")
				}
				if !strings.Contains(err.Error(), c.says) {
					t.Errorf("%v", err)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			defer s.Kill()
			for _, path := range []string{data, data + "/ostiarius.db", data + "/ostiarius.db-wal", data + "/ostiarius.sock", data + "/lock"} {
				if info, err := os.Stat(path); err != nil || info.Mode().Perm()&0o077 != 0 {
					t.Errorf("%s: %v %v", path, info.Mode(), err)
				}
			}
			if !strings.Contains(s.Log(), "others could read or write this") {
				t.Errorf("it is not logged: %s", s.Log())
			}
		})
	}
}

// One service has a directory, also when its socket is gone; and the next when it is killed.
func TestOneServiceOnADirectory(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "doors.yaml", "doors: [{path: /, admit: public}]\n")
	data := filepath.Join(dir, "data")
	args := []string{"serve", "--policy", filepath.Join(dir, "doors.yaml"), "--listen", "127.0.0.1:0", "--data", data}
	first, err := Start(args...)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(data, "ostiarius.sock")); err != nil {
		t.Fatal(err)
	}
	if second, err := Start(args...); err == nil || !strings.Contains(err.Error(), "another service is running on the data directory") {
		if err == nil {
			second.Kill()
		}
		t.Errorf("a second service: %v", err)
	}
	first.Kill()
	third, err := Start(args...)
	if err != nil {
		t.Fatal(err)
	}
	third.Kill()
}

// A socket that somebody else has made is told nothing.
func TestSocketOfAnother(t *testing.T) {
	t.Parallel()
	asRoot(t)
	dir, err := os.MkdirTemp("", "socket") // short enough for a socket
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	data := filepath.Join(dir, "data")
	if err := errors.Join(os.Chmod(dir, 0o755), os.Mkdir(data, 0o755), os.Chown(data, nobody, nobody)); err != nil {
		t.Fatal(err)
	}
	script := `
import socket, sys
s = socket.socket(socket.AF_UNIX)
s.bind(sys.argv[1])
s.listen()
print("ready", flush=True)
c, _ = s.accept()
print(repr(c.recv(1000)), flush=True)
`
	c := exec.Command("/usr/bin/python3", "-c", script, filepath.Join(data, "ostiarius.sock"))
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer c.Process.Kill()
	ready := make([]byte, len("ready\n"))
	if _, err := io.ReadFull(out, ready); err != nil {
		t.Fatal(err)
	}
	code, _, errOut := run(t, "seven-brass-prisms\n", "people", "add", "ines", "--password-stdin", "--data", data)
	if code != 1 || !strings.Contains(errOut, "a program of another user (nobody) answers") {
		t.Errorf("%d %s", code, errOut)
	}
	if got, err := io.ReadAll(out); err != nil || string(got) != "b''\n" {
		t.Errorf("it was told %s, %v", got, err)
	}
	c.Wait()
}
