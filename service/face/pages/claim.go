package pages

import (
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"time"

	"ostiarius/core/policy"
	"ostiarius/service/base/guard"
	"ostiarius/service/who/joining"
)

// A claimView is the page to which the link leads with which buyers take what they bought.
type claimView struct {
	frame
	Problem  string
	Lead     string
	Link     string
	Address  string
	Username string
	Known    bool // an account has the address: they sign in
	Terms    template.HTML
	Privacy  template.HTML
	Back     string // the address of this page, to come back to
}

func (p *Pages) claimForm(w http.ResponseWriter, r *http.Request) {
	p.showClaim(w, r, http.StatusOK, claimView{Link: r.URL.Query().Get("link")})
}

func (p *Pages) showClaim(w http.ResponseWriter, r *http.Request, status int, v claimView) {
	w.Header().Set("Referrer-Policy", "no-referrer") // the address has a link
	t := guard.TurnOf(r)
	c, err := p.o.Joining.Claim(r.Context(), v.Link)
	if err != nil {
		p.linkFailed(w, r, err)
		return
	}
	v.frame = p.frame(r, "claim.title")
	if len(c.Titles) == 0 {
		p.render(w, r, http.StatusOK, "notice.html", notice{frame: v.frame, Lead: v.Say("claim.nothing")})
		return
	}
	v.Address, v.Known = c.Address, c.Known
	v.Lead = v.Say("claim.lead", "title", strings.Join(c.Titles, ", "))
	v.Back = t.Book.Prefix + "/claim?link=" + url.QueryEscape(v.Link)
	j := &t.Book.Joining
	v.Terms, v.Privacy = v.linked("join.agree", "terms", j.Terms), v.linked("join.agree-privacy", "privacy", j.Privacy)
	p.render(w, r, status, "claim.html", v)
}

// claim gives what was bought to whoever is signed in, or to the account that they make.
func (p *Pages) claim(w http.ResponseWriter, r *http.Request) {
	t := guard.TurnOf(r)
	say := p.voice(r)
	s, err := readSent(w, r, t.Book)
	from := p.o.Visitors.Origin(r)
	var wrong trouble
	var out joining.Outcome
	switch {
	case err != nil:
		wrong = trouble{"malformed", unread(err), say.Say("wrong.malformed"), 0}
	case t.Visitor.SignedIn:
		if _, err := p.o.Joining.TakeAlong(r.Context(), s.link, t.Visitor.Account, from.Network); err != nil {
			p.linkFailed(w, r, err)
			return
		}
		v, err := p.o.Visitors.Again(r, true)
		if err != nil {
			v = t.Visitor
		}
		redirect(w, t.Book.After(policy.AfterPaying, &v))
		return
	case s.Username == "" || s.Password == "":
		wrong = trouble{"missing", http.StatusUnprocessableEntity, say.Say("wrong.join-missing"), 0}
	case s.Password != s.again:
		wrong = trouble{"differ", http.StatusUnprocessableEntity, say.Say("wrong.differ"), 0}
	default:
		if out, err = p.o.Joining.JoinByClaim(r.Context(), s.link,
			joining.Applicant{Name: s.Username, Password: s.Password, Agreed: s.Agree, Next: s.Next}, from); err != nil {
			wrong = p.joinTrouble(say, err)
		}
	}
	if wrong.Code != "" {
		wrong.header(w)
		p.showClaim(w, r, wrong.Status, claimView{Link: s.link, Username: s.Username, Problem: wrong.Text})
		return
	}
	out.Next = t.Book.After(policy.AfterPaying,
		&policy.Visitor{SignedIn: true, Account: out.Account.Name, Roles: out.Account.Roles(time.Now())})
	p.afterJoining(w, r, s, out)
}
