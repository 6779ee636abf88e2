package activity

import (
	"slices"
	"strings"
	"unicode"
)

// References returns the reference numbers that somebody may mean by what they type: in any case, with or without a
// hyphen and spaces, and with 0 for O and
// 1, I and l for each other. There is none for a text that is no such number.
func References(typed string) (all []string) {
	text := strings.Map(func(r rune) rune {
		switch r = unicode.ToUpper(r); {
		case r == '-' || unicode.Is(unicode.Dash, r) || unicode.IsSpace(r):
			return -1
		case r == '0':
			return 'O'
		case r == '1', r == 'L':
			return 'I'
		}
		return r
	}, typed)
	if len(text) != 8 || strings.Trim(text, "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567") != "" {
		return nil
	}
	all = []string{""}
	for i, r := range text {
		if i == 4 {
			all = each(all, "-")
		}
		if r == 'I' {
			all = append(each(all, "I"), each(all, "L")...)
		} else {
			all = each(all, string(r))
		}
	}
	return all
}

// each adds something to the end of each text.
func each(all []string, end string) []string {
	all = slices.Clone(all)
	for i := range all {
		all[i] += end
	}
	return all
}
