// Package looks is how the pages and mails that people meet look: the colours of a site, and whether what they say can
// be read.
package looks

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// A Colour is one of sRGB, from 0 to 255 in each.
type Colour struct{ R, G, B uint8 }

// ParseColour reads #rgb or #rrggbb.
func ParseColour(text string) (c Colour, err error) {
	digits, ok := strings.CutPrefix(text, "#")
	if len(digits) == 3 {
		digits = string([]byte{digits[0], digits[0], digits[1], digits[1], digits[2], digits[2]})
	}
	n, err := strconv.ParseUint(digits, 16, 32)
	if !ok || len(digits) != 6 || err != nil {
		return c, fmt.Errorf("%q is no colour; write one such as \"#8a6d1c\"", text)
	}
	return Colour{uint8(n >> 16), uint8(n >> 8), uint8(n)}, nil
}

func (c Colour) String() string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

// luminance is the relative luminance of a colour (WCAG 2.2, definition of it).
func (c Colour) luminance() float64 {
	part := func(v uint8) float64 {
		s := float64(v) / 255
		if s <= 0.04045 {
			return s / 12.92
		}
		return math.Pow((s+0.055)/1.055, 2.4)
	}
	return 0.2126*part(c.R) + 0.7152*part(c.G) + 0.0722*part(c.B)
}

// Contrast returns the contrast ratio of two colours, from 1 to 21 (WCAG 2.2, definition of it).
func Contrast(a, b Colour) float64 {
	x, y := a.luminance(), b.luminance()
	return (math.Max(x, y) + 0.05) / (math.Min(x, y) + 0.05)
}

// Readable is the contrast that text needs (WCAG 2.2, 1.4.3).
const Readable = 4.5

// mix is so much of one colour in another, from 0 to 1.
func mix(a, b Colour, part float64) Colour {
	one := func(x, y uint8) uint8 { return uint8(math.Round(float64(x)*part + float64(y)*(1-part))) }
	return Colour{one(a.R, b.R), one(a.G, b.G), one(a.B, b.B)}
}

// Palette is the colours of pages in light or in dark.
type Palette struct{ Paper, Ink, Accent Colour }

// The usual colours.
var (
	Light = Palette{Paper: Colour{0xfb, 0xfa, 0xf7}, Ink: Colour{0x1f, 0x29, 0x33}, Accent: Colour{0x7a, 0x5c, 0x14}}
	Dark  = Palette{Paper: Colour{0x17, 0x1c, 0x22}, Ink: Colour{0xe8, 0xe6, 0xe0}, Accent: Colour{0xd9, 0xb4, 0x5b}}
)

// OnAccent is the colour of what is written on the accent: white or nearly black, whichever can be read better.
func (p Palette) OnAccent() Colour {
	white, black := Colour{255, 255, 255}, Colour{0x14, 0x14, 0x14}
	if Contrast(white, p.Accent) >= Contrast(black, p.Accent) {
		return white
	}
	return black
}

// Soft is the colour of what is less important, which can still be read.
func (p Palette) Soft() Colour {
	for part := 0.65; part < 1; part += 0.05 {
		if soft := mix(p.Ink, p.Paper, part); Contrast(soft, p.Paper) >= Readable+0.5 {
			return soft
		}
	}
	return p.Ink
}

// Line is the colour of lines.
func (p Palette) Line() Colour { return mix(p.Ink, p.Paper, 0.2) }

// Sheet is the colour of what lies on the paper.
func (p Palette) Sheet() Colour {
	if p.Paper.luminance() > 0.5 {
		return mix(Colour{255, 255, 255}, p.Paper, 0.7)
	}
	return mix(Colour{255, 255, 255}, p.Paper, 0.06)
}

// A Scheme says whether pages are light or dark.
type Scheme string

// The schemes.
const (
	Both      Scheme = "both" // as whoever looks at them wants
	OnlyLight Scheme = "light"
	OnlyDark  Scheme = "dark"
)

// Looks are how the pages and mails of a site look. The zero Looks are the usual ones.
type Looks struct {
	Light, Dark *Palette // nil for the usual one
	Scheme      Scheme   // "" for both
	// Files beside the policy, "" for none.
	Logo, Favicon, Style string
}

// InLight is the palette of light pages, and of mails.
func (l Looks) InLight() Palette {
	if l.Light != nil {
		return *l.Light
	}
	return Light
}

// InDark is the palette of dark pages.
func (l Looks) InDark() Palette {
	if l.Dark != nil {
		return *l.Dark
	}
	return Dark
}

// ColorScheme is what browsers are told (the property color-scheme of CSS).
func (l Looks) ColorScheme() string {
	switch l.Scheme {
	case OnlyLight:
		return "light"
	case OnlyDark:
		return "dark"
	}
	return "light dark"
}

// CSS is the style sheet that gives pages these looks, on top of the usual one; "" if there is nothing to change.
func (l Looks) CSS() string {
	if l.Light == nil && l.Dark == nil && (l.Scheme == "" || l.Scheme == Both) {
		return ""
	}
	switch l.Scheme {
	case OnlyLight:
		return ":root { " + l.InLight().css() + " }\n@media (prefers-color-scheme: dark) { :root { " + l.InLight().css() + " } }\n"
	case OnlyDark:
		return ":root { " + l.InDark().css() + darkBad + " }\n"
	}
	return ":root { " + l.InLight().css() + " }\n@media (prefers-color-scheme: dark) { :root { " + l.InDark().css() + darkBad + " } }\n"
}

// How a problem looks on dark pages.
const darkBad = " --bad: #ffb4a8; --bad-paper: #3a2220;"

func (p Palette) css() string {
	text := ""
	for _, v := range []struct {
		name   string
		colour Colour
	}{{"paper", p.Paper}, {"sheet", p.Sheet()}, {"ink", p.Ink}, {"soft", p.Soft()}, {"line", p.Line()}, {"brass", p.Accent},
		{"brass-ink", p.OnAccent()}} {
		text += "--" + v.name + ": " + v.colour.String() + "; "
	}
	if p.Paper.luminance() > 0.5 {
		return text + "--bad: #9b1c1c; --bad-paper: #fdf0ee;"
	}
	return strings.TrimSpace(text)
}

// A Fault is a pair of colours that cannot be told apart well enough.
type Fault struct {
	What  string  // "ink on paper", in words
	Ratio float64 // its contrast
}

// Faults returns what of a palette cannot be read.
func (p Palette) Faults() (all []Fault) {
	for _, pair := range []struct {
		what string
		a, b Colour
	}{{"the ink on the paper", p.Ink, p.Paper}, {"the accent on the paper, as links are,", p.Accent, p.Paper},
		{"what is written on the accent", p.OnAccent(), p.Accent}} {
		if ratio := Contrast(pair.a, pair.b); ratio < Readable {
			all = append(all, Fault{pair.what, ratio})
		}
	}
	return all
}
