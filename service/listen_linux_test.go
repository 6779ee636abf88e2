package service

import (
	"errors"
	"net"
	"syscall"
	"testing"
	"time"
)

// Somebody who asks and does not read is hung up on.
func TestAnswersThatNobodyTakes(t *testing.T) {
	l, err := listen(nil, "127.0.0.1:0", 500*time.Millisecond)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	client, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	conn, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(30 * time.Second))
	for block := make([]byte, 1<<16); err == nil; {
		_, err = conn.Write(block)
	}
	if !errors.Is(err, syscall.ETIMEDOUT) {
		t.Errorf("writing ended with %v", err)
	}
}
