package shared_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ostiarius/core/message"
	"ostiarius/core/throttle"
	"ostiarius/service/base/mistake"
	"ostiarius/service/held/shared"
	"ostiarius/service/rooms/house"
	"ostiarius/store"
)

var ctx = context.Background()

func none(string) string { return "" }

// An unlock lasts as long as the policy in force says, and goes on or ends with the password, as asked.
func TestUnlocksLast(t *testing.T) {
	h, c, _ := house.Handing(t)
	set := func(name, password string, change shared.Change) {
		t.Helper()
		change.Password = password
		if err := h.Shared.Set(ctx, "test", name, change); err != nil {
			t.Fatal(err)
		}
	}
	unlock := func(password string, names ...string) (token, name string) {
		t.Helper()
		token, u, err := h.Shared.Unlock(ctx, names, password, shared.Origin{Network: "192.0.2.7"}, none)
		if err != nil {
			if !errors.Is(err, shared.ErrWrong) {
				t.Fatal(err)
			}
			return "", ""
		}
		return token, u.Name
	}
	holds := func(name, token string) bool {
		t.Helper()
		is, err := h.Shared.Holds(ctx, h.Book, name, token)
		if err != nil {
			t.Fatal(err)
		}
		return is
	}
	set("press-kit", "copper-kettle-moss", shared.Change{})
	set("all", "every-last-window", shared.Change{})
	kit, name := unlock("copper-kettle-moss", "press-kit", "all")
	all, other := unlock("every-last-window", "press-kit", "all")
	if name != "press-kit" || other != "all" || !holds("press-kit", kit) || holds("all", kit) || !holds("all", all) {
		t.Errorf("%s %s", name, other)
	}
	if token, _ := unlock("every-last-window", "press-kit"); token != "" {
		t.Error("one name is opened with the password of another")
	}
	c.Pass(6 * 24 * time.Hour)
	if !holds("press-kit", kit) || !holds("all", all) {
		t.Error("they end too early")
	}
	h.Book = house.BookOf(t, "shared: { press-kit: { lasts: 5d } }\ndoors: [{path: /, admit: {shared: press-kit}}]")
	if holds("press-kit", kit) || holds("all", all) {
		t.Error("the policy in force says less, and no more of one of them")
	}
	h.Book = house.BookOf(t, house.Handed)
	c.Pass(25 * time.Hour)
	if holds("press-kit", kit) || !holds("all", all) {
		t.Error("after seven days")
	}
	c.Pass(30 * 24 * time.Hour)
	if holds("all", all) {
		t.Error("no browser stays open for so long")
	}
	// Rotation: three count at a time, and what was unlocked goes on unless it is to end.
	kit, _ = unlock("copper-kettle-moss", "press-kit")
	set("press-kit", "second-brass-bell", shared.Change{Grace: time.Hour})
	set("press-kit", "third-tide-table", shared.Change{Grace: time.Hour})
	for _, password := range []string{"copper-kettle-moss", "second-brass-bell", "third-tide-table"} {
		if token, _ := unlock(password, "press-kit"); token == "" {
			t.Errorf("%s does not count", password)
		}
	}
	set("press-kit", "fourth-fog-signal", shared.Change{Grace: time.Hour})
	if token, _ := unlock("copper-kettle-moss", "press-kit"); token != "" || !holds("press-kit", kit) {
		t.Error("the oldest counts, or what was unlocked with it has ended")
	}
	c.Pass(2 * time.Hour)
	if token, _ := unlock("third-tide-table", "press-kit"); token != "" {
		t.Error("one before counts after its time")
	}
	if token, _ := unlock("fourth-fog-signal", "press-kit"); token == "" {
		t.Error("the last one does not count")
	}
	set("press-kit", "fifth-lamp-wick", shared.Change{End: true})
	if holds("press-kit", kit) {
		t.Error("it was to end")
	}
	kit, _ = unlock("fifth-lamp-wick", "press-kit")
	if err := h.Shared.Withdraw(ctx, "test", "press-kit"); err != nil || holds("press-kit", kit) {
		t.Error("withdrawn", err)
	}
	if remarks, err := h.Shared.Remarks(ctx); err != nil || len(remarks) != 2 {
		t.Errorf("%q %v", remarks, err)
	}
	var wrong *mistake.Error
	for what, err := range map[string]error{
		"no such name":     h.Shared.Set(ctx, "test", "nothing", shared.Change{Password: "copper-kettle-moss"}),
		"weak":             h.Shared.Set(ctx, "test", "all", shared.Change{Password: "password1"}),
		"too long a grace": h.Shared.Set(ctx, "test", "all", shared.Change{Password: "copper-kettle-moss", Grace: 1e18}),
		"twice":            h.Shared.Withdraw(ctx, "test", "press-kit"),
	} {
		if !errors.As(err, &wrong) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if err := h.Shared.Sweep(ctx); err != nil {
		t.Fatal(err)
	}
}

// Whatever other names somebody brings with a guess, it counts for the one that is guessed at.
func TestGuessingAtSharedPasswords(t *testing.T) {
	h, _, _ := house.Handing(t)
	if err := h.Shared.Set(ctx, "test", "press-kit", shared.Change{Password: "copper-kettle-moss"}); err != nil {
		t.Fatal(err)
	}
	slowed := 0
	for i := range 15 {
		_, _, err := h.Shared.Unlock(ctx, []string{fmt.Sprintf("made-up-%d", i), "press-kit"}, "guess",
			shared.Origin{Network: "203.0.113.9"}, none)
		var slow *throttle.Slow
		if errors.As(err, &slow) {
			slowed++
		} else if !errors.Is(err, shared.ErrWrong) {
			t.Fatal(err)
		}
	}
	if slowed < 8 {
		t.Errorf("%d of 15 were slowed", slowed)
	}
	if _, _, err := h.Shared.Unlock(ctx, []string{"press-kit"}, "copper-kettle-moss", shared.Origin{Network: "192.0.2.9"}, none); err != nil {
		t.Errorf("elsewhere: %v", err)
	}
}

// Many networks together guess at a shared password no faster than at an account, and those where it was right before don't notice.
func TestSharedPasswordsHaveOneCounter(t *testing.T) {
	h, _, _ := house.Handing(t)
	if err := h.Shared.Set(ctx, "test", "press-kit", shared.Change{Password: "copper-kettle-moss"}); err != nil {
		t.Fatal(err)
	}
	home := shared.Origin{Network: "192.0.2.9"}
	if _, _, err := h.Shared.Unlock(ctx, []string{"press-kit"}, "copper-kettle-moss", home, none); err != nil {
		t.Fatal(err)
	}
	tried := 0
	for i := range 150 {
		_, _, err := h.Shared.Unlock(ctx, []string{"press-kit"}, "guess", shared.Origin{Network: fmt.Sprintf("2001:db8:0:%x::1", i)}, none)
		if errors.Is(err, shared.ErrWrong) {
			tried++
		}
	}
	if tried > throttle.Account.Free+1 {
		t.Errorf("%d of 150 tries from as many networks", tried)
	}
	var slow *throttle.Slow
	if _, _, err := h.Shared.Unlock(ctx, []string{"press-kit"}, "copper-kettle-moss", shared.Origin{Network: "198.51.100.1"},
		none); !errors.As(err, &slow) {
		t.Errorf("elsewhere: %v", err)
	}
	if _, _, err := h.Shared.Unlock(ctx, []string{"press-kit"}, "copper-kettle-moss", home, none); err != nil {
		t.Errorf("where it was right before: %v", err)
	}
}

// The password stands in the message until that is sent, and in no other record.
func TestTellingSharedPasswords(t *testing.T) {
	h, c, _ := house.Handing(t)
	if err := h.Shared.Set(ctx, "test", "press-kit", shared.Change{Password: "copper-kettle-moss"}); err != nil {
		t.Fatal(err)
	}
	to, err := message.Recipients("a@x.example, Berit <b@x.example>")
	if err != nil {
		t.Fatal(err)
	}
	var wrong *mistake.Error
	if _, err := h.Shared.Send(ctx, "test", "press-kit", shared.Letter{To: to, Password: "not-this-one"}); !errors.As(err, &wrong) {
		t.Errorf("a password that opens nothing: %v", err)
	}
	n, err := h.Shared.Send(ctx, "test", "press-kit",
		shared.Letter{To: to, Password: "copper-kettle-moss", Text: "Dear {name},\n\nsee {url}{place} for {title}. {password}"})
	if n != 2 || err != nil {
		t.Fatal(n, err)
	}
	mails, err := h.Records.Messages(ctx, store.MessageQuery{Limit: 10})
	if err != nil || len(mails) != 2 {
		t.Fatal(mails, err)
	}
	letter := message.Sender{Site: "Marram", URL: "https://marram.example"}.Write(mails[0])
	for _, want := range []string{"Dear Berit,\n\nsee https://marram.example/press/ for Press kit. copper-kettle-moss",
		"https://marram.example/press/\n", "The password is: copper-kettle-moss"} {
		if !strings.Contains(letter.Text, want) {
			t.Errorf("the letter has no %q:\n%s", want, letter.Text)
		}
	}
	if shown := (message.Sender{}).Show(mails[0]); strings.Contains(shown.Text+shown.HTML, "copper-kettle-moss") {
		t.Errorf("others see it: %s", shown.Text)
	}
	sent := mails[0]
	sent.State, sent.EndedAt = message.Sent, c.Now()
	if err := h.Records.SetMessage(ctx, sent, message.Waiting, nil); err != nil {
		t.Fatal(err)
	}
	if after, err := h.Records.Message(ctx, sent.ID); err != nil || len(after.Gaps) != 0 || after.Link != "" {
		t.Errorf("after it was sent: %+v %v", after, err)
	}
	if told, total, err := h.Shared.Told(ctx, "press-kit", 10); err != nil || total != 2 || told[0].Actor != "test" {
		t.Errorf("%+v %d %v", told, total, err)
	}
}
