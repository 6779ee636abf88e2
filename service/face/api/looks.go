package api

import (
	"net/http"

	"ostiarius/client"
	"ostiarius/core/looks"
	"ostiarius/core/words"
	"ostiarius/service/base/mistake"
)

func init() {
	On(client.ShowLooks, (*API).showLooks)
	Write(client.SamplePage, (*API).samplePage)
}

// showLooks says what pages there are to look at, and what of some colours cannot be read.
func (a *API) showLooks(_ Caller, asked client.Colours) (shown client.Looks, err error) {
	l, err := a.looksOf(asked)
	if err != nil {
		return shown, err
	}
	shown = client.Looks{Pages: a.Samples, Light: paletteOf(l.InLight()), Dark: paletteOf(l.InDark())}
	for name, p := range map[string]looks.Palette{"light": l.InLight(), "dark": l.InDark()} {
		for _, f := range p.Faults() {
			shown.Faults = append(shown.Faults, client.ContrastFault{Scheme: name, What: f.What, Ratio: f.Ratio})
		}
	}
	return shown, nil
}

func paletteOf(p looks.Palette) client.Palette {
	return client.Palette{Accent: p.Accent.String(), Paper: p.Paper.String(), Ink: p.Ink.String()}
}

// looksOf returns the looks in force, with the colours that are asked for instead.
func (a *API) looksOf(asked client.Colours) (looks.Looks, error) {
	l := a.Policy.Book().Looks
	light, dark := l.InLight(), l.InDark()
	for _, one := range []struct {
		text    string
		to      *looks.Colour
		palette *looks.Palette
		set     **looks.Palette
	}{
		{asked.Accent, &light.Accent, &light, &l.Light}, {asked.Paper, &light.Paper, &light, &l.Light}, {asked.Ink, &light.Ink, &light, &l.Light},
		{asked.DarkAccent, &dark.Accent, &dark, &l.Dark}, {asked.DarkPaper, &dark.Paper, &dark, &l.Dark},
		{asked.DarkInk, &dark.Ink, &dark, &l.Dark},
	} {
		if one.text == "" {
			continue
		}
		var err error
		if *one.to, err = looks.ParseColour(one.text); err != nil {
			return l, unprocessable(err)
		}
		*one.set = one.palette
	}
	if asked.Scheme != "" {
		l.Scheme = looks.Scheme(asked.Scheme)
	}
	return l, nil
}

// samplePage shows a page with sample data, to be shown within the console.
func (a *API) samplePage(_ Caller, asked client.SampleOf, w http.ResponseWriter) error {
	l, err := a.looksOf(asked.Colours)
	if err != nil {
		return err
	}
	if a.Sample == nil || !a.Sample(w, asked.Page, words.Choose("", asked.Language), l) {
		return mistake.Unknown("There is no page of that name to look at.")
	}
	return nil
}
