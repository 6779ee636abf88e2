package looks

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
)

func TestContrast(t *testing.T) {
	for pair, want := range map[[2]string]float64{ // as the definition has them
		{"#000", "#fff"}: 21, {"#fff", "#000000"}: 21, {"#777", "#fff"}: 4.48, {"#767676", "#ffffff"}: 4.54, {"#8a6d1c", "#8a6d1c"}: 1,
	} {
		a, err := ParseColour(pair[0])
		b, other := ParseColour(pair[1])
		if err != nil || other != nil {
			t.Fatal(err, other)
		}
		if got := Contrast(a, b); math.Abs(got-want) > 0.005 {
			t.Errorf("%v: %.3f, want %.2f", pair, got, want)
		}
	}
	for _, bad := range []string{"", "#", "fff", "#ffff", "#ggg", "#12345", "red", "#-12345", "#+1234a", "#fff;}"} {
		if c, err := ParseColour(bad); err == nil {
			t.Errorf("%q is %v", bad, c)
		}
	}
}

// What pages are made of can be read with any colours that can, and the style sheet has nothing but colours.
func TestDerivedColoursCanBeRead(t *testing.T) {
	random := rand.New(rand.NewPCG(16, 6))
	colour := func() Colour {
		return Colour{uint8(random.IntN(256)), uint8(random.IntN(256)), uint8(random.IntN(256))}
	}
	looked := 0
	for range 20000 {
		p := Palette{colour(), colour(), colour()}
		if len(p.Faults()) > 0 {
			continue
		}
		looked++
		for what, ratio := range map[string]float64{"soft on paper": Contrast(p.Soft(), p.Paper), "on accent": Contrast(p.OnAccent(), p.Accent)} {
			if ratio < Readable {
				t.Errorf("%+v: %s %.2f", p, what, ratio)
			}
		}
		l := Looks{Light: &p}
		if css := l.CSS(); strings.Count(css, "{") != strings.Count(css, "}") || strings.ContainsAny(css, "<>\"'\\") {
			t.Errorf("%s", css)
		}
	}
	if looked < 200 {
		t.Errorf("only %d palettes", looked)
	}
	for name, p := range map[string]Palette{"light": Light, "dark": Dark} {
		if f := p.Faults(); len(f) > 0 {
			t.Errorf("the usual %s colours: %v", name, f)
		}
	}
	if (Looks{}).CSS() != "" || (Looks{}).ColorScheme() != "light dark" || (Looks{Scheme: OnlyDark}).ColorScheme() != "dark" {
		t.Error("the usual looks are others")
	}
}
