package service

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ostiarius/core/connect"
	"ostiarius/service/base/guard"
)

// besides runs web servers with their part of a configuration until the benchmark ends, and returns where one answers.
var besides = map[string]func(b *testing.B, dir, site string) string{
	"nginx": func(b *testing.B, dir, site string) string {
		address := free(b)
		conf := fmt.Sprintf("daemon off;\nworker_processes 2;\npcre_jit on;\npid %[1]s/pid;\nerror_log stderr;\nevents { "+
			"worker_connections 4096; }\nhttp {\naccess_log off;\nclient_body_temp_path %[1]s/b;\nproxy_temp_path %[1]s/p;\nfastcgi_temp_path "+
			"%[1]s/f;\nuwsgi_temp_path %[1]s/u;\nscgi_temp_path %[1]s/s;\n%[2]s }\n", dir, strings.ReplaceAll(site, "ADDRESS", address))
		return runServer(b, dir, conf, address, "/usr/sbin/nginx", "-p", dir, "-c", filepath.Join(dir, "conf"), "-e", "stderr")
	},
	"caddy": func(b *testing.B, dir, site string) string {
		address := free(b)
		return runServer(b, dir, "{\n admin off\n auto_https off\n}\n"+strings.ReplaceAll(site, "ADDRESS", address), address,
			"/usr/bin/caddy", "run", "--config", filepath.Join(dir, "conf"), "--adapter", "caddyfile")
	},
}

func free(b *testing.B) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

func runServer(b *testing.B, dir, conf, address, name string, args ...string) string {
	if _, err := os.Stat(name); err != nil {
		b.Skip(name + " is not here; `make bench` installs it")
	}
	if err := os.WriteFile(filepath.Join(dir, "conf"), []byte(conf), 0o600); err != nil {
		b.Fatal(err)
	}
	c := exec.Command(name, args...)
	c.Env = append(os.Environ(), "XDG_DATA_HOME="+dir, "XDG_CONFIG_HOME="+dir)
	c.Stderr = os.Stderr
	if strings.HasSuffix(name, "caddy") {
		c.Stderr = nil
	}
	if err := c.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		c.Process.Signal(os.Interrupt)
		c.Wait()
	})
	for range 200 {
		if conn, err := net.Dial("tcp", address); err == nil {
			conn.Close()
			return "http://" + address
		}
		time.Sleep(50 * time.Millisecond)
	}
	b.Fatal(name + " does not answer")
	return ""
}

// A web server that asks Ostiarius, beside the same web server that asks a bare handler which admits everybody; and where nobody is
// asked, beside the same web server with nothing closed.
func BenchmarkBeside(b *testing.B) {
	s := benchServiceOf(b, Settings{
		Cost: cheap, Front: &guard.Front{Peers: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}, Beside: guard.XOriginalURI,
	})
	caddy := benchServiceOf(b,
		Settings{Cost: cheap, Front: &guard.Front{Peers: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}, Beside: guard.XForwardedURI})
	cookie := "Cookie: ostiarius-session=" + s.token
	bare := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusNoContent) }))
	defer bare.Close()
	host := func(url string) string { return strings.TrimPrefix(url, "http://") }
	part := func(s *guarded, to string, skip bool) *connect.Site {
		at, err := connect.ParseTo(to)
		if err != nil {
			b.Fatal(err)
		}
		return &connect.Site{Book: s.policy.Book(), To: at, SkipPublic: skip}
	}
	root := filepath.Join(s.dir, "site")
	// Servers of the web run under a name of their own.
	for dir := s.dir; len(dir) > len(os.TempDir()); dir = filepath.Dir(dir) {
		os.Chmod(dir, 0o755)
	}
	nginx := func(upstream string, skip bool, content ...string) string {
		pool := "upstream doors { server " + host(upstream) + "; keepalive 64; }\n"
		of := part(s, "http://doors", skip)
		if skip {
			of.Content = content
		}
		site := of.Nginx()
		if upstream == "" {
			pool, site = "", ""
		}
		return besides["nginx"](b, b.TempDir(), pool+"server { listen ADDRESS; root "+root+"; "+site+"\n }")
	}
	b.Run("nginx", func(b *testing.B) {
		one, other := nginx(bare.URL, false), nginx(s.URL(), false)
		against(b, func() measure { return rate(b, 1, one+"/rota/week.html", cookie) },
			func() measure { return rate(b, 1, other+"/rota/week.html", cookie) })
	})
	for name, content := range map[string][]string{"nginx-skip-public": nil, "nginx-skip-public-content": {"root " + root}} {
		b.Run(name, func(b *testing.B) {
			one, other := nginx("", false), nginx(s.URL(), true, content...)
			against(b, func() measure { return rate(b, 1, one+"/open/week.html") }, func() measure { return rate(b, 1, other+"/open/week.html") })
		})
	}
	b.Run("caddy", func(b *testing.B) {
		at := func(upstream string) string {
			site := part(caddy, upstream, false).Caddy()
			if upstream == bare.URL {
				site = "forward_auth " + host(upstream) + " {\n uri /\n}\n"
			}
			return besides["caddy"](b, b.TempDir(), "http://ADDRESS {\nroot * "+filepath.Join(caddy.dir, "site")+"\n"+site+"\nfile_server\n}\n")
		}
		one, other := at(bare.URL), at(caddy.URL())
		cookie := "Cookie: ostiarius-session=" + caddy.token
		against(b, func() measure { return rate(b, 1, one+"/rota/week.html", cookie) },
			func() measure { return rate(b, 1, other+"/rota/week.html", cookie) })
	})
	b.Run("decide", func(b *testing.B) {
		question := []string{cookie, "X-Original-Method: GET", "X-Original-Uri: /rota/week.html", "X-Forwarded-For: 192.0.2.7",
			"X-Forwarded-Proto: http"}
		against(b, func() measure { return rate(b, 1, bare.URL+"/door/decide", question...) },
			func() measure { return rate(b, 1, s.URL()+"/door/decide", question...) })
	})
}
