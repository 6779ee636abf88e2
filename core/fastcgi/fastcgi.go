// Package fastcgi reads and writes what a FastCGI authorizer exchanges with a web server (FastCGI Specification 1.0, section 6.3):
// the parameters of a request, and an answer. There is one request for each connection, which is all that web servers ask of an
// authorizer.
package fastcgi

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// The types of records, and the role (sections 8 and 6).
const (
	beginRequest = 1
	abortRequest = 2
	endRequest   = 3
	params       = 4
	stdout       = 6

	version    = 1
	authorizer = 2
)

// MostParams is how many bytes the parameters of a request have at most.
const MostParams = 128 << 10

// A Request is what a web server asks about: its parameters, as CGI names them.
type Request struct {
	ID     uint16
	Params map[string]string
}

// Read reads a request. The error is io.EOF if the connection ends before one begins.
func Read(r io.Reader) (*Request, error) {
	req := &Request{Params: map[string]string{}}
	begun := false
	var text []byte
	for {
		var head [8]byte
		if _, err := io.ReadFull(r, head[:]); err != nil {
			if begun && errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return nil, err
		}
		id := binary.BigEndian.Uint16(head[2:])
		content := make([]byte, int(binary.BigEndian.Uint16(head[4:]))+int(head[6]))
		if _, err := io.ReadFull(r, content); err != nil {
			return nil, io.ErrUnexpectedEOF
		}
		content = content[:len(content)-int(head[6])]
		switch {
		case head[0] != version:
			return nil, fmt.Errorf("a record of version %d, and not of FastCGI 1", head[0])
		case head[1] == beginRequest && !begun:
			if len(content) < 8 || binary.BigEndian.Uint16(content) != authorizer || id == 0 {
				return nil, errors.New("the web server asks for another role than that of an authorizer")
			}
			begun, req.ID = true, id
		case !begun || id != req.ID || head[1] == beginRequest:
			return nil, errors.New("a record of another request; there is one for each connection")
		case head[1] == abortRequest:
			return nil, errors.New("the web server has given up")
		case head[1] == params && len(content) > 0:
			if text = append(text, content...); len(text) > MostParams {
				return nil, fmt.Errorf("the parameters have more than %d bytes", MostParams)
			}
		case head[1] == params:
			return req, pairs(text, req.Params)
		}
	}
}

// pairs reads names and values (section 3.4). A name that comes twice is an error, since another program could take the other value.
func pairs(text []byte, into map[string]string) error {
	for len(text) > 0 {
		var sizes [2]int
		for i := range sizes {
			switch {
			case len(text) > 0 && text[0] < 128:
				sizes[i], text = int(text[0]), text[1:]
			case len(text) >= 4:
				sizes[i], text = int(binary.BigEndian.Uint32(text)&0x7fffffff), text[4:]
			default:
				return errors.New("a parameter breaks off")
			}
		}
		if len(text) < sizes[0]+sizes[1] {
			return errors.New("a parameter breaks off")
		}
		name := string(text[:sizes[0]])
		if _, twice := into[name]; twice {
			return fmt.Errorf("the parameter %q comes twice", name)
		}
		into[name], text = string(text[sizes[0]:sizes[0]+sizes[1]]), text[sizes[0]+sizes[1]:]
	}
	return nil
}

// Answer returns the records of an answer, which is a header and a body as CGI has them, and the end of the request.
func (r *Request) Answer(answer []byte) []byte {
	var b []byte
	record := func(kind byte, content []byte) {
		b = append(b, version, kind, byte(r.ID>>8), byte(r.ID), byte(len(content)>>8), byte(len(content)), 0, 0)
		b = append(b, content...)
	}
	for len(answer) > 0 {
		n := min(len(answer), 0xffff)
		record(stdout, answer[:n])
		answer = answer[n:]
	}
	record(stdout, nil)
	record(endRequest, make([]byte, 8))
	return b
}
