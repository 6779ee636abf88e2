package pages

import (
	"errors"
	"html"
	"html/template"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ostiarius/client"
	"ostiarius/core/account"
	"ostiarius/core/policy"
	"ostiarius/core/secret"
	"ostiarius/core/words"
	"ostiarius/service/base/guard"
	"ostiarius/service/base/mistake"
	"ostiarius/service/base/problem"
	"ostiarius/service/door/visitor"
	"ostiarius/service/who/factors"
	"ostiarius/service/who/people"
	"ostiarius/service/who/recovery"
	"ostiarius/service/who/signin"
)

// A voice says the sentences of a page, in the language of whoever looks at it.
type voice struct {
	set      words.Set
	Language words.Language
}

// voice returns the voice for whoever asks: in the language that they chose, or that their browser wants.
func (p *Pages) voice(r *http.Request) voice {
	return p.voiceOf(r, guard.TurnOf(r).Book)
}

func (p *Pages) voiceOf(r *http.Request, book *policy.Book) voice {
	return voice{book.Words, p.o.Visitors.Language(r)}
}

// Say says a sentence. The gaps are names and values in turn.
func (v voice) Say(key string, gaps ...string) string {
	var filled map[string]string
	for i := 0; i+1 < len(gaps); i += 2 {
		if filled == nil {
			filled = map[string]string{}
		}
		filled[gaps[i]] = gaps[i+1]
	}
	return v.set.Say(v.Language, key, filled)
}

// Strong says a sentence with what fills its gaps made to stand out.
func (v voice) Strong(key string, gaps ...string) template.HTML {
	filled := map[string]string{}
	for i := 0; i+1 < len(gaps); i += 2 {
		filled[gaps[i]] = "<strong>" + html.EscapeString(gaps[i+1]) + "</strong>"
	}
	return template.HTML(v.fill(key, filled))
}

// fill says a sentence as a page has it, with gaps that are filled with parts of a page.
func (v voice) fill(key string, gaps map[string]string) string {
	return words.Fill(html.EscapeString(v.set.Sentence(v.Language, key)), gaps)
}

func (v voice) in(d time.Duration) string {
	switch {
	case d < 2*time.Second:
		return v.Say("common.second")
	case d < 2*time.Minute:
		return v.Say("common.seconds", "n", strconv.Itoa(int(d.Seconds())))
	}
	return v.Say("common.minutes", "n", strconv.Itoa(int((d + time.Minute - 1).Minutes())))
}

func (v voice) ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return v.Say("ago.now")
	case d < 2*time.Hour:
		return v.Say("ago.minutes", "n", strconv.Itoa(int(d.Minutes())))
	case d < 48*time.Hour:
		return v.Say("ago.hours", "n", strconv.Itoa(int(d.Hours())))
	}
	return v.Say("ago.days", "n", strconv.Itoa(int(d.Hours()/24)))
}

// A frame is what every page has; the view of each has it, and fields of its own.
type frame struct {
	voice
	Site   string
	Prefix string
	Title  string
	dress
	Account string // who is signed in, or ""
	Mark    string // of a page with forms that carry one, see markedFrame; "" where they ask for the password
	Mails   bool   // links can be mailed
	SignIn  string // where one signs in; "" if this is told to nobody here
	// Here is the address of the page, below which the others are that say the same in another language; "" for
	// pages that are seen in the place of others.
	Here   string
	Others []otherLanguage
}

// An otherLanguage is one in which a page can be seen too.
type otherLanguage struct {
	Code words.Language
	Name string // in itself
}

var languageNames = map[words.Language]string{words.English: "English", words.German: "Deutsch"}

// frame returns the frame of a page with the title of that key, for whoever asks.
func (p *Pages) frame(r *http.Request, title string) frame {
	return p.frameOf(r, guard.TurnOf(r), title)
}

// frameOf is frame for a request that was not handed on.
func (p *Pages) frameOf(r *http.Request, t *guard.Turn, title string) frame {
	f := p.bareFrame(r, t.Book, title)
	f.Account = t.Visitor.Account
	if t.Book.Entrance == "" || t.Visitor.SignedIn {
		f.SignIn = t.Book.SignInAt()
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		return f
	}
	// Of what was asked for beside the page, what it knows.
	query, known := r.URL.Query(), url.Values{}
	for _, name := range []string{"link", "invitation", "set", "other", "unsent", "asked", "undone", "sent", "waiting", "done", "name",
		"item", "order", "factor", "within", "needed", "wanted"} {
		if query.Has(name) {
			known.Set(name, query.Get(name))
		}
	}
	if next := guard.Next(t.Book, query.Get("next")); next != "" {
		known.Set("next", next)
	}
	if f.Here = r.URL.Path; len(known) > 0 {
		f.Here += "?" + known.Encode()
	}
	for _, other := range words.Languages {
		if other != f.Language {
			f.Others = append(f.Others, otherLanguage{other, languageNames[other]})
		}
	}
	return f
}

// bareFrame is the frame of a page that says nothing of who asks.
func (p *Pages) bareFrame(r *http.Request, book *policy.Book, title string) frame {
	f := frame{voice: p.voiceOf(r, book), Site: book.Site, Prefix: book.Prefix, Mails: p.o.Mails, dress: dressOf(book.Looks, book.Prefix)}
	f.Title = f.Say(title)
	return f
}

// chooseLanguage takes the language in which somebody wants to see these pages, and leads back to the one they were on.
func (p *Pages) chooseLanguage(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	if err := readForm(w, r); err == nil {
		if in := words.Choose("", r.PostForm.Get("language")); string(in) == r.PostForm.Get("language") {
			p.o.Visitors.SetLanguage(w.Header(), r, in)
			if t.Visitor.SignedIn { // for what is sent to them
				if err := p.o.People.SetLanguage(r.Context(), t.Visitor.Account, in); err != nil {
					p.o.Log.Error("the language of an account could not be noted", "error", err)
				}
			}
		}
	}
	back := guard.OwnPath(t.Book, r.PostForm.Get("next"))
	if back == "" {
		back = "/" // and not to where one signs in: that may be told to nobody
	}
	redirect(w, back)
}

// A trouble is why something was not taken: a code for programs and for a site's own form,
// the status, and a sentence for the person.
type trouble struct {
	Code   string
	Status int
	Text   string
	Wait   time.Duration // before it makes sense to try again
}

// troubleOf makes an error of the rooms behind into what people are told; wrong is what they are told of a proof that
// was wrong.
func (p *Pages) troubleOf(v voice, err error, wrong string) trouble {
	var refused *mistake.Error
	var password *secret.Unfit
	var name *account.Unfit
	var notYet *signin.NotYet
	later := visitor.Later(err)
	refusal := func(text string) trouble { return trouble{"refused", http.StatusUnprocessableEntity, text, 0} }
	switch {
	case later != nil && later.Status == http.StatusTooManyRequests:
		return trouble{"too-many", later.Status, v.Say("wrong.too-many", "wait", v.in(later.Wait)), later.Wait}
	case later != nil:
		return trouble{"busy", later.Status, v.Say("wrong.busy"), later.Wait}
	case errors.As(err, &notYet):
		return trouble{string(notYet.State), http.StatusForbidden, v.Say("wrong." + string(notYet.State)), 0}
	case errors.Is(err, signin.ErrDisabled):
		return trouble{"disabled", http.StatusForbidden, v.Say("wrong.disabled"), 0}
	case errors.As(err, &password):
		return refusal(v.Say("wrong." + password.Why))
	case errors.As(err, &name):
		return refusal(v.Say("wrong." + name.What))
	case errors.As(err, &refused) && refused.Kind == "taken":
		return trouble{"taken", http.StatusConflict, v.Say("wrong.taken"), 0}
	case errors.As(err, &refused):
		return refusal(capital(refused.Text) + ".")
	case errors.Is(err, recovery.ErrSameAddress):
		return refusal(v.Say("wrong.same-email"))
	case errors.Is(err, people.ErrLink):
		return trouble{"link", http.StatusGone, v.Say("wrong.link"), 0}
	case errors.Is(err, signin.ErrOver):
		return trouble{"over", http.StatusUnauthorized, v.Say("second.over"), 0}
	case errors.Is(err, signin.ErrWrong), errors.Is(err, factors.ErrWrong):
		return trouble{"wrong", http.StatusUnprocessableEntity, wrong, 0}
	}
	p.o.Log.Error("a page could not do what was asked of it", "error", err)
	return trouble{"failed", http.StatusServiceUnavailable, v.Say("wrong.failed"), tryAgain}
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func (t trouble) header(w http.ResponseWriter) {
	if t.Wait > 0 {
		w.Header().Set("Retry-After", strconv.Itoa(seconds(t.Wait)))
	}
}

// tryAgain is when it is worth while to try again what does not work at the moment.
const tryAgain = 2 * time.Second

// seconds is a time to wait in whole seconds, rounded up so that whoever waits has waited enough.
func seconds(d time.Duration) int { return int((d + time.Second - 1) / time.Second) }

// tell answers a program.
func (t trouble) tell(w http.ResponseWriter) {
	problem.Write(w, client.Problem{Status: t.Status, Detail: t.Text, Code: t.Code, Wait: seconds(t.Wait)})
}
