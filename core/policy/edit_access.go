package policy

import (
	"cmp"
	"fmt"
	"strings"
	"time"
)

// told says all of a declaration but where it stands.
func (d DeclaredShared) told() string {
	d.Position = Position{}
	return fmt.Sprintf("%+v", d)
}

func (d DeclaredPass) told() string {
	d.Position = Position{}
	return fmt.Sprintf("%+v", d)
}

// DeclareShared adds a shared password, if the policy does not have it.
type DeclareShared struct {
	Name    string
	Title   string        // the name if ""
	Lasts   time.Duration // 0 until the browser is closed
	Forever bool
}

func (d DeclareShared) wanted(before *Book) map[string]string {
	told := before.told()
	if SharedNamed(before, d.Name) == nil {
		told[":shared "+d.Name] = DeclaredShared{Name: d.Name, Title: cmp.Or(d.Title, d.Name), Lasts: d.Lasts, Forever: d.Forever}.told()
	}
	return told
}

func (d DeclareShared) apply(e *editor) error {
	if !validName(d.Name) {
		return fmt.Errorf("shared password %q: a name has 1 to 64 letters, digits, - or _", d.Name)
	}
	if SharedNamed(e.book, d.Name) != nil {
		return nil
	}
	var said []string
	if d.Title != "" {
		said = append(said, "title: "+Scalar(d.Title))
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

func (d DeclarePass) wanted(before *Book) map[string]string {
	told := before.told()
	if PassNamed(before, d.Name) == nil {
		kind := DeclaredPass{
			Name: d.Name, Title: cmp.Or(d.Title, d.Name), Lasts: cmp.Or(d.Lasts, usualPassLasts), Downloads: d.Downloads,
			Networks: usualPassNetworks,
		}
		if d.Forever {
			kind.Lasts = 0
		}
		told[":pass "+d.Name] = kind.told()
	}
	return told
}

func (d DeclarePass) apply(e *editor) error {
	if !validName(d.Name) {
		return fmt.Errorf("kind of pass %q: a name has 1 to 64 letters, digits, - or _", d.Name)
	}
	if PassNamed(e.book, d.Name) != nil {
		return nil
	}
	var said []string
	if d.Title != "" {
		said = append(said, "title: "+Scalar(d.Title))
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
	return FormatDuration(d)
}

// flow writes a mapping in one line; "" for an empty one.
func flow(said []string) string {
	if len(said) == 0 {
		return ""
	}
	return "{ " + strings.Join(said, ", ") + " }"
}
