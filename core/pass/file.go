package pass

import (
	"errors"
	"slices"
	"strconv"
	"strings"
)

// A Span is a part of a file: the bytes from From on, before To.
type Span struct{ From, To int64 }

// Spans are parts of a file, in order, that neither overlap nor touch.
type Spans []Span

// mostSpans is the most parts that are told apart. When there are more, those count as one that have the least
// between them: who fetches a file in so many pieces is taken to have what lies between too.
const mostSpans = 200

// Add returns the spans with another one. The spans stay as they are.
func (s Spans) Add(n Span) Spans {
	if n.To <= n.From {
		return s
	}
	first, _ := slices.BinarySearchFunc(s, n.From, func(span Span, from int64) int { return compare(span.To, from) })
	last := first
	for last < len(s) && s[last].From <= n.To {
		n.From, n.To = min(n.From, s[last].From), max(n.To, s[last].To)
		last++
	}
	added := slices.Concat(s[:first], Spans{n}, s[last:])
	for len(added) > mostSpans {
		at := 1
		for i := 2; i < len(added); i++ {
			if added[i].From-added[i-1].To < added[at].From-added[at-1].To {
				at = i
			}
		}
		added[at-1].To = added[at].To
		added = slices.Delete(added, at, at+1)
	}
	return added
}

func compare(a, b int64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// Holds reports whether the spans have a byte.
func (s Spans) Holds(at int64) bool { return s.Reach(at, at+1, 0) > at }

// Total returns how many bytes the spans have.
func (s Spans) Total() (n int64) {
	for _, span := range s {
		n += span.To - span.From
	}
	return n
}

// Within returns how many bytes of a span they have.
func (s Spans) Within(n Span) (has int64) {
	for _, span := range s {
		has += max(0, min(span.To, n.To)-max(span.From, n.From))
	}
	return has
}

// Reach returns how far one can go from a byte on, at most to an end, without more than so many bytes that the spans
// do not have.
func (s Spans) Reach(from, end, room int64) int64 {
	at := from
	for _, span := range s {
		if span.To <= at {
			continue
		}
		if span.From > at {
			gap := min(span.From, end) - at
			if gap <= 0 {
				return end
			}
			if gap > room {
				return at + room
			}
			room -= gap
		}
		if at = max(at, span.To); at >= end {
			return end
		}
	}
	return min(end, at+room)
}

// String writes the spans, such as "0-100,250-300", for the records.
func (s Spans) String() string {
	var b strings.Builder
	for i, span := range s {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(strconv.FormatInt(span.From, 10) + "-" + strconv.FormatInt(span.To, 10))
	}
	return b.String()
}

var errSpans = errors.New("the parts of a file cannot be read")

// ReadSpans reads what String has written.
func ReadSpans(text string) (Spans, error) {
	if text == "" {
		return nil, nil
	}
	var s Spans
	for part := range strings.SplitSeq(text, ",") {
		from, to, ok := strings.Cut(part, "-")
		a, err := strconv.ParseInt(from, 10, 64)
		b, err2 := strconv.ParseInt(to, 10, 64)
		if !ok || err != nil || err2 != nil || a < 0 || b <= a || len(s) > 0 && a <= s[len(s)-1].To || len(s) >= mostSpans {
			return nil, errSpans
		}
		s = append(s, Span{a, b})
	}
	return s, nil
}

// A File is how much of one file has been delivered to a pass.
type File struct {
	Key  string // what tells it from others
	Size int64
	Has  Spans
	Day  string // on which it last counted as a download, such as 2026-11-25; "" for never
}

// enough is how many bytes of a file make a download: 95 of 100, rounded up.
func enough(size int64) int64 { return size - size/20 }

// Finished reports whether the file has been delivered to its end.
func (f *File) Finished() bool { return f.Has.Total() >= f.Size }

// Counted reports whether so much of the file has been delivered that it has counted as a download.
func (f *File) Counted() bool { return f.Day != "" && f.Has.Total() >= enough(f.Size) }

// CountsAgain reports whether so many bytes that had been delivered before were delivered again that this is another download.
func (f *File) CountsAgain(again int64) bool { return f.Size > 0 && again >= enough(f.Size) }

// A Step is as much as is delivered before it is looked at again.
type Step struct {
	To     int64 // before this byte
	Counts bool  // with it, the file counts as a download
}

// What is delivered between two looks at what has been, of a large file, and of the step that makes it count.
const (
	shortStep = 1 << 20
	lastStep  = 32 << 10
)

// Step returns the next step from a byte on, at most to an end, when all that is in has has been delivered or is being
// delivered. Steps come in such a way that one before the last never makes a download: whoever breaks off there has
// not downloaded the file.
func (f *File) Step(has Spans, from, end int64) Step {
	end = min(end, from+max(shortStep, f.Size/16))
	reach := has.Reach(from, end, max(0, enough(f.Size)-1-has.Total()))
	if reach >= end || has.Total() >= enough(f.Size) {
		return Step{end, false}
	}
	if reach > from {
		return Step{reach, false}
	}
	return Step{min(end, from+lastStep), true}
}
