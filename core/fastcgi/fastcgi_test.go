package fastcgi

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"maps"
	"strings"
	"testing"
)

// request writes a request as web servers do, in records of some bytes.
func request(role byte, size int, pairs ...string) []byte {
	var text []byte
	for i := 0; i < len(pairs); i += 2 {
		for _, s := range pairs[i : i+2] {
			if len(s) < 128 {
				text = append(text, byte(len(s)))
			} else {
				text = binary.BigEndian.AppendUint32(text, uint32(len(s))|0x80000000)
			}
		}
		text = append(text, pairs[i]+pairs[i+1]...)
	}
	b := []byte{1, 1, 0, 7, 0, 8, 0, 0, 0, role, 0, 0, 0, 0, 0, 0}
	for len(text) > 0 {
		n := min(size, len(text))
		b = append(b, 1, 4, 0, 7, byte(n>>8), byte(n), 3, 0)
		b = append(append(b, text[:n]...), 0, 0, 0)
		text = text[n:]
	}
	return append(b, 1, 4, 0, 7, 0, 0, 0, 0)
}

func TestRead(t *testing.T) {
	long := strings.Repeat("x", 300)
	for _, size := range []int{1, 7, 1000} {
		got, err := Read(bytes.NewReader(request(2, size, "REQUEST_METHOD", "GET", "HTTP_COOKIE", long, long, "", "", "")))
		want := map[string]string{"REQUEST_METHOD": "GET", "HTTP_COOKIE": long, long: "", "": ""}
		if err != nil || got.ID != 7 || !maps.Equal(got.Params, want) {
			t.Errorf("%d: %+v %v", size, got, err)
		}
	}
	whole := request(2, 1000, "A", "b")
	for name, bad := range map[string][]byte{
		"another role": request(1, 1000, "A", "b"), "twice": request(2, 1000, "A", "b", "A", "c"), "no beginning": whole[16:],
		"another version": append([]byte{2}, whole[1:]...), "given up": append(bytes.Clone(whole[:16]), 1, 2, 0, 7, 0, 0, 0, 0),
		"another request": append(bytes.Clone(whole[:16]), 1, 4, 0, 8, 0, 0, 0, 0), "two beginnings": append(bytes.Clone(whole[:16]), whole...),
		"too much":               request(2, 60000, "A", strings.Repeat("x", MostParams)),
		"a pair that breaks off": append(bytes.Clone(whole[:16]), 1, 4, 0, 7, 0, 2, 0, 0, 1, 9, 1, 4, 0, 7, 0, 0, 0, 0),
	} {
		if got, err := Read(bytes.NewReader(bad)); err == nil {
			t.Errorf("%s is read: %+v", name, got)
		}
	}
	for n := range whole {
		_, err := Read(bytes.NewReader(whole[:n]))
		if want := map[bool]error{true: io.EOF, false: io.ErrUnexpectedEOF}[n == 0]; n != 16 && err == nil || n == 0 && !errors.Is(err, want) {
			t.Errorf("%d bytes of %d: %v", n, len(whole), err)
		}
	}
}

func TestAnswer(t *testing.T) {
	for _, size := range []int{0, 1, 0xffff, 0x10000, 200_000} {
		text := bytes.Repeat([]byte("a"), size)
		var got []byte
		ended := false
		for b := (&Request{ID: 0x102}).Answer(text); len(b) > 0; {
			n := int(binary.BigEndian.Uint16(b[4:]))
			if ended || b[0] != 1 || b[2] != 1 || b[3] != 2 {
				t.Fatalf("%d: %v", size, b[:8])
			}
			ended = b[1] == endRequest
			if b[1] == stdout {
				got = append(got, b[8:8+n]...)
			}
			b = b[8+n:]
		}
		if !ended || !bytes.Equal(got, text) {
			t.Errorf("%d: %d bytes, ended %t", size, len(got), ended)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(request(2, 1000, "REQUEST_METHOD", "GET", "REQUEST_URI", "/"))
	f.Add(request(2, 3, "A", strings.Repeat("x", 200)))
	f.Add([]byte{1, 1, 0, 7, 0, 8, 0, 0, 0, 2, 0, 0, 0, 0, 0, 0, 1, 4, 0, 7, 0, 4, 0, 0, 255, 255, 255, 255, 1, 4, 0, 7, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		got, err := Read(bytes.NewReader(b))
		if err != nil {
			return
		}
		size := 0
		for name, value := range got.Params {
			size += len(name) + len(value)
		}
		if size > len(b) || size > MostParams {
			t.Fatalf("%d bytes came, and %d were read", len(b), size)
		}
	})
}
