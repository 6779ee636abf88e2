package patrol

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/document"
)

// directives reads Cache-Control (RFC 9111, section 5.2). What is given twice counts as given.
func directives(h http.Header) map[string]string {
	all := map[string]string{}
	for _, line := range h.Values("Cache-Control") {
		for _, one := range strings.Split(line, ",") {
			name, value, _ := strings.Cut(strings.TrimSpace(one), "=")
			if name != "" {
				all[strings.ToLower(name)] = strings.Trim(value, `"`)
			}
		}
	}
	return all
}

// storable says why a cache may keep an answer, "" if none may; and whether that are caches which serve several people.
func storable(h http.Header) (why string, shared bool) {
	d := directives(h)
	_, private := d["private"]
	if _, never := d["no-store"]; never {
		if age, ok := seconds(d["s-maxage"]); ok && age > 0 {
			return "s-maxage beside no-store", true
		}
		return "", false
	}
	if _, ok := d["public"]; ok {
		return "Cache-Control: public", true
	}
	if age, ok := seconds(d["s-maxage"]); ok && age > 0 {
		return "s-maxage=" + strconv.Itoa(age), true
	}
	if age, ok := seconds(d["max-age"]); ok && age > 0 && !private {
		return "max-age=" + strconv.Itoa(age) + " without private", true
	}
	_, aged := d["max-age"]
	if expires, err := http.ParseTime(h.Get("Expires")); err == nil && !private && !aged && expires.After(time.Now()) {
		return "Expires: " + h.Get("Expires"), true
	}
	for _, name := range []string{"Cdn-Cache-Control", "Surrogate-Control"} {
		if value := h.Get(name); value != "" && !strings.Contains(value, "no-store") && !strings.Contains(value, "max-age=0") {
			return name + ": " + value, true
		}
	}
	if private {
		return "no-store is missing, so Back shows it after signing out", false
	}
	if _, checks := d["no-cache"]; checks || aged {
		return "no-store is missing, so Back shows it after signing out", false
	}
	if h.Get("Last-Modified") != "" {
		return "nothing forbids to keep it, and Last-Modified invites caches to", true // RFC 9111, section 4.2.2
	}
	return "nothing forbids to keep it (Cache-Control: no-store is missing)", false
}

func seconds(text string) (int, bool) {
	n, err := strconv.Atoi(text)
	return n, err == nil
}

// keeping finds closed answers that a cache may keep, or that Back would show.
func (w *walk) keeping(ctx context.Context) {
	for _, c := range w.closed() {
		if c.insider != nil {
			if why, shared := storable(c.insider.header); why != "" {
				severity := document.SeverityWarning
				if shared {
					severity = document.SeverityError
				}
				w.tell(Finding{Rule: "kept", Severity: severity, Path: c.path(), As: w.o.Visitors[c.insider.visitor].Who, Door: w.says(c.address),
					Message: "a closed page may be kept: " + why, Requests: []Shown{w.shown(c.insider), w.shown(c.stranger)}})
				continue
			}
			if age := c.insider.header.Get("Age"); age != "" && age != "0" {
				w.tell(Finding{Rule: "kept", Severity: document.SeverityError, Path: c.path(), As: w.o.Visitors[c.insider.visitor].Who,
					Door:    w.says(c.address),
					Message: fmt.Sprintf("a closed page comes out of a cache (Age: %s)", age), Requests: []Shown{w.shown(c.insider), w.shown(c.stranger)}})
				continue
			}
		}
		// That one has to sign in is kept, and said again to who has.
		got := c.stranger
		if got.status < 300 || got.status >= 400 || w.state(got) != asks {
			continue
		}
		d := directives(got.header)
		_, never := d["no-store"]
		age, ok := seconds(d["max-age"])
		_, checks := d["no-cache"]
		permanent := got.status == http.StatusMovedPermanently || got.status == http.StatusPermanentRedirect
		if _, public := d["public"]; !never && (public || permanent && !checks && !(ok && age == 0) || ok && age > 0) {
			w.tell(Finding{Rule: "kept", Severity: document.SeverityWarning, Path: c.path(), As: w.o.Visitors[w.stranger].Who,
				Door:     w.says(c.address),
				Message:  fmt.Sprintf("the way to sign in is kept by browsers (%d): who has signed in is led there again", got.status),
				Requests: []Shown{w.shown(got)}})
		}
	}
}
