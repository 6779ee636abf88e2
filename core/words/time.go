package words

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

var months = map[Language][12]string{
	English: {"January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"},
	German:  {"Januar", "Februar", "März", "April", "Mai", "Juni", "Juli", "August", "September", "Oktober", "November", "Dezember"},
}

// Day tells a day, in the zone of t.
func Day(in Language, t time.Time) string {
	point := map[Language]string{German: "."}[in]
	return fmt.Sprintf("%d%s %s %d", t.Day(), point, months[in][t.Month()-1], t.Year())
}

// Moment tells a time to the minute, in the zone of t.
func Moment(in Language, t time.Time) string { return Day(in, t) + ", " + t.Format("15:04") }

// End tells until when something counts: the last day that does, if it ends with a day in the zone of t, and otherwise the
// minute.
func End(in Language, t time.Time) string {
	if _, last := LastDay(t); last {
		return Day(in, t.AddDate(0, 0, -1))
	}
	return Moment(in, t)
}

// LastDay returns the last day that counts until t, as a date, if it is a whole day in the zone of t.
func LastDay(t time.Time) (date string, is bool) {
	if y, m, d := t.Date(); !t.Equal(time.Date(y, m, d, 0, 0, 0, 0, t.Location())) {
		return "", false
	}
	return t.AddDate(0, 0, -1).Format(time.DateOnly), true
}

// Zoned tells a time to the minute with its zone, to somebody who may be in another.
func Zoned(in Language, t time.Time) string { return Moment(in, t) + " (" + t.Format("MST") + ")" }

// Size returns a number of bytes as people say it, such as "1.2 MB", by powers of 1000.
func Size(in Language, bytes int64) string {
	units, n, unit := []string{"B", "kB", "MB", "GB", "TB"}, float64(bytes), 0
	for ; n >= 999.5 && unit < len(units)-1; unit++ {
		n /= 1000
	}
	digits := 0
	if unit > 0 && n < 99.95 {
		digits = 1
	}
	text := strconv.FormatFloat(n, 'f', digits, 64)
	if in == German {
		text = strings.Replace(text, ".", ",", 1)
	}
	return text + " " + units[unit]
}
