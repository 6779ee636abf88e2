package service

import (
	"bytes"
	"crypto/tls"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// A client of HTTP/2 that takes nothing of one answer, on a connection that is alive, loses that stream and no other.
func TestStreamsThatTakeNothing(t *testing.T) {
	was := streamUntaken
	streamUntaken = 300 * time.Millisecond
	defer func() { streamUntaken = was }()
	ended := make(chan error, 1)
	s := httptest.NewUnstartedServer(onlyClear(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/small" {
			return
		}
		var err error
		for range 1000 {
			if _, err = w.Write(make([]byte, 64<<10)); err != nil {
				break
			}
		}
		ended <- err
	})))
	s.EnableHTTP2 = true
	s.StartTLS()
	defer s.Close()
	c, err := tls.Dial("tcp", s.Listener.Addr().String(), &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"h2"}})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(30 * time.Second))
	io.WriteString(c, http2.ClientPreface)
	f := http2.NewFramer(c, c)
	f.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 1000})
	ask := func(stream uint32, path string) {
		var block bytes.Buffer
		encode := hpack.NewEncoder(&block)
		for _, field := range [][2]string{{":method", "GET"}, {":scheme", "https"}, {":authority", "marram.example"}, {":path", path}} {
			encode.WriteField(hpack.HeaderField{Name: field[0], Value: field[1]})
		}
		f.WriteHeaders(http2.HeadersFrameParam{StreamID: stream, BlockFragment: block.Bytes(), EndStream: true, EndHeaders: true})
	}
	ask(1, "/large")
	for reset := false; ; {
		frame, err := f.ReadFrame()
		if err != nil {
			t.Fatal(err)
		}
		switch frame := frame.(type) {
		case *http2.RSTStreamFrame:
			if reset = true; frame.StreamID != 1 {
				t.Fatalf("stream %d was ended", frame.StreamID)
			}
			ask(3, "/small")
		case *http2.HeadersFrame:
			if frame.StreamID == 3 {
				if !reset {
					t.Error("answered before")
				}
				if err := <-ended; err == nil || errors.Is(err, io.EOF) {
					t.Errorf("the handler was not told: %v", err)
				}
				return
			}
		case *http2.SettingsFrame:
			if !frame.IsAck() {
				f.WriteSettingsAck()
			}
		}
	}
}
