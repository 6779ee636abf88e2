package pages

import (
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"ostiarius/core/account"
	"ostiarius/core/words"
	"ostiarius/service/base/guard"
	"ostiarius/service/who/accesskeys"
)

// A keysView is the page of somebody's access keys.
type keysView struct {
	frame
	Problem, Done        string
	Token                string // of one that was just made
	Keys                 []shownKey
	Roles                []string // that one can carry
	Console              bool     // there are roles for which the console makes keys
	Name, Days, Networks string   // as they were typed
}

type shownKey struct{ Handle, Name, About string }

// The most keys that the page lists.
const mostListedKeys = 100

func (p *Pages) accessKeys(w http.ResponseWriter, r *http.Request) {
	v := keysView{Days: "90"}
	if r.URL.Query().Get("done") == "removed" {
		v.Done = p.voice(r).Say("accesskeys.done-removed")
	}
	p.showKeys(w, r, http.StatusOK, v)
}

func (p *Pages) showKeys(w http.ResponseWriter, r *http.Request, status int, v keysView) {
	t := guard.TurnOf(r)
	v.frame = p.markedFrame(w, r, "accesskeys.title")
	a, err := p.o.People.Find(r.Context(), t.Visitor.Account)
	if err == nil {
		v.Keys, err = p.keysOf(r, v.voice, a)
	}
	if err != nil {
		p.o.Log.Error("access keys could not be shown", "error", err)
		p.failed(w, r)
		return
	}
	for _, role := range t.Book.RolesOf(&t.Visitor) {
		if accesskeys.Administers(t.Book, role) {
			v.Console = true
			continue
		}
		if !slices.ContainsFunc(t.Book.Factors.NoKeys, func(never string) bool { return t.Book.Satisfies(role, never) }) {
			v.Roles = append(v.Roles, role)
		}
	}
	p.render(w, r, status, "access-keys.html", v)
}

func (p *Pages) keysOf(r *http.Request, say voice, a *account.Account) (shown []shownKey, err error) {
	held, _, err := p.o.Keys.List(r.Context(), a, 0, mostListedKeys)
	now := time.Now()
	for _, k := range held {
		roles := strings.Join(k.Roles, ", ")
		switch {
		case k.Roles == nil:
			roles = say.Say("accesskeys.all-roles")
		case roles == "":
			roles = say.Say("accesskeys.no-roles")
		}
		until := say.Say("accesskeys.no-end")
		switch {
		case !k.Until.IsZero() && !now.Before(k.Until):
			until = say.Say("accesskeys.ended")
		case !k.Until.IsZero():
			until = say.Say("accesskeys.until", "until", words.End(say.Language, k.Until.Local()))
		}
		used := say.Say("accesskeys.unused")
		if !k.UsedAt.IsZero() {
			used = say.Say("accesskeys.used", "seen", say.ago(now.Sub(k.UsedAt)), "network", k.UsedFrom)
		}
		shown = append(shown, shownKey{k.Handle(), k.Name, strings.Join([]string{roles, until, used}, "; ")})
	}
	return shown, err
}

// makeKey makes an access key for whoever asks, if it is sure who that is, and shows it once.
func (p *Pages) makeKey(w http.ResponseWriter, r *http.Request) {
	if err := readForm(w, r); err != nil {
		p.showKeys(w, r, unread(err), keysView{Problem: p.voice(r).Say("wrong.malformed")})
		return
	}
	a := p.sure(w, r, "access-keys")
	if a == nil {
		return
	}
	f := r.PostForm
	v := keysView{Name: f.Get("name"), Days: strings.TrimSpace(f.Get("days")), Networks: f.Get("networks")}
	want := accesskeys.NewKey{ByPage: true, Name: v.Name, Roles: append([]string{}, f["role"]...),
		Networks: strings.FieldsFunc(v.Networks, func(c rune) bool { return c == ',' || c == ' ' || c == ';' })}
	if v.Days != "" {
		days, err := strconv.Atoi(v.Days)
		if err != nil || days < 1 || days > 9999 {
			v.Problem = p.voice(r).Say("wrong.malformed")
			p.showKeys(w, r, http.StatusUnprocessableEntity, v)
			return
		}
		want.Until = time.Now().AddDate(0, 0, days)
	}
	token, _, err := p.o.Keys.Make(r.Context(), a.Name, a, want, p.o.Visitors.Origin(r))
	if err != nil {
		wrong := p.troubleOf(p.voice(r), err, "")
		v.Problem = wrong.Text
		p.showKeys(w, r, wrong.Status, v)
		return
	}
	p.showKeys(w, r, http.StatusOK, keysView{Token: token, Days: "90"})
}

func (p *Pages) removeKey(w http.ResponseWriter, r *http.Request) {
	if err := readForm(w, r); err != nil {
		p.showKeys(w, r, unread(err), keysView{Problem: p.voice(r).Say("wrong.malformed")})
		return
	}
	a := p.sure(w, r, "access-keys")
	if a == nil {
		return
	}
	if err := p.o.Keys.Remove(r.Context(), a.Name, r.PostForm.Get("key"), a, p.o.Visitors.Origin(r)); err != nil {
		wrong := p.troubleOf(p.voice(r), err, "")
		p.showKeys(w, r, wrong.Status, keysView{Problem: wrong.Text, Days: "90"})
		return
	}
	redirect(w, guard.TurnOf(r).Book.Prefix+"/account/access-keys?done=removed")
}
