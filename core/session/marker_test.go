package session

import (
	"encoding/base64"
	"encoding/binary"
	"testing"
	"time"
)

// at is a mark with another time written into it.
func at(mark string, other time.Time) string {
	raw, _ := base64.RawURLEncoding.DecodeString(mark)
	binary.BigEndian.PutUint64(raw, uint64(other.UnixMilli()))
	return base64.RawURLEncoding.EncodeToString(raw)
}

// A mark shows when it was made, for one owner and one service. Nothing else does.
func TestMarks(t *testing.T) {
	m, now := NewMarker(), time.Now().Truncate(time.Millisecond)
	mark := m.Mark("agnes", now.Add(-time.Minute))
	for name, c := range map[string]struct {
		mark, account string
		want          time.Duration
	}{
		"its own": {mark, "agnes", time.Minute}, "of another": {mark, "ines", Unknown}, "none": {"", "agnes", Unknown},
		"cut off": {mark[:20], "agnes", Unknown},
		"changed": {"A" + mark[1:], "agnes", Unknown}, "longer": {mark + "AAAA", "agnes", Unknown},
		"of another time":    {at(mark, now.Add(-time.Second)), "agnes", Unknown},
		"of another service": {NewMarker().Mark("agnes", now), "agnes", Unknown},
		"of a time to come":  {m.Mark("agnes", now.Add(time.Hour)), "agnes", Unknown},
	} {
		if name == "changed" && mark[0] == 'A' {
			c.mark = "B" + mark[1:]
		}
		if got := m.Age(c.mark, c.account, now); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}
