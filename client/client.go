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
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/policy"
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
	// AtRest, if there is one, returns what answers a question where no service runs, by its path below the API's; nil if
	// that cannot be answered. It is not asked for changes. The error says why there are no records to be read.
	AtRest func(ctx context.Context, path string) (http.Handler, error)
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

// nextOf returns the address of the next part of a list; "" if there is none (RFC 8288, section 3).
func nextOf(h http.Header) string {
	for link := range strings.SplitSeq(h.Get("Link"), ",") {
		target, rest, ok := strings.Cut(strings.TrimPrefix(strings.TrimSpace(link), "<"), ">")
		if ok && strings.Contains(rest, `rel="next"`) {
			return target
		}
	}
	return ""
}

// do sends a request and decodes the answer into result, if that is not nil.
func (c *Client) do(ctx context.Context, method, path string, body, result any) error {
	_, err := c.ask(ctx, method, path, body, result)
	return err
}

// ask is do, and returns the fields of the answer.
func (c *Client) ask(ctx context.Context, method, path string, body, result any) (http.Header, error) {
	if c.wrong != nil {
		return nil, c.wrong
	}
	var reader io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		reader = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, reader)
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
		if resp, err = c.askAtRest(req, path); err != nil {
			return nil, err
		}
		if resp == nil {
			return nil, fmt.Errorf("%w on the data directory %s; start it with `ostiarius serve --policy doors.yaml --data %s`, or name another with --data", ErrNotRunning, c.data, c.data)
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
		return nil, fmt.Errorf("the service at %s does not take the access key: it has ended, was removed, or does not count from this network", c.server)
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
	if result == nil {
		return resp.Header, nil
	}
	if text, ok := result.(*[]byte); ok {
		*text, err = io.ReadAll(resp.Body)
		return resp.Header, err
	}
	return resp.Header, json.NewDecoder(resp.Body).Decode(result)
}

// askAtRest asks where no service runs; nil if that cannot be answered.
func (c *Client) askAtRest(req *http.Request, path string) (*http.Response, error) {
	if c.AtRest == nil || req.Method != http.MethodGet {
		return nil, nil
	}
	rest, err := c.AtRest(req.Context(), path)
	if errors.Is(err, fs.ErrNotExist) || err == nil && rest == nil {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%w on the data directory %s, and what is there cannot be read: %w", ErrNotRunning, c.data, err)
	}
	w := &written{header: http.Header{}, status: http.StatusOK}
	rest.ServeHTTP(w, req)
	return &http.Response{StatusCode: w.status, Status: fmt.Sprint(w.status, " ", http.StatusText(w.status)), Header: w.header, Body: io.NopCloser(&w.body)}, nil
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

// Status returns the state of the service.
func (c *Client) Status(ctx context.Context) (s Status, err error) {
	return s, c.do(ctx, "GET", "/status", nil, &s)
}

// Explain asks the service to explain a request under its policy.
func (c *Client) Explain(ctx context.Context, method, address, who, client string) (e policy.Explanation, err error) {
	q := url.Values{"method": {method}, "url": {address}, "as": {who}, "client": {client}}
	return e, c.do(ctx, "GET", "/explain?"+q.Encode(), nil, &e)
}

// Matrix asks the service who gets what under its policy.
func (c *Client) Matrix(ctx context.Context, q MatrixQuery) (m Matrix, err error) {
	return m, c.do(ctx, "POST", "/matrix", q, &m)
}

func ring(name string) string { return "/keyrings/" + url.PathEscape(name) }

func entry(keyring, name string) string { return ring(keyring) + "/entries/" + url.PathEscape(name) }

// Upstreams returns how the servers behind have been of late.
func (c *Client) Upstreams(ctx context.Context) (all []Upstream, err error) {
	return all, c.do(ctx, "GET", "/upstreams", nil, &all)
}

// Activity returns the latest events that a query means, newest first.
// A search that takes the service long is gone on with, until there are q.Limit.
func (c *Client) Activity(ctx context.Context, q EventQuery) (events []Event, err error) {
	v := url.Values{}
	for key, value := range map[string]string{"kind": q.Kind, "account": q.Account, "network": q.Network, "door": q.Door, "reference": q.Reference, "search": q.Search} {
		if value != "" {
			v.Set(key, value)
		}
	}
	for key, t := range map[string]time.Time{"since": q.Since, "until": q.Until} {
		if !t.IsZero() {
			v.Set(key, t.Format(time.RFC3339Nano))
		}
	}
	for key, n := range map[string]int64{"after": q.After, "before": q.Before, "limit": int64(q.Limit)} {
		if n != 0 {
			v.Set(key, strconv.FormatInt(n, 10))
		}
	}
	for next := "activity?" + v.Encode(); next != ""; {
		var some []Event
		header, err := c.ask(ctx, "GET", "/"+next, nil, &some)
		if err != nil {
			return nil, err
		}
		if events = append(events, some...); q.Limit > 0 && len(events) >= q.Limit {
			return events[:q.Limit], nil
		}
		if next = nextOf(header); q.Limit == 0 && len(events) > 0 {
			break
		}
	}
	return events, nil
}

func person(name string) string { return "/people/" + url.PathEscape(name) }
