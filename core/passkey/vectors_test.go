package passkey

import (
	"encoding/hex"
	"testing"
)

func unhex(t testing.TB, s string) []byte {
	t.Helper()
	raw, err := hex.DecodeString(s)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// Web Authentication Level 3, section 16.1 (test vectors): an ES256 credential without attestation. What the client says when it is
// made is cut short there, since the standard lets more fields follow; that it is read so is part of the test.
func TestVectorES256(t *testing.T) {
	made := Ceremony{
		Challenge: unhex(t, "00c30fb78531c464d2b6771dab8d7b603c01162f2fa486bea70f283ae556e130"), Origin: "https://example.org",
		Party: "example.org",
	}
	attestation := unhex(t, "a363666d74646e6f6e656761747453746d74a068617574684461746158a4bfabc37432958b063360d3ad6461c9c4735ae7f8edd465"+
		"92a5e0f01452b2e4b559000000008446ccb9ab1db374750b2367ff6f3a1f0020f91f391db4c9b2fde0ea70189cba3fb63f579ba6122b33ad94ff3ec330084be4a"+
		"5010203262001215820afefa16f97ca9b2d23eb86ccb64098d20db90856062eb249c33a9b672f26df61225820930a56b87a2fca66334b03458abf879717c12cc6"+
		"8ed73290af2e2664796b9220")
	credential, err := Register([]byte(`{"type":"webauthn.create","challenge":"AMMPt4UxxGTStncdq417YDwBFi8vpIa-pw8oOuVW4TA",`+
		`"origin":"https://example.org","crossOrigin":false,"extraData":"x"}`), attestation, made)
	if err != nil || hex.EncodeToString(credential.ID) != "f91f391db4c9b2fde0ea70189cba3fb63f579ba6122b33ad94ff3ec330084be4" {
		t.Fatalf("%x %v", credential.ID, err)
	}
	used := Ceremony{
		Challenge: unhex(t, "39c0e7521417ba54d43e8dc95174f423dee9bf3cd804ff6d65c857c9abf4d408"), Origin: "https://example.org",
		Party: "example.org",
	}
	client := unhex(t, "7b2274797065223a22776562617574686e2e676574222c226368616c6c656e6765223a224f63446e55685158756c5455506f334a5558543"+
		"049393770767a7a59425039745a63685879617630314167222c226f726967696e223a2268747470733a2f2f6578616d706c652e6f7267222c2263726f73734f72"+
		"6967696e223a66616c73657d")
	data := unhex(t, "bfabc37432958b063360d3ad6461c9c4735ae7f8edd46592a5e0f01452b2e4b51900000000")
	signature := unhex(t, "3046022100f50a4e2e4409249c4a853ba361282f09841df4dd4547a13a87780218deffcd380221008480ac0f0b93538174f575bf11a1"+
		"dd5d78c6e486013f937295ea13653e331e87")
	if _, err := Assert(client, data, signature, credential.Key, used); err != nil {
		t.Error(err)
	}
}
