package edit

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"ostiarius/core/document"
	"ostiarius/core/policy"
)

// told says all of a declaration but where it stands.
func toldShared(d policy.DeclaredShared) string {
	d.Position = document.Position{}
	return fmt.Sprintf("%+v", d)
}

func toldPass(d policy.DeclaredPass) string {
	d.Position = document.Position{}
	return fmt.Sprintf("%+v", d)
}

// DeclareShared adds a shared password, if the policy does not have it.
type DeclareShared struct {
	Name    string
	Title   string        // the name if ""
	Lasts   time.Duration // 0 until the browser is closed
	Forever bool
}

func (d DeclareShared) wanted(before *policy.Book) map[string]string {
	told := toldBy(before)
	if policy.SharedNamed(before, d.Name) == nil {
		told[":shared "+d.Name] = toldShared(policy.DeclaredShared{
			Name: d.Name, Title: cmp.Or(d.Title, d.Name), Lasts: d.Lasts, Forever: d.Forever,
		})
	}
	return told
}

func (d DeclareShared) apply(e *editor) error {
	if !document.ValidName(d.Name) {
		return fmt.Errorf("shared password %q: a name has 1 to 64 letters, digits, - or _", d.Name)
	}
	if policy.SharedNamed(e.book, d.Name) != nil {
		return nil
	}
	var said []string
	if d.Title != "" {
		said = append(said, "title: "+document.Scalar(d.Title))
	}
	if d.Lasts != 0 || d.Forever {
		said = append(said, "lasts: "+lastsText(d.Lasts, d.Forever))
	}
	return e.declare("shared", d.Name, flow(said))
}

// DeclarePass adds a kind of pass, if the policy does not have it.
type DeclarePass struct {
	Name      string
	Title     string        // the name if ""
	Lasts     time.Duration // 0 for the usual time
	Forever   bool
	Downloads int // 0 for any number
}

func (d DeclarePass) wanted(before *policy.Book) map[string]string {
	told := toldBy(before)
	if policy.PassNamed(before, d.Name) == nil {
		kind := policy.DeclaredPass{
			Name: d.Name, Title: cmp.Or(d.Title, d.Name), Lasts: cmp.Or(d.Lasts, policy.UsualPassLasts), Downloads: d.Downloads,
			Networks: policy.UsualPassNetworks,
		}
		if d.Forever {
			kind.Lasts = 0
		}
		told[":pass "+d.Name] = toldPass(kind)
	}
	return told
}

func (d DeclarePass) apply(e *editor) error {
	if !document.ValidName(d.Name) {
		return fmt.Errorf("kind of pass %q: a name has 1 to 64 letters, digits, - or _", d.Name)
	}
	if policy.PassNamed(e.book, d.Name) != nil {
		return nil
	}
	var said []string
	if d.Title != "" {
		said = append(said, "title: "+document.Scalar(d.Title))
	}
	if d.Lasts != 0 || d.Forever {
		said = append(said, "lasts: "+lastsText(d.Lasts, d.Forever))
	}
	if d.Downloads != 0 {
		said = append(said, fmt.Sprintf("downloads: %d", d.Downloads))
	}
	return e.declare("passes", d.Name, flow(said))
}

func lastsText(d time.Duration, forever bool) string {
	if forever {
		return "forever"
	}
	return document.FormatDuration(d)
}

// flow writes a mapping in one line; "" for an empty one.
func flow(said []string) string {
	if len(said) == 0 {
		return ""
	}
	return "{ " + strings.Join(said, ", ") + " }"
}
