package members_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"ostiarius/core/event"
	"ostiarius/service/rooms/house"
	"ostiarius/service/who/people"
	"ostiarius/store"
)

var ctx = context.Background()

func TestReminders(t *testing.T) {
	s := house.OpenShop(t)
	s.Proven("mo", "mo@marram.example")
	s.Tell(house.Paid("o1", "year")) // until the 23rd of November of the next year, and a week of grace
	is, err := s.People.Find(ctx, "mo")
	if err != nil {
		t.Fatal(err)
	}
	if has, err := s.Events.Bought(ctx, is); err != nil || len(has) != 1 || has[0].Until.Format(time.DateOnly) != "2027-11-23" || has[0].Over {
		t.Errorf("bought: %+v %v", has, err)
	}
	check := func(what string, want ...string) {
		t.Helper()
		if got := s.Reminded(); fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s: %q, want %q", what, got, want)
		}
	}
	check("long before the end")
	s.Clock.Pass(358*24*time.Hour - time.Minute)
	check("a minute too early")
	s.Clock.Pass(time.Minute)
	first := "mo@marram.example A year of support 23 November 2027 /door/join?item=year"
	check("two weeks before the end", first)
	s.Clock.Pass(12 * 24 * time.Hour)
	within := "mo@marram.example A year of support 30 November 2027 /door/join?item=year"
	check("two days before the end of its grace", within, first)
	s.Tell(house.Paid("o2", "year"))
	check("paid again", within, first)
	s.Clock.Pass(365*24*time.Hour - 24*time.Hour)
	second := "mo@marram.example A year of support 29 November 2028 /door/join?item=year"
	check("a day before the next end: once, though two are due", second, within, first)

	// What something else prolongs, what is short, whose account is off, or who has no address, is not reminded of.
	for name, change := range map[string]func(){
		"prolonged": func() {
			if err := s.People.Grant(ctx, "test", "mo", "supporter", time.Time{}, time.Time{}); err != nil {
				t.Fatal(err)
			}
			s.Tell(house.Told(event.Renewed, "o2"))
			s.Clock.Pass(363 * 24 * time.Hour)
		},
		"short": func() {
			if err := s.People.Grant(ctx, "test", "mo", "friend", time.Time{}, s.Clock.Now().Add(24*time.Hour)); err != nil {
				t.Fatal(err)
			}
		},
		"without an address": func() {
			if _, err := s.People.Add(ctx, "test", people.NewAccount{Name: "nobody", Password: "seven-brass-prisms"}); err != nil {
				t.Fatal(err)
			}
			if err := s.People.Grant(ctx, "test", "nobody", "friend", s.Clock.Now().Add(-1000*time.Hour), s.Clock.Now().Add(time.Hour)); err != nil {
				t.Fatal(err)
			}
		},
	} {
		before := len(s.Reminded())
		if change(); len(s.Reminded()) != before {
			t.Errorf("%s: %q", name, s.Reminded()[0])
		}
	}
	// A pass.
	s.Tell(house.Paid("o3", "month-of-bells"))
	before := len(s.Reminded())
	s.Clock.Pass(17 * 24 * time.Hour)
	if all := s.Reminded(); len(all) != before+1 || !strings.HasPrefix(all[0], "mo@marram.example Sound recordings ") ||
		!strings.HasSuffix(all[0], " /recordings/") {
		t.Errorf("a pass: %q", all)
	}
}

// It is recorded once that a membership has begun, and that it has ended, by itself or by being taken; and begun anew when it goes
// on after that.
func TestBeginningsAndEnds(t *testing.T) {
	s := house.OpenShop(t)
	s.Proven("mo", "mo@marram.example")
	log := func() (all []string) {
		t.Helper()
		for range 2 {
			if err := s.Members.Tend(ctx); err != nil {
				t.Fatal(err)
			}
		}
		found, _, err := s.Activity.Events(ctx, store.ActivityQuery{Kind: "membership", Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range found {
			if e.Account == "mo" {
				all = append(all, strings.TrimPrefix(string(e.Kind), "membership ")+" "+strings.Fields(e.Detail)[1])
			}
		}
		return all
	}
	check := func(what, want string) {
		t.Helper()
		if got := strings.Join(log(), ", "); got != want {
			t.Errorf("%s: %s, want %s", what, got, want)
		}
	}
	check("nothing", "")
	s.Tell(house.Paid("o1", "year"))
	check("paid", "begun supporter")
	s.Clock.Pass(100 * 24 * time.Hour)
	s.Tell(house.Paid("o2", "year"))
	check("paid once more", "begun supporter")
	s.Clock.Pass(640 * 24 * time.Hour)
	check("over, with what comes after", "ended supporter, begun friend, begun supporter")
	s.Clock.Pass(20 * 24 * time.Hour)
	check("that is over too", "ended friend, ended supporter, begun friend, begun supporter")
	s.Tell(house.Paid("o3", "year"))
	check("paid after the end", "begun supporter, ended friend, ended supporter, begun friend, begun supporter")
	s.Clock.Pass(24 * time.Hour)
	if err := s.People.Revoke(ctx, "agnes", "mo", "supporter"); err != nil {
		t.Fatal(err)
	}
	check("taken", "ended supporter, begun supporter, ended friend, ended supporter, begun friend, begun supporter")
}

// The list of members against what the accounts say.
func TestMembers(t *testing.T) {
	s := house.OpenShop(t)
	now := s.Clock.Now()
	for i := range 30 {
		name := fmt.Sprintf("m%02d", i)
		if _, err := s.People.Add(ctx, "test",
			people.NewAccount{Name: name, Email: name + "@marram.example", Password: "seven-brass-prisms"}); err != nil {
			t.Fatal(err)
		}
		var until time.Time
		if i%3 > 0 {
			until = now.Add(time.Duration(i) * 24 * time.Hour)
		}
		if err := s.People.Grant(ctx, "test", name, []string{"friend", "supporter"}[i%2], now.Add(-time.Duration(i)*house.Week),
			until); err != nil {
			t.Fatal(err)
		}
	}
	s.Clock.Pass(10*24*time.Hour + time.Hour)
	now = s.Clock.Now()
	for what, q := range map[string]store.MemberQuery{
		"all": {}, "a role": {Role: "supporter"}, "ending": {Ending: now.Add(5 * 24 * time.Hour), Soon: true}, "past": {Past: true},
		"by name": {Begins: "M1"}, "by address": {Begins: "m07@", Past: true},
		"a role that ends": {Role: "friend", Ending: now.Add(9 * 24 * time.Hour), Soon: true},
	} {
		want := map[string]bool{}
		for i := range 30 {
			name := fmt.Sprintf("m%02d", i)
			for _, g := range s.Find(name).Grants {
				if g.Active(now) != q.Past && (q.Role == "" || g.Role == q.Role) &&
					(q.Ending.IsZero() || !g.Until.IsZero() && g.Until.Before(q.Ending)) &&
					(q.Begins == "" || strings.HasPrefix(name+"@marram.example", strings.ToLower(q.Begins))) {
					want[name] = true
				}
			}
		}
		if what == "all" {
			want["Ines"] = true
		}
		got := map[string]bool{}
		var last store.Member
		for q.Limit = 4; ; q.Offset += q.Limit {
			part, total, err := s.Members.List(ctx, q)
			if err != nil || total != len(want) {
				t.Fatalf("%s: %d in all, want %d: %v", what, total, len(want), err)
			}
			for _, m := range part {
				if got[m.Account] = true; !want[m.Account] {
					t.Errorf("%s: %s is none", what, m.Account)
				}
				if last.Account != "" && q.Soon && m.Grant.Until.Before(last.Grant.Until) {
					t.Errorf("%s: %s comes after %s", what, m.Account, last.Account)
				}
				last = m
			}
			if len(part) < q.Limit {
				break
			}
		}
		if len(got) != len(want) {
			t.Errorf("%s: %d are listed, want %d", what, len(got), len(want))
		}
	}
	weeks, err := s.Members.Weeks(ctx, 40)
	if err != nil || len(weeks) != 40 {
		t.Fatal(len(weeks), err)
	}
	for _, at := range []int{0, 20, 39} {
		end := weeks[at].Begins.Add(house.Week)
		count := map[string]int{}
		for i := range 30 {
			for _, g := range s.Find(fmt.Sprintf("m%02d", i)).Grants {
				if g.From.Before(end) && (g.Until.IsZero() || !g.Until.Before(end)) {
					count[g.Role]++
				}
			}
		}
		for _, role := range []string{"friend", "supporter"} {
			if weeks[at].Counts[role] != count[role] {
				t.Errorf("the week of %v: %d have the role %s, want %d", weeks[at].Begins, weeks[at].Counts[role], role, count[role])
			}
		}
	}
}
