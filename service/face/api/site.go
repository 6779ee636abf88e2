package api

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"ostiarius/client"
	"ostiarius/core/document"
	"ostiarius/core/place"
	"ostiarius/core/policy"
	"ostiarius/core/policy/edit"
	"ostiarius/core/prove"
	"ostiarius/core/site"
	"ostiarius/service/base/mistake"
	"ostiarius/service/held/shared"
	"ostiarius/service/who/people"
	"ostiarius/store"
)

// The most files whose places are shown.
const mostSpots = 20_000

func init() {
	On(client.ShowSite, (*API).site)
	On(client.EditPolicy, (*API).editPolicy)
}

func (a *API) site(by Caller, asked client.SiteQuery) (shown client.Site, err error) {
	var as *policy.Visitor
	if asked.As != "" {
		visitor, err := a.visitor(by, asked.As)
		if err != nil {
			return shown, unprocessable(err)
		}
		as = &visitor
	}
	book, known := a.Policy.Book(), a.Policy.Known(by, mostSpots)
	if asked.Place != "" {
		at, err := place.Read("GET", "", (&url.URL{Path: asked.Place}).EscapedPath(), book.Rules)
		if err != nil {
			return shown, mistake.Invalid("%s", sentence(err))
		}
		known.Places = append(known.Places, at)
	}
	spots, deciders := site.Spots(book, known.Places, as)
	return client.Site{
		URL: a.Status().URL, Unlisted: book.UnlistedWord(), Spots: spots, Deciders: deciders,
		More: known.More, Files: known.Files, Sitemap: known.Sitemap, Asked: known.Asked,
		Proposals: append([]site.Proposal{}, site.Undecided(book, site.Propose(known.Places))...),
	}, nil
}

// editPolicy says what edits of the policy in force would make of it. Nothing is changed: the text that is
// answered is applied like any other.
func (a *API) editPolicy(by Caller, asked client.Edits) (done client.Edited, err error) {
	house := a.Policy.House()
	v, err := a.Policy.Past(by, house.Version)
	if err != nil {
		return done, err
	}
	before, text := house.Book, []byte(v.Text)
	edits, err := editsOf(before, asked.Edits)
	if err != nil {
		return done, mistake.Invalid("%s", sentence(err))
	}
	after, err := edit.ApplyTo(before, a.Policy.File(), text, edits...)
	if err != nil {
		return done, mistake.Invalid("%s", sentence(err))
	}
	done = client.Edited{
		Base: v.ID, Text: string(after.Text), Changed: string(after.Text) != v.Text, Compared: compared(before, after.Book),
		Findings: append([]document.Finding{}, after.Findings...), Guarantees: prove.Guarantees(after.Book),
	}
	if done.Changed {
		done.Lines = udiff.Unified("before", "after", v.Text, string(after.Text))
	}
	for _, e := range edits {
		set, ok := e.(edit.SetDoor)
		if !ok {
			continue
		}
		door := after.Book.DoorFor(set.Set)
		done.Sentence = door.Sentence()
		for i := range after.Book.Doors {
			if d := &after.Book.Doors[i]; d != door && d.Within(set.Set) {
				done.Exceptions = append(done.Exceptions, client.Exception{
					Path: d.Written, Host: d.Host.String(), Methods: d.Methods.Names(), Line: d.Line, Sentence: d.Sentence().String(),
				})
			}
		}
		if done.Remarks, err = a.remarks(by, set.Admit); err != nil {
			return done, err
		}
	}
	return done, nil
}

// editsOf reads edits as they are asked for.
func editsOf(book *policy.Book, asked []client.Edit) (edits []edit.Edit, err error) {
	for _, e := range asked {
		var one edit.Edit
		switch e.Kind {
		case "role":
			one = edit.DeclareRole{Name: e.Name}
		case "keyring":
			one = edit.DeclareKeyring{Name: e.Name, Realm: e.Realm}
		case "shared":
			lasts, forever, err := lastsOf(e.Lasts)
			if err != nil {
				return nil, err
			}
			one = edit.DeclareShared{Name: e.Name, Title: e.Title, Lasts: lasts, Forever: forever}
		case "pass":
			lasts, forever, err := lastsOf(e.Lasts)
			if err != nil {
				return nil, err
			}
			one = edit.DeclarePass{Name: e.Name, Title: e.Title, Lasts: lasts, Forever: forever}
		case "unlisted":
			one = edit.SetUnlisted{Word: e.Admit}
		case "landing":
			one = edit.SetLanding{On: e.On, Role: e.Role, User: e.User, Go: e.Go}
		case "guarantee", "remove-guarantee":
			set, err := edit.NewDoor(book, e.Path, e.Host, e.Methods...)
			if err != nil {
				return nil, err
			}
			if one = (edit.RemoveGuarantee{Set: set.Set, Kind: e.Promise}); e.Kind == "guarantee" {
				g := edit.SetGuarantee{Set: set.Set, Written: set.Written, Kind: e.Promise, Because: e.Because}
				if e.Promise != "never" {
					if g.Demand, err = policy.ParseDemand(e.Admit); err != nil {
						return nil, err
					}
				}
				one = g
			}
		case "door", "remove":
			set, err := edit.NewDoor(book, e.Path, e.Host, e.Methods...)
			if err != nil {
				return nil, err
			}
			one = edit.RemoveDoor{Set: set.Set}
			switch {
			case e.Kind == "door" && e.Terms != nil:
				set.Because = e.Because
				if err := set.SetTerms(book, *e.Terms); err != nil {
					return nil, err
				}
				one = set
			case e.Kind == "door":
				if set.Admit, err = policy.ParseDemand(e.Admit); err != nil {
					return nil, err
				}
				if set.Otherwise, err = policy.ParseOtherwise(e.Otherwise); err != nil {
					return nil, err
				}
				one = set
			}
		default:
			return nil, fmt.Errorf("an edit of the kind %q is not known", e.Kind)
		}
		edits = append(edits, one)
	}
	if len(edits) == 0 {
		return nil, errors.New("there is no edit")
	}
	return edits, nil
}

// lastsOf reads how long something lasts; "" for as usual.
func lastsOf(text string) (d time.Duration, forever bool, err error) {
	if text == "" || text == "forever" {
		return 0, text != "", nil
	}
	d, err = document.ParseDuration(text)
	return d, false, err
}

// remarks say what is not wrong with a demand and keeps people out all the same: that nobody has what it asks.
func (a *API) remarks(ctx context.Context, d policy.Demand) (all []string, err error) {
	for _, part := range d.Parts {
		more, err := a.remarks(ctx, part)
		if err != nil {
			return nil, err
		}
		all = append(all, more...)
	}
	for _, name := range d.Names {
		switch d.Kind {
		case policy.Role:
			book, found := a.Policy.Book(), 0
			for _, role := range book.RoleNames() {
				if !book.Satisfies(role, name) {
					continue
				}
				_, n, err := a.People.List(ctx, people.Query{Role: role, Limit: 1})
				if err != nil {
					return nil, err
				}
				found += n
			}
			if found == 0 {
				all = append(all, fmt.Sprintf("Nobody has the role %s yet, nor one that includes it. Give it on the page People.", name))
			}
		case policy.User:
			if _, err := a.People.Find(ctx, name); isUnknown(err) {
				all = append(all, fmt.Sprintf("There is no account %s yet.", name))
			} else if err != nil {
				return nil, err
			}
		case policy.Keyring:
			entries, err := a.Keyrings.Entries(ctx, name)
			if err != nil && !isUnknown(err) { // it may be about to be declared
				return nil, err
			}
			if len(entries) == 0 {
				all = append(all, fmt.Sprintf("The keyring %s has no name yet, so nobody gets in by it.", name))
			}
		case policy.Shared:
			names, err := a.Shared.List(ctx)
			if err != nil {
				return nil, err
			}
			if !slices.ContainsFunc(names, func(n shared.Name) bool { return n.Name == name && len(n.Passwords) > 0 }) {
				all = append(all, fmt.Sprintf("The shared password %s has no password yet, so nobody gets in by it.", name))
			}
		case policy.Pass:
			issued, err := a.Passes.List(ctx, store.PassQuery{Kind: name, Limit: 1}, "")
			if err != nil {
				return nil, err
			}
			if len(issued) == 0 {
				all = append(all, fmt.Sprintf("No pass of the kind %s was issued yet. Issue them on the page Passes.", name))
			}
		}
	}
	return all, nil
}

func isUnknown(err error) bool {
	var wrong *mistake.Error
	return errors.As(err, &wrong) && wrong.Kind == "unknown"
}
