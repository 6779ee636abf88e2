// Package e2e drives the real binary and a real browser. What several tests share stands
// here; the tests themselves are beside it.
package e2e

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
)

// Root returns the directory of the project.
func Root() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Dir(filepath.Dir(file))
}

// Binary is the built binary.
func Binary() string { return filepath.Join(Root(), "bin", "ostiarius") }

// Service is the binary of services: the built one, or another one that the variable E2E_BINARY names.
func Service() string {
	if other := os.Getenv("E2E_BINARY"); other != "" {
		return other
	}
	return Binary()
}

// chromium returns the browser: Debian's build of Chromium without a window, which takes a third of the processor's time of the one that
// could show windows, or that one.
func chromium() string {
	const headless = "/usr/bin/chromium-headless-shell"
	if _, err := os.Stat(headless); err == nil {
		return headless
	}
	return "/usr/bin/chromium"
}

// Browser starts a headless Chromium and returns a context in which chromedp.NewContext
// opens tabs, and a function that ends it.
func Browser(ctx context.Context) (context.Context, func(), error) {
	profile, err := os.MkdirTemp("", "ostiarius-browser")
	if err != nil {
		return nil, nil, err
	}
	options := []chromedp.ExecAllocatorOption{
		chromedp.ExecPath(chromium()), chromedp.UserDataDir(profile), chromedp.WindowSize(1280, 800),
		chromedp.Flag("headless", true), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("hide-scrollbars", true),
	}
	allocated, stop := chromedp.NewExecAllocator(ctx, options...)
	browser, stopBrowser := chromedp.NewContext(allocated)
	end := func() {
		chromedp.Cancel(browser)
		stopBrowser()
		stop()
		os.RemoveAll(profile)
	}
	if err := chromedp.Do(browser); err != nil {
		end()
		return nil, nil, fmt.Errorf("chromium: %w", err)
	}
	return browser, end, nil
}

// A Process is a running ostiarius.
type Process struct {
	URL    string // where it listens
	Data   string // its data directory, if the caller keeps it here
	Output string // what it printed before
	cmd    *exec.Cmd
	log    *os.File
	done   chan error
}

// Start starts the binary with arguments that make it listen, and waits until it does.
func Start(args ...string) (*Process, error) { return StartCommand(exec.Command(Service(), args...)) }

// StartCommand is Start for a command that starts the binary.
func StartCommand(cmd *exec.Cmd) (*Process, error) {
	log, err := os.CreateTemp("", "ostiarius-log")
	if err != nil {
		return nil, err
	}
	os.Remove(log.Name()) // it stays as long as it is open, and is left behind by nobody
	p := &Process{cmd: cmd, log: log, done: make(chan error, 1)}
	p.cmd.Stderr = log
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := p.cmd.Start(); err != nil {
		return nil, err
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if url, ok := strings.CutPrefix(lines.Text(), "listening on "); ok {
			p.URL = url
			go func() {
				io.Copy(io.Discard, out)
				p.done <- p.cmd.Wait()
			}()
			return p, nil
		}
		p.Output += lines.Text() + "\n"
	}
	err = p.cmd.Wait()
	return nil, fmt.Errorf("%s ended without listening: %v: %s%s", strings.Join(cmd.Args, " "), err, p.Output, p.Log())
}

// Log returns what the process wrote to standard error.
func (p *Process) Log() string {
	text, _ := io.ReadAll(io.NewSectionReader(p.log, 0, 1<<40))
	return string(text)
}

// Pid returns the number of the process.
func (p *Process) Pid() int { return p.cmd.Process.Pid }

// Kill ends the process at once, as a crash would.
func (p *Process) Kill() {
	p.cmd.Process.Kill()
	<-p.done
	p.done <- nil
}

// Stop interrupts the process, as Ctrl-C does, and waits until it has ended.
func (p *Process) Stop() error {
	p.cmd.Process.Signal(syscall.SIGINT)
	select {
	case err := <-p.done:
		p.done <- err
		return err
	case <-time.After(20 * time.Second):
		p.cmd.Process.Kill()
		return fmt.Errorf("the process did not end within 20 seconds: %s", p.Log())
	}
}

// dialService opens a connection to the service at url, over TLS if it speaks that.
func dialService(url string) (net.Conn, error) {
	if address, ok := strings.CutPrefix(url, "https://"); ok {
		return tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"http/1.1"}})
	}
	return net.Dial("tcp", strings.TrimPrefix(url, "http://"))
}

// readAnswer reads the answer to a request of that method, within ten seconds.
func readAnswer(conn net.Conn, method string) (*http.Response, error) {
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	return http.ReadResponse(bufio.NewReader(conn), &http.Request{Method: method})
}

// SignIn fills in the sign-in form of the service at url and sends it.
func SignIn(url, name, password string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(
		chromedp.Navigate(url+"/door/sign-in"),
		chromedp.SetValue("#username", name),
		chromedp.SetValue("#password", password),
		chromedp.Submit("#password"),
		chromedp.WaitNotPresent("#password"),
	)
}

// ColorScheme makes the page believe that the system is "light" or "dark".
func ColorScheme(scheme string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}},
		})
		return err
	})
}

// Insert inserts text where the cursor is, as pasting does.
func Insert(text string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, input.InsertText, input.InsertTextParams{Text: text})
		return err
	})
}
