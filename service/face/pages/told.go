package pages

import (
	"encoding/json"
	"strconv"
	"time"

	"ostiarius/client"
)

// What scripts ask for with each step of a visitor is written here by hand, byte for byte as encoding/json would: that takes
// twice the time of finding it out. A test holds the two together, so that no field is forgotten.

// appendMe appends who is here.
func appendMe(b []byte, me *client.Me) []byte {
	b = strconv.AppendBool(append(b, `{"signedIn":`...), me.SignedIn)
	b = appendText(append(b, `,"name":`...), me.Name)
	b = appendTexts(append(b, `,"roles":`...), me.Roles)
	b = appendTime(b, `,"proven":`, me.Proven)
	b = appendTime(b, `,"ends":`, me.Ends)
	if me.Idle != 0 {
		b = strconv.AppendInt(append(b, `,"idle":`...), int64(me.Idle), 10)
	}
	b = appendTexts(append(b, `,"unlocked":`...), me.Unlocked)
	b = appendTexts(append(b, `,"passes":`...), me.Passes)
	b = append(b, `,"ways":{`...)
	start, ways := len(b), &me.Ways
	b = appendSaid(b, `,"signIn":`, ways.SignIn)
	b = appendSaid(b, `,"signOut":`, ways.SignOut)
	b = appendSaid(b, `,"account":`, ways.Account)
	b = appendSaid(b, `,"proveAgain":`, ways.ProveAgain)
	b = appendSaid(b, `,"unlock":`, ways.Unlock)
	b = appendSaid(b, `,"join":`, ways.Join)
	b = appendSaid(b, `,"recover":`, ways.Recover)
	if len(b) > start { // without the first comma
		b = append(b[:start], b[start+1:]...)
	}
	return append(b, "}}"...)
}

// appendMay appends where somebody may go.
func appendMay(b []byte, may *client.May) []byte {
	b = append(b, `{"places":[`...)
	for i := range may.Places {
		if i > 0 {
			b = append(b, ',')
		}
		to := &may.Places[i]
		b = appendText(append(b, `{"path":`...), to.Path)
		b = appendText(append(b, `,"method":`...), to.Method)
		b = strconv.AppendBool(append(b, `,"may":`...), to.May)
		b = appendText(append(b, `,"outcome":`...), to.Outcome)
		b = appendSaid(b, `,"code":`, to.Code)
		b = appendSaid(b, `,"name":`, to.Name)
		b = append(appendSaid(b, `,"go":`, to.Go), '}')
	}
	return append(b, "]}"...)
}

// appendSaid appends a field, unless its text is empty.
func appendSaid(b []byte, key, text string) []byte {
	if text == "" {
		return b
	}
	return appendText(append(b, key...), text)
}

func appendTime(b []byte, key string, t *time.Time) []byte {
	if t == nil {
		return b
	}
	return append(t.AppendFormat(append(append(b, key...), '"'), time.RFC3339Nano), '"')
}

func appendTexts(b []byte, texts []string) []byte {
	b = append(b, '[')
	for i, text := range texts {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendText(b, text)
	}
	return append(b, ']')
}

// appendText appends a text in quotes. What has to be escaped is left to encoding/json.
func appendText(b []byte, text string) []byte {
	for i := 0; i < len(text); i++ {
		if c := text[i]; c < 0x20 || c > 0x7e || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' {
			quoted, err := json.Marshal(text)
			if err != nil {
				return append(b, `""`...) // a text can always be written
			}
			return append(b, quoted...)
		}
	}
	return append(append(append(b, '"'), text...), '"')
}
