// Package replay judges the requests of access logs by a policy: which of those that were answered would be turned away now, and the other
// way round. It reads the Common and the Combined Log Format with what servers put before and after them, and objects of JSON, one a line.
package replay

import (
	"bytes"
	"encoding/json"
	"errors"
	"math"
	"strconv"
	"strings"
	"time"
)

// A Record is one line of a log. Its texts are parts of the line, and hold as long as that does.
type Record struct {
	At      int64 // seconds since 1970; 0 if the line does not say
	Client  []byte
	User    []byte // "" for none that is known
	Method  []byte
	Host    []byte
	Target  []byte // as it was sent
	Status  int    // 0 for no answer
	Outcome []byte // as Ostiarius decided, if the line says that
	As      []byte // who asked, in the notation for visitors, if the line says that
}

var (
	errShape  = errors.New("it is no line of an access log")
	errTarget = errors.New("its request line cannot be read")
)

// Read reads a line, without its end.
func Read(line []byte, r *Record) error {
	*r = Record{}
	line = bytes.TrimRight(line, "\r ")
	if len(line) > 0 && line[0] == '{' {
		return readJSON(line, r)
	}
	return readCombined(line, r)
}

// readCombined reads
//
//	192.0.2.7 - ines [26/Nov/2026:12:00:00 +0000] "GET /log/ HTTP/1.1" 200 120 "referer" "agent" ...
//
// A host may stand before it, with a colon and a port, or a space.
func readCombined(line []byte, r *Record) error {
	open := bytes.IndexByte(line, '[')
	if open < 0 {
		return errShape
	}
	end := bytes.IndexByte(line[open:], ']')
	if end < 0 {
		return errShape
	}
	end += open
	before := line[:open]
	var words [5][]byte
	n := 0
	for len(before) > 0 && n < len(words) {
		before = bytes.TrimLeft(before, " ")
		at := bytes.IndexByte(before, ' ')
		if at < 0 {
			at = len(before)
		}
		if at > 0 {
			words[n] = before[:at]
			n++
		}
		before = before[at:]
	}
	if n < 3 || n > 4 {
		return errShape
	}
	if n == 4 { // a host first
		r.Host = words[0]
	}
	r.Client, r.User = words[n-3], known(words[n-1])
	r.At = readTime(line[open+1 : end])
	rest := bytes.TrimLeft(line[end+1:], " ")
	if len(rest) == 0 || rest[0] != '"' {
		return errShape
	}
	close := quoteEnd(rest[1:])
	if close < 0 {
		return errShape
	}
	request := rest[1 : 1+close]
	rest = bytes.TrimLeft(rest[close+2:], " ")
	at := bytes.IndexByte(rest, ' ')
	if at < 0 {
		at = len(rest)
	}
	status, ok := number(rest[:at])
	if !ok {
		return errShape
	}
	r.Status = status
	return r.request(request)
}

// quoteEnd returns where the quote ends, over those that are escaped.
func quoteEnd(text []byte) int {
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
		case '"':
			return i
		}
	}
	return -1
}

func known(user []byte) []byte {
	if len(user) == 1 && user[0] == '-' || len(user) == 2 && user[0] == '"' {
		return nil
	}
	return user
}

func number(text []byte) (int, bool) {
	n := 0
	if len(text) == 0 || len(text) > 9 {
		return 0, false
	}
	for _, c := range text {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = 10*n + int(c-'0')
	}
	return n, true
}

// request reads a request line: a method, a target, a protocol.
func (r *Record) request(line []byte) error {
	at := bytes.IndexByte(line, ' ')
	if at <= 0 {
		return errTarget
	}
	r.Method = line[:at]
	rest := line[at+1:]
	if last := bytes.LastIndexByte(rest, ' '); last > 0 && bytes.HasPrefix(rest[last+1:], []byte("HTTP/")) {
		rest = rest[:last]
	}
	return r.target(rest)
}

// target takes the target of a request: the path and query, or a whole address.
func (r *Record) target(text []byte) error {
	if len(text) == 0 {
		return errTarget
	}
	if text[0] != '/' {
		_, rest, ok := bytes.Cut(text, []byte("://"))
		if !ok {
			return errTarget
		}
		at := bytes.IndexByte(rest, '/')
		if at < 0 {
			r.Host, r.Target = rest, []byte("/")
			return nil
		}
		r.Host, text = rest[:at], rest[at:]
	}
	if bytes.IndexByte(text, '\\') >= 0 { // as servers escape it in logs
		text = unescaped(text)
	}
	r.Target = text
	return nil
}

// unescaped reads \xHH, \" and \\.
func unescaped(text []byte) []byte {
	out := make([]byte, 0, len(text))
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+1 < len(text) {
			if text[i+1] == 'x' && i+3 < len(text) {
				if n, err := strconv.ParseUint(string(text[i+2:i+4]), 16, 8); err == nil {
					out = append(out, byte(n))
					i += 3
					continue
				}
			}
			i++
		}
		out = append(out, text[i])
	}
	return out
}

var months = map[string]int{
	"Jan": 1, "Feb": 2, "Mar": 3, "Apr": 4, "May": 5, "Jun": 6, "Jul": 7, "Aug": 8, "Sep": 9, "Oct": 10, "Nov": 11, "Dec": 12,
}

// readTime reads 02/Jan/2006:15:04:05 -0700; 0 for what is otherwise.
func readTime(text []byte) int64 {
	if len(text) != 26 || text[2] != '/' || text[6] != '/' || text[11] != ':' || text[14] != ':' || text[17] != ':' {
		if t, err := time.Parse(time.RFC3339, string(text)); err == nil {
			return t.Unix()
		}
		return 0
	}
	two := func(at int) int { return int(text[at]-'0')*10 + int(text[at+1]-'0') }
	month := months[string(text[3:6])]
	if month == 0 {
		return 0
	}
	for _, at := range [...]int{0, 1, 7, 8, 9, 10, 12, 13, 15, 16, 18, 19, 22, 23, 24, 25} {
		if text[at] < '0' || text[at] > '9' {
			return 0
		}
	}
	seconds := days(two(7)*100+two(9), month, two(0))*86400 + int64(two(12)*3600+two(15)*60+two(18))
	zone := int64(two(22)*3600 + two(24)*60)
	if text[21] == '-' {
		zone = -zone
	}
	return seconds - zone
}

// days counts days since 1970-01-01 in the Gregorian calendar, with years that begin in March.
func days(year, month, day int) int64 {
	if month <= 2 {
		year--
		month += 12
	}
	era := year / 400
	of := year - era*400
	inYear := (153*(month-3)+2)/5 + day - 1
	return int64(era*146097 + of*365 + of/4 - of/100 + inYear - 719468)
}

// readJSON reads an object with named fields, also one within it that describes the request.
func readJSON(text []byte, r *Record) error {
	s := scanner{text: text}
	if err := s.object(r, ""); err != nil {
		return errShape
	}
	if len(r.Method) == 0 && len(r.Target) == 0 || len(r.Target) == 0 {
		return errTarget
	}
	if len(r.Method) == 0 {
		r.Method = []byte("GET")
	}
	return nil
}

// A scanner reads JSON once, without making more of it than is asked for.
type scanner struct {
	text []byte
	at   int
}

var errJSON = errors.New("malformed")

func (s *scanner) space() {
	for s.at < len(s.text) && (s.text[s.at] == ' ' || s.text[s.at] == '\t') {
		s.at++
	}
}

// object reads an object, and takes from its fields what a Record has.
func (s *scanner) object(r *Record, within string) error {
	if s.at >= len(s.text) || s.text[s.at] != '{' {
		return errJSON
	}
	s.at++
	for first := true; ; first = false {
		s.space()
		if s.at < len(s.text) && s.text[s.at] == '}' && first {
			s.at++
			return nil
		}
		name, err := s.quoted()
		if err != nil {
			return err
		}
		s.space()
		if s.at >= len(s.text) || s.text[s.at] != ':' {
			return errJSON
		}
		s.at++
		s.space()
		if s.at < len(s.text) && s.text[s.at] == '{' && within == "" &&
			(string(name) == "request" || string(name) == "httpRequest" || string(name) == "http") {
			if err := s.object(r, string(name)); err != nil {
				return err
			}
		} else {
			value, err := s.value()
			if err != nil {
				return err
			}
			if err := r.field(name, value); err != nil {
				return err
			}
		}
		s.space()
		if s.at >= len(s.text) {
			return errJSON
		}
		switch s.text[s.at] {
		case ',':
			s.at++
		case '}':
			s.at++
			return nil
		default:
			return errJSON
		}
	}
}

// quoted reads a string, and decodes it if it has escapes.
func (s *scanner) quoted() ([]byte, error) {
	if s.at >= len(s.text) || s.text[s.at] != '"' {
		return nil, errJSON
	}
	end := quoteEnd(s.text[s.at+1:])
	if end < 0 {
		return nil, errJSON
	}
	raw := s.text[s.at : s.at+end+2]
	s.at += end + 2
	if bytes.IndexByte(raw, '\\') >= 0 {
		var text string
		if err := json.Unmarshal(raw, &text); err != nil {
			return nil, err
		}
		return []byte(text), nil
	}
	return raw[1 : len(raw)-1], nil
}

// value reads any value; what is no string, number or word is passed over.
func (s *scanner) value() ([]byte, error) {
	if s.at >= len(s.text) {
		return nil, errJSON
	}
	switch s.text[s.at] {
	case '"':
		return s.quoted()
	case '{', '[':
		depth := 0
		for s.at < len(s.text) {
			switch s.text[s.at] {
			case '{', '[':
				depth++
			case '}', ']':
				depth--
			case '"':
				if _, err := s.quoted(); err != nil {
					return nil, err
				}
				continue
			}
			s.at++
			if depth == 0 {
				return nil, nil
			}
		}
		return nil, errJSON
	}
	from := s.at
	for s.at < len(s.text) && !strings.ContainsRune(",}] \t", rune(s.text[s.at])) {
		s.at++
	}
	if from == s.at {
		return nil, errJSON
	}
	return s.text[from:s.at], nil
}

// field takes one field, by the names in common use.
func (r *Record) field(name, value []byte) error {
	if len(value) == 0 {
		return nil
	}
	switch string(name) {
	case "ts", "time", "timestamp", "time_local", "time_iso8601", "@timestamp", "msec", "date":
		if r.At == 0 {
			r.At = moment(value)
		}
	case "client", "client_ip", "remote_addr", "remote_ip", "clientip", "ip", "remote_host":
		if len(r.Client) == 0 || string(name) == "client_ip" {
			r.Client = value
		}
	case "account", "user", "user_id", "remote_user", "username":
		if len(r.User) == 0 {
			r.User = known(value)
		}
	case "method", "request_method", "verb", "http_method", "requestMethod":
		r.Method = value
	case "host", "http_host", "server_name", "vhost", "domain":
		if len(r.Host) == 0 || string(name) == "host" {
			r.Host = value
		}
	case "request":
		if bytes.IndexByte(value, ' ') > 0 {
			return r.request(value)
		}
	case "path", "uri", "request_uri", "url", "target", "requestUrl":
		if len(r.Target) == 0 || string(name) == "request_uri" {
			return r.target(value)
		}
	case "status", "status_code", "response", "code":
		if n, ok := number(value); ok {
			r.Status = n
		}
	case "outcome":
		r.Outcome = value
	case "as":
		r.As = value
	}
	return nil
}

// moment reads seconds since 1970, or a date.
func moment(value []byte) int64 {
	if value[0] >= '0' && value[0] <= '9' && !bytes.ContainsAny(value, "-/:") {
		f, err := strconv.ParseFloat(string(value), 64)
		switch {
		case err != nil || math.IsInf(f, 0) || f < 0:
			return 0
		case f > 1e14:
			return int64(f / 1e6)
		case f > 1e11:
			return int64(f / 1e3)
		}
		return int64(f)
	}
	return readTime(value)
}
