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

// do sends a request and decodes the answer into result, if that is not nil.
func (c *Client) do(ctx context.Context, method, path string, body, result any) error {
	var reader io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return err
		}
		reader = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, reader)
	if err != nil {
		return err
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	req.Header.Set("Accept", "application/json")
	req.Header.Set(RequestedWith, "ostiarius")
	resp, err := c.http.Do(req)
	var other *untrusted
	if errors.As(err, &other) {
		return other.error
	}
	var dial *net.OpError
	if errors.As(err, &dial) && dial.Op == "dial" {
		if errors.Is(err, fs.ErrPermission) {
			return fmt.Errorf("the socket of the service in %s may not be opened by this user; use the account that started it", c.data)
		}
		return fmt.Errorf("%w on the data directory %s; start it with `ostiarius serve --policy doors.yaml --data %s`, or name another with --data", ErrNotRunning, c.data, c.data)
	}
	if err != nil {
		return fmt.Errorf("the service in %s did not answer: %w", c.data, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 400 {
		var p Problem
		if err := json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(&p); err != nil || p.Detail == "" {
			return fmt.Errorf("the service answered %s", resp.Status)
		}
		return &p
	}
	if result == nil {
		return nil
	}
	if text, ok := result.(*[]byte); ok {
		*text, err = io.ReadAll(resp.Body)
		return err
	}
	return json.NewDecoder(resp.Body).Decode(result)
}

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

// People returns the accounts that a query means, a part at a time.
func (c *Client) People(ctx context.Context, q PeopleQuery) (all People, err error) {
	v := url.Values{}
	put := func(key, value string) {
		if value != "" && value != "0" {
			v.Set(key, value)
		}
	}
	put("search", q.Search)
	put("role", q.Role)
	put("state", q.State)
	put("sort", q.Sort)
	if q.Down {
		put("down", "true")
	}
	put("offset", strconv.Itoa(q.Offset))
	put("limit", strconv.Itoa(q.Limit))
	return all, c.do(ctx, "GET", "/people?"+v.Encode(), nil, &all)
}

// EditPerson changes the details of an account.
func (c *Client) EditPerson(ctx context.Context, name string, to PersonEdit) (p Person, err error) {
	return p, c.do(ctx, "PATCH", person(name), to, &p)
}

// LinkPerson makes a link with which somebody sets the password of an account once.
func (c *Client) LinkPerson(ctx context.Context, name string) (l Link, err error) {
	return l, c.do(ctx, "POST", person(name)+"/link", nil, &l)
}

// EndSessionsOf ends all sessions of an account and returns how many there were.
func (c *Client) EndSessionsOf(ctx context.Context, name string) (n int, err error) {
	var ended struct{ Ended int }
	err = c.do(ctx, "DELETE", person(name)+"/sessions", nil, &ended)
	return ended.Ended, err
}

// ImportPeople brings in accounts, all or none.
func (c *Client) ImportPeople(ctx context.Context, i Import) (done Imported, err error) {
	return done, c.do(ctx, "POST", "/people/import", i, &done)
}

// Sessions returns the sessions of an account, or of all if it is "".
func (c *Client) Sessions(ctx context.Context, account, search string, offset, limit int) (all Sessions, err error) {
	v := url.Values{"account": {account}, "search": {search}, "offset": {strconv.Itoa(offset)}, "limit": {strconv.Itoa(limit)}}
	return all, c.do(ctx, "GET", "/sessions?"+v.Encode(), nil, &all)
}

// EndSession ends one session.
func (c *Client) EndSession(ctx context.Context, handle string) error {
	return c.do(ctx, "DELETE", "/sessions/"+url.PathEscape(handle), nil, nil)
}

// EndAllSessions signs everybody out and returns how many sessions there were.
func (c *Client) EndAllSessions(ctx context.Context) (n int, err error) {
	var ended struct{ Ended int }
	err = c.do(ctx, "DELETE", "/sessions", nil, &ended)
	return ended.Ended, err
}

// Keyrings returns all keyrings with their entries.
func (c *Client) Keyrings(ctx context.Context) (all []Keyring, err error) {
	return all, c.do(ctx, "GET", "/keyrings", nil, &all)
}

func ring(name string) string { return "/keyrings/" + url.PathEscape(name) }

func entry(keyring, name string) string { return ring(keyring) + "/entries/" + url.PathEscape(name) }

// AddEntry adds a name with a password to a keyring.
func (c *Client) AddEntry(ctx context.Context, keyring string, n NewEntry) (e Entry, err error) {
	return e, c.do(ctx, "POST", ring(keyring)+"/entries", n, &e)
}

// SetEntryPassword gives an entry another password.
func (c *Client) SetEntryPassword(ctx context.Context, keyring, name string, n NewEntryPassword) error {
	return c.do(ctx, "PUT", entry(keyring, name)+"/password", n, nil)
}

// SetEntryDisabled disables or enables an entry.
func (c *Client) SetEntryDisabled(ctx context.Context, keyring, name string, disabled bool) error {
	return c.do(ctx, "PUT", entry(keyring, name)+"/disabled", disabled, nil)
}

// RemoveEntry removes a name from a keyring.
func (c *Client) RemoveEntry(ctx context.Context, keyring, name string) error {
	return c.do(ctx, "DELETE", entry(keyring, name), nil, nil)
}

// ExportPeople returns all accounts as text, in the format "csv" or "json".
func (c *Client) ExportPeople(ctx context.Context, format string) (text []byte, err error) {
	return text, c.do(ctx, "GET", "/people."+format, nil, &text)
}

// ImportEntries brings in an htpasswd file.
func (c *Client) ImportEntries(ctx context.Context, keyring string, i EntriesImport) (lines []ImportedLine, err error) {
	return lines, c.do(ctx, "POST", ring(keyring)+"/import", i, &lines)
}

// ExportEntries returns a keyring as an htpasswd file.
func (c *Client) ExportEntries(ctx context.Context, keyring string) (e EntriesExport, err error) {
	return e, c.do(ctx, "GET", ring(keyring)+"/export", nil, &e)
}

// Upstreams returns how the servers behind have been of late.
func (c *Client) Upstreams(ctx context.Context) (all []Upstream, err error) {
	return all, c.do(ctx, "GET", "/upstreams", nil, &all)
}

// Activity returns the latest events that a query means, newest first.
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
	return events, c.do(ctx, "GET", "/activity?"+v.Encode(), nil, &events)
}

// Person returns one account.
func (c *Client) Person(ctx context.Context, name string) (p Person, err error) {
	return p, c.do(ctx, "GET", person(name), nil, &p)
}

func person(name string) string { return "/people/" + url.PathEscape(name) }

// AddPerson adds an account.
func (c *Client) AddPerson(ctx context.Context, n NewPerson) (p Person, err error) {
	return p, c.do(ctx, "POST", "/people", n, &p)
}

// RemovePerson removes an account with its grants and sessions.
func (c *Client) RemovePerson(ctx context.Context, name string) error {
	return c.do(ctx, "DELETE", person(name), nil, nil)
}

// SetPassword gives an account another password and ends its sessions.
func (c *Client) SetPassword(ctx context.Context, name, password string) error {
	return c.do(ctx, "PUT", person(name)+"/password", NewPassword{password}, nil)
}

// SetDisabled disables or enables an account. Disabling ends its sessions.
func (c *Client) SetDisabled(ctx context.Context, name string, disabled bool) error {
	return c.do(ctx, "PUT", person(name)+"/disabled", disabled, nil)
}

// Grant gives a role to an account.
func (c *Client) Grant(ctx context.Context, name string, g NewGrant) error {
	return c.do(ctx, "POST", person(name)+"/grants", g, nil)
}

// Revoke takes a role from an account.
func (c *Client) Revoke(ctx context.Context, name, role string) error {
	return c.do(ctx, "DELETE", person(name)+"/grants/"+url.PathEscape(role), nil, nil)
}

// Policy returns the version in force with its text.
func (c *Client) Policy(ctx context.Context) (v Version, err error) {
	return v, c.do(ctx, "GET", "/policy", nil, &v)
}

// CheckPolicy says what is wrong with a text and how its doors differ from those in force.
func (c *Client) CheckPolicy(ctx context.Context, text string) (checked Checked, err error) {
	return checked, c.do(ctx, "POST", "/policy/check", Draft{Text: text}, &checked)
}

// ApplyPolicy brings a text into force. The error is a *Problem with the findings if the
// text has errors.
func (c *Client) ApplyPolicy(ctx context.Context, d Draft) (a Applied, err error) {
	return a, c.do(ctx, "POST", "/policy", d, &a)
}

// Versions returns all versions without their texts, newest first.
func (c *Client) Versions(ctx context.Context) (all []Version, err error) {
	return all, c.do(ctx, "GET", "/policy/versions", nil, &all)
}

// Version returns one version with its text.
func (c *Client) Version(ctx context.Context, id int64) (v Version, err error) {
	return v, c.do(ctx, "GET", fmt.Sprintf("/policy/versions/%d", id), nil, &v)
}

// Rollback brings the text of an earlier version into force again, as a new version; only if
// overEdit is set also over an edit of the file that is not in force.
func (c *Client) Rollback(ctx context.Context, id int64, comment string, overEdit bool) (a Applied, err error) {
	return a, c.do(ctx, "POST", fmt.Sprintf("/policy/versions/%d/rollback", id), Draft{Comment: comment, OverEdit: overEdit}, &a)
}
