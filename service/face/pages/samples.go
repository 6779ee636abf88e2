package pages

import (
	"bytes"
	"html/template"
	"net/http"
	"slices"
	"time"

	"ostiarius/core/looks"
	"ostiarius/core/policy"
	"ostiarius/core/words"
)

// The pages that can be looked at with sample data.
var sampled = []string{"sign-in", "sign-in-wrong", "join", "recover", "set-password", "second-factor", "prove-again", "account",
	"factors", "kept-codes", "turned-away", "missing", "unlock", "pass", "thanks", "claim", "signed-out"}

// Samples are the names of the pages that Sample knows.
func Samples() []string { return slices.Clone(sampled) }

// Sample writes a page as people meet it, with sample data, in a language and with looks that may be others than those in
// force, to be shown within another page. It reports whether there is one of that name.
func (p *Pages) Sample(w http.ResponseWriter, book *policy.Book, name string, in words.Language, l looks.Looks) bool {
	say := voice{book.Words, in}
	frame := func(title string) frame {
		f := frame{voice: say, Site: book.Site, Prefix: book.Prefix, Title: say.Say(title), SignIn: "#", Mark: "sample", Mails: true,
			dress: dressOf(l, book.Prefix)}
		f.Sheet, f.Inline = "", template.CSS(l.CSS())
		return f
	}
	file, view := "notice.html", any(nil)
	switch name {
	case "sign-in":
		file, view = "sign-in.html", signInView{
			frame: frame("sign-in.title"), Join: book.Joining.By == policy.ByAnybody || book.Joining.By == policy.ByApproval,
		}
	case "sign-in-wrong":
		file, view = "sign-in.html", signInView{frame: frame("sign-in.title"), Username: "ines", Problem: say.Say("wrong.sign-in")}
	case "join":
		file, view = "join.html", joinView{
			frame: frame("join.title"), Approval: book.Joining.By == policy.ByApproval,
			Terms: say.linked("join.agree", "terms", book.Joining.Terms), Privacy: say.linked("join.agree-privacy", "privacy", book.Joining.Privacy),
		}
	case "recover":
		file, view = "recover-ask.html", recoverView{frame: frame("recover.ask-title")}
	case "set-password":
		file, view = "recover.html", recoverView{frame: frame("recover.title"), Username: "ines"}
	case "prove-again":
		v := againView{frame: frame("again.title"), Other: "#", Lead: "again.as", Password: true}
		v.Account = "ines"
		file, view = "prove-again.html", v
	case "second-factor":
		file, view = "second.html", secondView{frame: frame("second.title"), Name: "ines", Code: true, Other: "#"}
	case "factors":
		since := time.Date(2026, 3, 21, 9, 30, 0, 0, time.UTC)
		file, view = "factors.html", factorsView{frame: frame("factors.title"), CanKeep: true, Kept: "10", CodeSince: words.Day(in, since),
			Passkeys: []shownPasskey{{
				Name:  say.Say("device.on", "browser", "Firefox", "system", "Linux"),
				About: say.Say("factors.passkey-since", "since", words.Day(in, since), "used", say.Say("ago.now")),
			}}}
	case "kept-codes":
		file, view = "kept.html", keptView{
			frame: frame("kept.title"),
			Codes: []string{"k7qx-3mpa-2d4f-h8wz-5rty-9nck", "b5rt-9ync-6gke-p2vd-w8fh-q4mx", "w8fh-q4mx-7taz-c3jy-k7qx-3mpa"}, Next: "#",
		}
	case "account":
		since := time.Date(2026, 3, 21, 9, 30, 0, 0, time.UTC)
		v := accountView{frame: frame("account.title"),
			Details: []detail{{say.Say("common.name"), "ines"}, {say.Say("account.email"), "ines@marram.example"},
				{say.Say("account.since"), words.Day(in, since)}},
			Sessions: []shownSession{{
				Device: say.Say("device.on", "browser", "Firefox", "system", "Linux"), Network: "192.0.2.7", Since: words.Moment(in, since),
				Seen: say.Say("ago.now"), This: true,
			}}, Leave: say.Say("account.leave-about", "time", say.span(book.Joining.Leave))}
		v.Account = "ines"
		file, view = "account.html", v
	case "turned-away":
		v := notice{frame: frame("turned.title"), Who: true, Roles: "keeper", Reference: "K7QX-3MPA", Other: "#"}
		v.Account, v.Lead = "ines", (&policy.Door{Admit: policy.Demand{Kind: policy.Role, Names: []string{"trustee"}}}).AdmitsIn(in,
			say.Say("turned.this-page"))
		view = v
	case "missing":
		view = notice{frame: frame("missing.title"), Lead: say.Say("missing.lead"), Hint: say.Say("missing.hint")}
	case "unlock":
		v := unlockView{frame: frame("unlock.title"), Shared: true, Lead: say.Say("unlock.lead")}
		v.Title = "Press kit"
		file, view = "unlock.html", v
	case "pass":
		file, view = "pass.html", passView{
			frame: frame("pass.title"), Lead: say.Say("pass.lead", "title", "Sound recordings"),
			For: say.Say("pass.for", "name", "Ada Carrow"), Go: say.Say("pass.go"),
		}
	case "thanks":
		v := thanksView{frame: frame("thanks.title"), Lead: say.Say("thanks.there"), Hint: say.Say("thanks.there-hint"), Go: "#"}
		file, view = "thanks.html", v
	case "claim":
		file, view = "claim.html", claimView{
			frame: frame("claim.title"), Lead: say.Say("claim.lead", "title", "Sound recordings"), Address: "ines@marram.example",
			Terms: say.linked("join.agree", "terms", book.Joining.Terms), Privacy: say.linked("join.agree-privacy", "privacy", book.Joining.Privacy),
		}
	case "signed-out":
		file, view = "sign-out.html", signOutView{frame: frame("sign-out.title")}
	default:
		return false
	}
	var page bytes.Buffer
	if err := templates().ExecuteTemplate(&page, file, view); err != nil {
		p.o.Log.Error("page not rendered", "page", file, "error", err)
		http.Error(w, "This page cannot be shown.", http.StatusInternalServerError)
		return true
	}
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "private, no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'self' 'unsafe-inline'; font-src 'self'; img-src 'self' data:; "+
		"form-action 'none'; frame-ancestors 'self'; base-uri 'none'; sandbox allow-same-origin")
	w.Write(page.Bytes())
	return true
}
