package signature

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	foreign "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// What another implementation of the specification signs is believed here, and what is signed here is believed there.
func TestAnotherImplementation(t *testing.T) {
	secret, body, now := NewSecret(), []byte(`{"type":"paid","order":"ö1"}`), time.Now()
	theirs, err := foreign.NewWebhook(secret.Text())
	if err != nil {
		t.Fatal(err)
	}
	signed, err := theirs.Sign("msg_1", now, body)
	if err != nil {
		t.Fatal(err)
	}
	if err := Check([]Secret{secret}, Head{"msg_1", fmt.Sprint(now.Unix()), signed}, body, now); err != nil {
		t.Errorf("theirs, here: %v", err)
	}
	h := http.Header{}
	h.Set(ID, "msg_1")
	h.Set(Timestamp, fmt.Sprint(now.Unix()))
	h.Set(Signature, secret.Sign("msg_1", now, body))
	if err := theirs.Verify(body, h); err != nil {
		t.Errorf("ours, there: %v", err)
	}
	h.Set(Signature, NewSecret().Sign("msg_1", now, body))
	if theirs.Verify(body, h) == nil {
		t.Error("there everything is believed")
	}
}
