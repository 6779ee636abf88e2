package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"path/filepath"
	"strings"
)

// SocketName is the name of the service's socket in its data directory. Whoever may open
// it may administer the service.
const SocketName = "ostiarius.sock"

// A Client speaks to a running service.
type Client struct {
	http *http.Client
	base string
	data string
	// server is the address of the site, where the service is asked so; wrong is why it cannot be asked at all.
	server string
	wrong  error
	// AtRest, if there is one, returns what carries out operations that only read records, where no service runs. The error
	// says why there are no records to be read.
	AtRest func(ctx context.Context) (http.Handler, error)
}

// New returns a client of the service whose data directory this is.
func New(data string) *Client {
	socket := filepath.Join(data, SocketName)
	transport := &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		conn, err := new(net.Dialer).DialContext(ctx, "unix", socket)
		if err != nil {
			return nil, err
		}
		if err := trust(conn, data); err != nil {
			conn.Close()
			return nil, &untrusted{err}
		}
		return conn, nil
	}}
	return &Client{http: &http.Client{Transport: transport}, base: "http://ostiarius/api/v1", data: data}
}

// untrusted says why nothing was sent.
type untrusted struct{ error }

// RequestedWith is a field that changes are sent with: a form of another site cannot send it.
const RequestedWith = "X-Requested-With"

// ErrNotRunning says that no service answers, and how to start one.
var ErrNotRunning = errors.New("no service is running")

// ask carries out an operation and decodes what comes back into out, a pointer. It returns the fields of the answer.
func (c *Client) ask(ctx context.Context, o *Operation, in, out any) (http.Header, error) {
	if c.wrong != nil {
		return nil, c.wrong
	}
	path, body, err := o.encode(in)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, o.Method, c.base+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	req.Header.Set("Accept", "application/json")
	req.Header.Set(RequestedWith, "ostiarius")
	resp, err := c.http.Do(req)
	var other *untrusted
	if errors.As(err, &other) {
		return nil, other.error
	}
	var dial *net.OpError
	if c.server == "" && errors.As(err, &dial) && dial.Op == "dial" {
		if errors.Is(err, fs.ErrPermission) {
			return nil, fmt.Errorf("the socket of the service in %s may not be opened by this user; use the account that started it", c.data)
		}
		if resp, err = c.askAtRest(o, req); err != nil {
			return nil, err
		}
		if resp == nil {
			return nil, fmt.Errorf("%w on the data directory %s; start it with `ostiarius serve --policy doors.yaml --data %s`, or name "+
				"another with --data", ErrNotRunning, c.data, c.data)
		}
	}
	if err != nil && c.server != "" {
		return nil, fmt.Errorf("the service at %s did not answer: %w", c.server, err)
	}
	if err != nil {
		return nil, fmt.Errorf("the service in %s did not answer: %w", c.data, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusUnauthorized && strings.HasPrefix(resp.Header.Get("WWW-Authenticate"), "Bearer ") {
		return nil, fmt.Errorf("the service at %s does not take the access key: it has ended, was removed, or does not count from this "+
			"network", c.server)
	}
	if resp.StatusCode >= 300 && resp.StatusCode < 400 {
		return nil, fmt.Errorf("%s leads elsewhere (%s); name the address of the site itself with --server", c.server, resp.Status)
	}
	if resp.StatusCode >= 400 {
		var p Problem
		if err := json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(&p); err != nil || p.Detail == "" {
			return nil, fmt.Errorf("the service answered %s", resp.Status)
		}
		return nil, &p
	}
	if o.Out == nil {
		return resp.Header, nil
	}
	if text, ok := out.(*File); ok {
		*text, err = io.ReadAll(resp.Body)
		return resp.Header, err
	}
	return resp.Header, json.NewDecoder(resp.Body).Decode(out)
}

// askAtRest asks where no service runs; nil if that cannot be answered.
func (c *Client) askAtRest(o *Operation, req *http.Request) (*http.Response, error) {
	if c.AtRest == nil || !o.AtRest {
		return nil, nil
	}
	rest, err := c.AtRest(req.Context())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%w on the data directory %s, and what is there cannot be read: %w", ErrNotRunning, c.data, err)
	}
	w := &written{header: http.Header{}, status: http.StatusOK}
	rest.ServeHTTP(w, req)
	return &http.Response{
		StatusCode: w.status, Status: fmt.Sprint(w.status, " ", http.StatusText(w.status)), Header: w.header, Body: io.NopCloser(&w.body),
	}, nil
}

// written is an answer that is kept.
type written struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (w *written) Header() http.Header            { return w.header }
func (w *written) WriteHeader(status int)         { w.status = status }
func (w *written) Write(part []byte) (int, error) { return w.body.Write(part) }
