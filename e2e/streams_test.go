package e2e

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// stalled asks for a path on so many streams of one connection and takes nothing of the answers. It returns how many
// were answered with what status.
func stalled(t *testing.T, address, path string, streams int) map[string]int {
	t.Helper()
	conn, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"h2"}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	conn.SetDeadline(time.Now().Add(20 * time.Second))
	io.WriteString(conn, http2.ClientPreface)
	framer := http2.NewFramer(conn, conn)
	framer.ReadMetaHeaders = hpack.NewDecoder(4096, nil)
	framer.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 0})
	var text bytes.Buffer
	encoder := hpack.NewEncoder(&text)
	for i := range streams {
		text.Reset()
		for _, f := range [][2]string{{":method", "GET"}, {":scheme", "https"}, {":authority", "marram.example"}, {":path", path}} {
			encoder.WriteField(hpack.HeaderField{Name: f[0], Value: f[1]})
		}
		framer.WriteHeaders(http2.HeadersFrameParam{StreamID: uint32(2*i + 1), BlockFragment: text.Bytes(), EndHeaders: true, EndStream: true})
	}
	answered := map[string]int{}
	for n := 0; n < streams; {
		frame, err := framer.ReadFrame()
		if err != nil {
			t.Fatalf("%v after %v", err, answered)
		}
		switch f := frame.(type) {
		case *http2.SettingsFrame:
			if !f.IsAck() {
				framer.WriteSettingsAck()
			}
		case *http2.MetaHeadersFrame:
			answered[f.PseudoValue("status")]++
			n++
		case *http2.RSTStreamFrame:
			answered["reset"]++
			n++
		}
	}
	return answered
}

// Requests of HTTP/2 that nobody takes the answers of hold no files, and those of one network leave room for others.
func TestStalledStreams(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write(t, dir, "site/big.bin", strings.Repeat("fog ", 100_000))
	write(t, dir, "site/page.txt", strings.Repeat("fog ", 5_000))
	write(t, dir, "doors.yaml", "sources: [{path: /, files: ./site}]\ndoors: [{path: /**, admit: public}]\n")
	cert, key := certificate(t, dir)
	s := start(t, dir, "--tls-cert", cert, "--tls-key", key, "--connections", "80")
	address := strings.TrimPrefix(s.URL, "https://")
	all := map[string]int{}
	for i := range 5 {
		for status, n := range stalled(t, address, []string{"/big.bin", "/page.txt"}[i%2], 30) {
			all[status] += n
		}
	}
	if all["200"] != 20 || all["503"] != 130 {
		t.Errorf("answered: %v; one network has 20 of 80", all)
	}
	files, err := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", s.Pid()))
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		if to, _ := os.Readlink(file); strings.HasPrefix(to, filepath.Join(dir, "site")+"/") {
			t.Errorf("a stalled stream holds %s open", to)
		}
	}
	// Others get in, and get the whole file.
	dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 3)}}
	client := &http.Client{Transport: &http.Transport{DialContext: dialer.DialContext, ForceAttemptHTTP2: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	defer client.CloseIdleConnections()
	for path, size := range map[string]int{"/big.bin": 400_000, "/page.txt": 20_000} {
		resp, err := client.Get("https://" + address + path)
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if err != nil || resp.ProtoMajor != 2 || resp.StatusCode != 200 || len(body) != size || resp.ContentLength != int64(size) ||
			strings.Trim(string(body), "fog ") != "" {
			t.Errorf("another network: %s: %d, %d bytes, %v", path, resp.StatusCode, len(body), err)
		}
	}
}
