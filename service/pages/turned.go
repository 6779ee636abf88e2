package pages

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"ostiarius/core/policy"
	"ostiarius/service/guard"
)

// Missing answers for a page that is not there. It is also the answer for what is
// hidden, to the last byte.
func (p *Pages) Missing(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	p.missing(w, r, t.Book, guard.ClientOf(r.Header))
}

func (p *Pages) missing(w http.ResponseWriter, r *http.Request, book *policy.Book, client policy.Client) {
	// What is missing behind a door has been given the fields of the site's answers already;
	// what is hidden has not.
	for _, field := range book.Headers {
		w.Header().Del(field.Name)
	}
	w.Header().Del("Vary")
	if client != policy.Browser {
		problem(w, http.StatusNotFound, "There is nothing at this address.")
		return
	}
	p.render(w, r, http.StatusNotFound, "notice.html", view{
		Site: book.Site, Prefix: book.Prefix, Title: "Not found",
		Lead: "There is nothing at this address.",
		Hint: "Perhaps the page has moved, or a letter in the address is wrong.",
	})
}

// Upstream answers a request for which the server behind has no answer. It says nothing of
// that server.
func (p *Pages) Upstream(w http.ResponseWriter, r *http.Request, status int) {
	t := guard.TurnOf(r)
	title, lead, hint := "Not now", "The server behind this page does not answer.", "Please try again in a while."
	switch status {
	case http.StatusGatewayTimeout:
		lead = "The server behind this page takes too long to answer."
	case http.StatusLoopDetected:
		lead = "This page leads back to itself: what stands behind it is this service again."
	case http.StatusRequestTimeout:
		lead = "What was sent did not arrive whole in time."
	case http.StatusBadRequest:
		title, lead, hint = "This cannot be read", "What was sent is malformed or did not arrive whole.", "Please send it again."
	}
	if guard.ClientOf(r.Header) != policy.Browser {
		problem(w, status, lead)
		return
	}
	p.render(w, r, status, "notice.html", view{
		Site: t.Book.Site, Prefix: t.Book.Prefix, Title: title, Lead: lead, Hint: hint,
	})
}

// Turned answers a request that was not admitted.
func (p *Pages) Turned(w http.ResponseWriter, r *http.Request, t *guard.TurnedAway) {
	v := view{Site: t.Book.Site, Prefix: t.Book.Prefix, Account: t.Visitor.Account}
	switch a := t.Answer; {
	case a.Status == http.StatusSeeOther:
		redirect(w, p.backToForm(r, t.Turn, a.Location))
		return
	case a.Status == http.StatusNotFound:
		p.missing(w, r, t.Book, t.Client)
		return
	case a.Status == http.StatusBadRequest:
		if t.Client != policy.Browser {
			problem(w, a.Status, fmt.Sprintf("The request cannot be read without guessing: %v.", t.Decision.Fault))
			return
		}
		v.Title, v.Lead = "This address cannot be read", "The address is malformed, or it could be read in more than one way."
		v.Hint = "What was found: " + t.Decision.Fault.Error() + "."
	case a.Status == http.StatusUnauthorized:
		if t.Client != policy.Browser {
			problem(w, a.Status, "This asks for "+t.Door.Ask()+". "+remedy(t))
			return
		}
		v.Title, v.Lead = "Credentials are needed", "This page asks for a name and a password."
		v.Hint = "Load the page again and type them when the browser asks."
	default:
		if t.Client != policy.Browser {
			detail := "This asks for " + t.Door.Ask() + "."
			if a.Say != "" {
				detail = a.Say
			}
			writeJSON(w, a.Status, "application/problem+json", map[string]any{
				"type": "about:blank", "title": http.StatusText(a.Status), "status": a.Status, "detail": detail, "reference": t.Reference,
			})
			return
		}
		v.Reference = t.Reference
		v.Title, v.Lead = "Not for you", "You may not see this page."
		if a.Say != "" {
			v.Lead = a.Say
		} else {
			v.Asks = t.Door.Ask()
		}
		v.Other = t.Book.Prefix + "/sign-in?other&next=" + url.QueryEscape(t.Address)
		if t.Visitor.SignedIn {
			v.Roles = strings.Join(t.Visitor.Roles, ", ")
		}
	}
	p.render(w, r, t.Answer.Status, "notice.html", v)
}

// remedy says what a program, or a page's background request, can do about a challenge.
func remedy(t *guard.TurnedAway) string {
	switch proof := t.Decision.Proof; {
	case proof.Basic && t.Client == policy.Script:
		return "Open a page there first, so that the browser asks for them."
	case proof.Basic:
		return "Send a name and a password with HTTP Basic, for \"" + proof.Realm + "\"."
	case proof.Kind == policy.ProveAgain:
		return "Type your password again at " + t.Book.Prefix + "/prove-again first."
	case proof.Kind == policy.ProveSignIn:
		return "Sign in at " + t.Book.Prefix + "/sign-in first."
	default:
		return "Open it at " + t.Book.Prefix + "/unlock first."
	}
}
