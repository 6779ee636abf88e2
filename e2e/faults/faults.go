// Package faults makes things go wrong around a running service: records that another program locks, a disk that is full or slow,
// too few descriptors, servers behind that misbehave.
package faults

import (
	"bufio"
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"modernc.org/sqlite"

	"ostiarius/e2e"
	"ostiarius/store"
)

// Lock locks the records in a data directory, as another program would that writes, or, with all, one that keeps others from reading too.
func Lock(data string, all bool) (unlock func(), err error) {
	db, err := sql.Open("sqlite", "file:"+store.FileIn(data))
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	for _, step := range map[bool][]string{
		false: {"BEGIN IMMEDIATE"}, true: {"PRAGMA locking_mode = EXCLUSIVE", "BEGIN EXCLUSIVE", "UPDATE in_use SET since = since", "COMMIT"},
	}[all] {
		for end := time.Now().Add(10 * time.Second); ; time.Sleep(time.Millisecond) {
			if _, err = db.Exec(step); err == nil || time.Now().After(end) {
				break
			}
		}
		if err != nil {
			db.Close()
			return nil, err
		}
	}
	return sync.OnceFunc(func() { db.Close() }), nil
}

// A Disk is a small file system in memory.
type Disk struct{ Dir string }

// NewDisk mounts one of so many KiB.
func NewDisk(size int) (*Disk, error) {
	dir, err := os.MkdirTemp("", "disk")
	if err != nil {
		return nil, err
	}
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, fmt.Sprintf("size=%dk", size)); err != nil {
		return nil, fmt.Errorf("a small file system cannot be mounted, for which the tests must run as root: %w", err)
	}
	return &Disk{dir}, nil
}

// Fill leaves no room, until free is called.
func (d *Disk) Fill() (free func(), err error) {
	name := filepath.Join(d.Dir, "filling")
	file, err := os.Create(name)
	if err != nil {
		return nil, err
	}
	block := make([]byte, 4096)
	for err == nil {
		_, err = file.Write(block)
	}
	file.Close()
	return func() { os.Remove(name) }, nil
}

// Close unmounts it.
func (d *Disk) Close() error {
	err := syscall.Unmount(d.Dir, syscall.MNT_DETACH)
	os.Remove(d.Dir)
	return err
}

// SlowDriver is the name of a driver for records on a slow disk: each time something is written through to it takes as long as
// SetSlow says.
const SlowDriver = "sqlite-slow"

var slow atomic.Int64

// SetSlow says how long it takes to write.
func SetSlow(d time.Duration) { slow.Store(int64(d)) }

func init() { sql.Register(SlowDriver, slowDriver{&sqlite.Driver{}}) }

type slowDriver struct{ driver.Driver }

func (d slowDriver) Open(name string) (driver.Conn, error) {
	conn, err := d.Driver.Open(name)
	if err != nil {
		return nil, err
	}
	return &slowConn{conn}, nil
}

// A slowConn takes its time where the one within writes through to the disk.
type slowConn struct{ driver.Conn }

func (c *slowConn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	result, err := c.Conn.(driver.ExecerContext).ExecContext(ctx, query, args)
	if err == nil && !strings.HasPrefix(query, "PRAGMA") {
		time.Sleep(time.Duration(slow.Load()))
	}
	return result, err
}

func (c *slowConn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	return c.Conn.(driver.QueryerContext).QueryContext(ctx, query, args)
}

func (c *slowConn) BeginTx(ctx context.Context, options driver.TxOptions) (driver.Tx, error) {
	tx, err := c.Conn.(driver.ConnBeginTx).BeginTx(ctx, options)
	return slowTx{tx}, err
}

type slowTx struct{ driver.Tx }

func (t slowTx) Commit() error {
	time.Sleep(time.Duration(slow.Load()))
	return t.Tx.Commit()
}

// StartWithFiles starts the service where no more than so many files and connections may be open.
func StartWithFiles(most int, args ...string) (*e2e.Process, error) {
	return e2e.StartCommand(exec.Command("/bin/sh",
		append([]string{"-c", fmt.Sprintf(`ulimit -n %d && exec "$0" "$@"`, most), e2e.Service()}, args...)...))
}

// StartWithSocket starts the service with a socket that is handed over to it, as a service manager does.
func StartWithSocket(l *net.TCPListener, args ...string) (*e2e.Process, error) {
	file, err := l.File()
	if err != nil {
		return nil, err
	}
	defer file.Close()
	cmd := exec.Command("/bin/sh", append([]string{"-c", `LISTEN_PID=$$ LISTEN_FDS=1 exec "$0" "$@"`, e2e.Service()}, args...)...)
	cmd.ExtraFiles = []*os.File{file}
	return e2e.StartCommand(cmd)
}

// Behind is a server behind that speaks as it is told, connection by connection, and counts them.
type Behind struct {
	URL       string
	listener  net.Listener
	Taken     atomic.Int64 // connections
	Open      atomic.Int64
	answering sync.WaitGroup
}

// NewBehind starts one; speak gets each connection, and the head of the first request on it.
func NewBehind(speak func(c net.Conn, r *bufio.Reader)) (*Behind, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b := &Behind{URL: "http://" + l.Addr().String(), listener: l}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			b.Taken.Add(1)
			b.Open.Add(1)
			b.answering.Go(func() {
				defer b.Open.Add(-1)
				defer c.Close()
				speak(c, bufio.NewReader(c))
			})
		}
	}()
	return b, nil
}

// Close ends it.
func (b *Behind) Close() { b.listener.Close() }

// Answering speaks HTTP by a handler, and may write what a handler of net/http could not: what it returns goes out as it is.
func Answering(answer func(r *http.Request) string) func(c net.Conn, r *bufio.Reader) {
	return func(c net.Conn, r *bufio.Reader) {
		for {
			request, err := http.ReadRequest(r)
			if err != nil {
				return
			}
			io.Copy(io.Discard, request.Body)
			if _, err := io.WriteString(c, answer(request)); err != nil {
				return
			}
		}
	}
}

// Text is an answer with fields and a body.
func Text(status int, fields, body string) string {
	return fmt.Sprintf("HTTP/1.1 %d %s\r\n%sContent-Length: %d\r\n\r\n%s", status, http.StatusText(status), fields, len(body), body)
}
