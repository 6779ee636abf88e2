package guard

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
	"time"
)

// A client is gone when it has closed its connection and what is still to come of the body can't have come yet.
func TestClientGone(t *testing.T) {
	type answer struct{ before, after, little, unknown bool }
	asked, closed, answers := make(chan bool), make(chan bool), make(chan answer)
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		const much = 10 << 20
		r.Body.Read(make([]byte, 1))
		a := answer{before: ClientGone(r, much)}
		asked <- true
		<-closed
		for end := time.Now().Add(10 * time.Second); !a.after && time.Now().Before(end); time.Sleep(time.Millisecond) {
			a.after = ClientGone(r, much)
		}
		a.little, a.unknown = ClientGone(r, 100), ClientGone(r, -1)
		answers <- a
	}))
	server.Config.ConnContext = ConnContext
	server.Start()
	defer server.Close()
	for how, end := range map[string]func(c *net.TCPConn){
		"half":  func(c *net.TCPConn) { c.CloseWrite() },
		"whole": func(c *net.TCPConn) { c.Close() },
		"reset": func(c *net.TCPConn) { c.SetLinger(0); c.Close() },
	} {
		conn, err := net.Dial("tcp", server.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(conn, "POST / HTTP/1.1\r\nHost: marram.example\r\nContent-Length: 10485760\r\n\r\nabc")
		<-asked
		end(conn.(*net.TCPConn))
		closed <- true
		a := <-answers
		conn.Close()
		lost := how == "reset" // nothing can be answered any more, whatever is still to come
		if a.before || !a.after || a.little != lost || a.unknown != lost {
			t.Errorf("%s: %+v", how, a)
		}
	}
	r := httptest.NewRequest("POST", "/", nil)
	if ClientGone(r, 1<<30) || ClientGone(r.WithContext(context.WithValue(t.Context(), peerKey{}, netip.Addr{})), 1<<30) {
		t.Error("a connection that is not known is gone")
	}
}
