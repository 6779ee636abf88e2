package site

import (
	"strconv"
	"strings"
)

// ReadLogLine reads a line of an access log in the Common or the Combined Log Format, which most web servers
// write: client, two names, a time in brackets, the request in quotes, the status. It returns the method and the
// target of the request as they were received, and the status; and false for a line that is none.
//
// What stands in the quotes was chosen by whoever asked. Servers write quotes and control characters in it with a
// backslash, as \" and \x1b; a target with one is returned as it was sent.
func ReadLogLine(line string) (method, target string, status int, ok bool) {
	_, rest, ok := strings.Cut(line, "] \"")
	if !ok {
		return "", "", 0, false
	}
	var request strings.Builder
	i := 0
	for ; i < len(rest) && rest[i] != '"'; i++ {
		if rest[i] != '\\' || i+1 == len(rest) {
			request.WriteByte(rest[i])
			continue
		}
		i++
		if rest[i] == 'x' && i+2 < len(rest) {
			if c, err := strconv.ParseUint(rest[i+1:i+3], 16, 8); err == nil {
				request.WriteByte(byte(c))
				i += 2
				continue
			}
		}
		request.WriteByte(rest[i])
	}
	words := strings.Split(request.String(), " ")
	after := strings.Fields(strings.TrimPrefix(rest[min(i, len(rest)):], "\""))
	if i == len(rest) || len(words) < 2 || len(words) > 3 || len(after) == 0 {
		return "", "", 0, false
	}
	status, err := strconv.Atoi(after[0])
	if err != nil || status < 100 || status > 599 {
		return "", "", 0, false
	}
	return words[0], words[1], status, true
}
