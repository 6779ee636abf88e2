package message

import (
	"maps"
	"time"

	"ostiarius/core/words"
)

// Sample returns a message of a kind with sample data, to be looked at and not sent.
func Sample(kind Kind, in words.Language, now time.Time) Message {
	m := New(kind, "ines@marram.example", "ines", in, now).With("/door/sample", now.Add(time.Hour))
	own := words.Set{}.Sentence(in, "shared.own")
	maps.Copy(m.Gaps, map[string]string{
		"text":    "At the moment all watches are filled. Please ask again in spring.",
		"address": "ines@marram.example", "device": "Firefox on Linux", "network": "192.0.2.7",
		"title": "Sound recordings", "own": own, "user": "k7qx3mpa2d", "password": "amber-lantern-shelf-tide-gravel-otter-quill",
		"place": "/recordings/", "reference": "2026-118", "account": "ines", "when": words.Day(in, now.AddDate(0, 0, 14)),
		"what":   words.Set{}.Say(in, "factors.told-code", nil),
		"number": "2", "found": "kept /log/week.pdf: a closed page may be kept: Cache-Control: public\nbroken-link /history/: it names " +
			"/history/1890/, where nothing is (404)",
		"ends": words.Set{}.Say(in, "pass.ends-after",
			map[string]string{"time": words.Set{}.Say(in, "common.days", map[string]string{"n": "14"})}),
	})
	return m
}
