package api

import (
	"net/http"

	"ostiarius/client"
	"ostiarius/core/looks"
	"ostiarius/core/words"
)

// showLooks says what pages there are to look at, and what of some colours cannot be read.
func (a *API) showLooks(w http.ResponseWriter, r *http.Request) {
	l, err := a.looksOf(r)
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	shown := client.Looks{Pages: a.Samples, Light: paletteOf(l.InLight()), Dark: paletteOf(l.InDark())}
	for name, p := range map[string]looks.Palette{"light": l.InLight(), "dark": l.InDark()} {
		for _, f := range p.Faults() {
			shown.Faults = append(shown.Faults, client.ContrastFault{Scheme: name, What: f.What, Ratio: f.Ratio})
		}
	}
	a.answer(w, http.StatusOK, shown)
}

func paletteOf(p looks.Palette) client.Palette {
	return client.Palette{Accent: p.Accent.String(), Paper: p.Paper.String(), Ink: p.Ink.String()}
}

// looksOf returns the looks in force, with the colours that a request asks for instead.
func (a *API) looksOf(r *http.Request) (looks.Looks, error) {
	l, query := a.Policy.Book().Looks, r.URL.Query()
	for prefix, to := range map[string]struct {
		palette looks.Palette
		set     func(*looks.Palette)
	}{
		"": {l.InLight(), func(p *looks.Palette) { l.Light = p }}, "dark-": {l.InDark(), func(p *looks.Palette) { l.Dark = p }},
	} {
		asked := false
		for name, colour := range map[string]*looks.Colour{"accent": &to.palette.Accent, "paper": &to.palette.Paper, "ink": &to.palette.Ink} {
			text := query.Get(prefix + name)
			if text == "" {
				continue
			}
			c, err := looks.ParseColour(text)
			if err != nil {
				return l, err
			}
			*colour, asked = c, true
		}
		if asked {
			to.set(&to.palette)
		}
	}
	if scheme := looks.Scheme(query.Get("scheme")); scheme == looks.OnlyLight || scheme == looks.OnlyDark {
		l.Scheme = scheme
	}
	return l, nil
}

// samplePage shows a page with sample data, to be shown within the console.
func (a *API) samplePage(w http.ResponseWriter, r *http.Request) {
	l, err := a.looksOf(r)
	if err != nil {
		a.problem(w, http.StatusUnprocessableEntity, err.Error())
		return
	}
	if a.Sample == nil || !a.Sample(w, parameter(r, "page"), words.Choose("", r.URL.Query().Get("language")), l) {
		a.problem(w, http.StatusNotFound, "There is no page of that name to look at.")
	}
}
