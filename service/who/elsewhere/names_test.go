package elsewhere_test

import (
	"errors"
	"testing"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/roster"
	"ostiarius/core/throttle"
	"ostiarius/service/base/mistake"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/elsewhere"
	"ostiarius/service/who/joining"
	"ostiarius/service/who/people"
)

// ways are all ways in which an account gets a name. Those of visitors are apart from those of stewards.
func (g *harbour) ways(t *testing.T) (visitors, stewards map[string]func(name string) error) {
	t.Helper()
	visitors = map[string]func(string) error{
		"joining": func(name string) error {
			_, err := g.Joining.Ask(ctx, joining.Applicant{Name: name, Email: "new@marram.example", Password: "paint-and-lentil-soup"},
				house.HerHome)
			return err
		},
		"a provider": func(name string) error {
			came, err := g.come(elsewhere.ToSignIn, nil, "", "h-2")
			if err != nil {
				t.Fatal(err)
			}
			_, err = g.Elsewhere.Join(ctx, "harbour", came.First, name, false, house.HerHome)
			return err
		},
	}
	stewards = map[string]func(string) error{
		"adding": func(name string) error {
			_, err := g.People.Add(ctx, "test", people.NewAccount{Name: name})
			return err
		},
		"renaming": func(name string) error {
			_, err := g.People.Edit(ctx, "test", "bob", people.Edit{Name: &name})
			return err
		},
		"importing": func(name string) error {
			results, _, err := g.People.Import(ctx, "test", []roster.Entry{{Name: name}}, false)
			for _, r := range results {
				if err == nil && r.Action == "error" {
					err = errors.New(r.Detail)
				}
			}
			return err
		},
	}
	return visitors, stewards
}

func openNames(t *testing.T, more string) *harbour {
	t.Helper()
	g := openHarbour(t, ", joins: true")
	g.Book = house.BookOf(t, "doors: [{path: /, admit: public}, {path: /hers, admit: {user: solveig}}]\nroles: {keeper: , friend: "+
		"}\njoining: {by: anybody"+more+"}\nelsewhere: { harbour: { title: Harbour account, issuer: \""+g.at+
		"\", client: marram, joins: true } }\n")
	house.Add(t, g.House, people.NewAccount{Name: "bob", Email: "bob@marram.example", Password: "paint-and-lentil-soup"})
	return g
}

// No name reads as something else, whichever way it comes.
func TestNoNameReadsAsSomethingElse(t *testing.T) {
	g := openNames(t, "")
	visitors, stewards := g.ways(t)
	for _, name := range []string{"bob＠marram.example", "a／b", "a：b", "a％b", "a？b", "a＃b", "a＼b", "..", "．．", "(walk)", "（walk）"} {
		for _, ways := range []map[string]func(string) error{visitors, stewards} {
			for way, try := range ways {
				if err := try(name); err == nil {
					t.Errorf("%q by %s", name, way)
				}
			}
		}
	}
}

// A name that was another's, that looks like another's, or that the policy names, is nobody's to choose.
func TestNamesThatAreNotFree(t *testing.T) {
	g := openNames(t, ", names-rest: 30d")
	visitors, stewards := g.ways(t)
	house.Add(t, g.House, people.NewAccount{Name: "walt", Password: "paint-and-lentil-soup"})
	house.Add(t, g.House, people.NewAccount{Name: "agnes", Password: "paint-and-lentil-soup"})
	if err := g.People.Remove(ctx, "test", "walt"); err != nil {
		t.Fatal(err)
	}
	taken := func(err error) bool {
		var m *mistake.Error
		return errors.As(err, &m) && m.Kind == "taken"
	}
	for what, name := range map[string]string{"of one that is gone": "walt", "of one that is gone, otherwise": "WALT",
		"that looks like another": "аgnes", "with a dot": "agnes.", "of an application": "edda", "that the policy names": "solveig"} {
		g.clock.Pass(25 * time.Hour) // so that nobody waits
		if name == "edda" {
			if _, err := g.Joining.Ask(ctx, joining.Applicant{Name: "edda", Email: "edda@marram.example", Password: "paint-and-lentil-soup"},
				house.HerHome); err != nil {
				t.Fatal(err)
			}
		}
		for way, try := range visitors {
			if err := try(name); !taken(err) {
				t.Errorf("a name %s by %s: %v", what, way, err)
			}
		}
	}
	for what, name := range map[string]string{"of one that is gone": "walt", "that looks like another": "аgnes"} {
		for way, try := range stewards {
			if way == "importing" { // which is meant, name by name
				continue
			}
			if err := try(name); !taken(err) {
				t.Errorf("a name %s by %s: %v", what, way, err)
			}
		}
		if _, err := g.People.Add(ctx, "test", people.NewAccount{Name: name, Anyway: true}); err != nil {
			t.Errorf("a name %s, meant so: %v", what, err)
		}
	}
	// A name rests for a while, and an account may take its own back.
	other, back := "robert", "bob"
	if _, err := g.People.Edit(ctx, "test", "bob", people.Edit{Name: &other}); err != nil {
		t.Fatal(err)
	}
	if _, err := g.People.Edit(ctx, "test", "robert", people.Edit{Name: &back}); err != nil {
		t.Fatal(err)
	}
	g.clock.Pass(31 * 24 * time.Hour)
	if err := g.People.Sweep(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := g.People.Add(ctx, "test", people.NewAccount{Name: "robert"}); err != nil {
		t.Errorf("a name that rested: %v", err)
	}
}

// Names tried by way of a provider are slowed like others.
func TestNamesByProvidersAreSlowed(t *testing.T) {
	g := openNames(t, "")
	visitors, _ := g.ways(t)
	var slow *throttle.Slow
	for range 40 {
		if err := visitors["a provider"]("bob"); errors.As(err, &slow) {
			return
		}
	}
	t.Error("forty names were tried at once")
}

// An invitation that a steward printed shows nothing of its address; one that was sent there does.
func TestPrintedInvitationsProveNoAddress(t *testing.T) {
	for _, mailed := range []bool{false, true} {
		r, _ := house.Joins(t, "{ by: invitation }")
		path, _, err := r.Joining.Invite(ctx, "test", joining.Invite{Email: house.Sigrid.Email, Mail: mailed})
		if err != nil {
			t.Fatal(err)
		}
		if mailed {
			path = mailedTo(t, r, message.Invited)
		}
		who := house.Sigrid
		who.Agreed, who.Invitation = true, path[len("/door/join?invitation="):]
		out, err := r.Joining.Ask(ctx, who, house.Elsewheres)
		if err != nil || out.Account == nil {
			t.Fatalf("%+v %v", out, err)
		}
		proven, err := r.Records.ProvenAt(ctx, out.Account.ID)
		if err != nil || proven.IsZero() == mailed {
			t.Errorf("sent by mail %v: proven at %v, %v", mailed, proven, err)
		}
	}
}

func mailedTo(t *testing.T, r *house.House, kind message.Kind) string {
	t.Helper()
	for _, m := range house.Mailed(t, r) {
		if m.Kind == kind {
			return m.Link
		}
	}
	t.Fatalf("no %s", kind)
	return ""
}
