package policy

import (
	"strings"

	"ostiarius/core/words"

	"ostiarius/core/factor"
)

// AdmitsIn says in a sentence who may go to a page, to somebody who stands before it, in a language.
func (d *Door) AdmitsIn(in words.Language, page string) string {
	if in != words.German {
		return d.Admits(page)
	}
	main, also := d.Admit.split()
	var b strings.Builder
	switch main.Kind {
	case Public:
		b.WriteString("Alle dürfen ")
	case Nobody:
		b.WriteString("Niemand darf ")
	default:
		b.WriteString("Nur " + main.leute() + " dürfen ")
	}
	b.WriteString(page)
	if d.Methods.Any() {
		b.WriteString(" sehen")
	} else {
		b.WriteString(" mit " + oder(d.Methods.Names()) + " aufrufen")
	}
	for i, part := range also {
		switch {
		case i == 0:
			b.WriteString(" und müssen ")
		case i == len(also)-1:
			b.WriteString(" und ")
		default:
			b.WriteString(", ")
		}
		b.WriteString(part.muss())
	}
	return b.String() + "."
}

// leute is people in German.
func (d Demand) leute() string {
	switch d.Kind {
	case SignedIn:
		return "angemeldete Leute"
	case Role:
		if len(d.Names) > 1 {
			return "Leute mit einer der Rollen " + oder(d.Names)
		}
		return "Leute mit der Rolle " + d.Names[0]
	case User:
		if len(d.Names) > 1 {
			return "die Konten " + oder(d.Names)
		}
		return "Leute mit dem Konto " + d.Names[0]
	case Any:
		return d.reihe(" oder ")
	case All:
		return "Leute, für die all das gilt: " + d.reihe(" und ") + ","
	case Public:
		return "alle"
	case Nobody:
		return "niemand"
	}
	switch d.Kind {
	case Keyring:
		return "Leute mit Name und Passwort aus dem Bund " + oder(d.Names)
	case Shared:
		return "Leute, die das gemeinsame Passwort " + oder(d.Names) + " kennen,"
	case Pass:
		return "Leute mit einem Pass für " + oder(d.Names)
	case Network:
		return "Leute aus dem Netz " + oder(d.networks())
	}
	if d.Kind == Factor {
		return "Leute mit Konto, die " +
			strings.NewReplacer("angeben", "angeben,", "benutzen", "benutzen,", "erbringen", "erbringen,").Replace(d.muss())
	}
	return "Leute, die ihr Passwort in der letzten Zeit (" + FormatDuration(d.Within) + ") eingegeben haben,"
}

func (d Demand) reihe(word string) string {
	texts := make([]string, len(d.Parts))
	for i, part := range d.Parts {
		if texts[i] = strings.TrimSuffix(part.leute(), ","); part.Kind == Any || part.Kind == All {
			texts[i] = "(" + texts[i] + ")"
		}
	}
	if len(texts) == 1 {
		return texts[0]
	}
	return strings.Join(texts[:len(texts)-1], ", ") + word + texts[len(texts)-1]
}

// muss is must in German, behind "müssen".
func (d Demand) muss() string {
	switch d.Kind {
	case Keyring:
		return "einen Namen und ein Passwort aus dem Bund " + oder(d.Names) + " angeben"
	case Shared:
		return "das gemeinsame Passwort " + oder(d.Names) + " angeben"
	case Pass:
		return "einen Pass für " + oder(d.Names) + " haben"
	case Network:
		return "aus dem Netz " + oder(d.networks()) + " kommen"
	case ProofWithin:
		if d.factors != nil {
			return "das in der letzten Zeit (" + FormatDuration(d.Within) + ") getan haben"
		}
		return "ihr Passwort in der letzten Zeit (" + FormatDuration(d.Within) + ") eingegeben haben"
	case Factor:
		texts := make([]string, len(d.Names))
		for i, word := range d.Names {
			texts[i] = map[string]string{
				factor.AskPasskey: "einen Passkey benutzen", factor.AskCode: "einen eigenen Code angeben",
				factor.AskTwo: "zwei verschiedene Nachweise erbringen",
			}[word]
		}
		return oder(texts)
	}
	return d.leute() + " sein"
}

func oder(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " oder " + names[len(names)-1]
}
