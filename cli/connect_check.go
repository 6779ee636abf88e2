package cli

import (
	"bufio"
	"cmp"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ostiarius/core/connect"
	"ostiarius/core/policy"
)

// A wrongAnswer is an answer of a web server that is not what the policy says.
type wrongAnswer struct {
	Request string `json:"request"`
	About   string `json:"about"`
	Outcome string `json:"outcome"` // by the policy
	Status  int    `json:"status"`  // 0 for no answer
	Message string `json:"message"`
}

// checkConnected asks a running web server what shows whether the doors hold there.
func checkConnected(c *cobra.Command, book *policy.Book, site, format string) error {
	u, err := url.Parse(site)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "" {
		return errUsage{fmt.Errorf("%q isn't the address of a site; use one like http://localhost:8080", site)}
	}
	questions := connect.Questions(book, u.Hostname())
	told := struct {
		OK        bool          `json:"ok"`
		Questions int           `json:"questions"`
		Wrong     []wrongAnswer `json:"wrong"`
	}{Questions: len(questions), Wrong: []wrongAnswer{}}
	asking := progressOn(c, "asking")
	for i := range questions {
		q := &questions[i]
		asking.at(i+1, len(questions))
		status, location, err := ask(c.Context(), u, q)
		message := ""
		switch {
		case err != nil && q.Outcome != policy.Admit && i > 0:
			// hung up on, as some do with what cannot be read
		case err != nil:
			asking.done()
			return fmt.Errorf("%s does not answer: %w", site, err)
		default:
			message = q.Holds(book, status, location)
		}
		if message != "" {
			told.Wrong = append(told.Wrong, wrongAnswer{q.String(), q.About, string(q.Outcome), status, message})
		}
	}
	asking.done()
	told.OK = len(told.Wrong) == 0
	if format == "json" {
		if err := writeJSON(c.OutOrStdout(), told); err != nil {
			return err
		}
	} else {
		for _, w := range told.Wrong {
			say(c.OutOrStdout(), "%s\n    %s: %s\n", w.Request, w.About, w.Message)
		}
		if told.OK {
			say(c.OutOrStdout(), "The doors work: %d requests of a visitor who isn't signed in were answered as the policy says.\n", told.Questions)
		}
	}
	if !told.OK {
		return fmt.Errorf("%d of %d answers don't match the policy", len(told.Wrong), told.Questions)
	}
	return nil
}

// ask sends a question as it stands, and returns the status of the answer.
func ask(ctx context.Context, site *url.URL, q *connect.Question) (status int, location string, err error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	address := site.Host
	if site.Port() == "" {
		address = net.JoinHostPort(site.Hostname(), map[string]string{"http": "80", "https": "443"}[site.Scheme])
	}
	var conn net.Conn
	if site.Scheme == "https" {
		conn, err = (&tls.Dialer{Config: &tls.Config{ServerName: site.Hostname(), NextProtos: []string{"http/1.1"}}}).DialContext(ctx,
			"tcp", address)
	} else {
		conn, err = (&net.Dialer{}).DialContext(ctx, "tcp", address)
	}
	if err != nil {
		return 0, "", err
	}
	defer conn.Close()
	if until, ok := ctx.Deadline(); ok {
		conn.SetDeadline(until)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s HTTP/1.1\r\nHost: %s\r\nAccept: text/html\r\nUser-Agent: ostiarius-connect\r\n", q.Method, q.Target,
		cmp.Or(q.Host, site.Host))
	closes := "Connection: close\r\n"
	for _, f := range q.Fields {
		fmt.Fprintf(&b, "%s: %s\r\n", f[0], f[1])
		if f[0] == "Connection" {
			closes = ""
		}
	}
	if q.Method == http.MethodPost || q.Method == http.MethodPut {
		closes += "Content-Length: 0\r\n"
	}
	if _, err := io.WriteString(conn, b.String()+closes+"\r\n"); err != nil {
		return 0, "", err
	}
	answer, err := http.ReadResponse(bufio.NewReader(conn), &http.Request{Method: q.Method})
	if err != nil {
		return 0, "", err
	}
	answer.Body.Close()
	return answer.StatusCode, answer.Header.Get("Location"), nil
}
