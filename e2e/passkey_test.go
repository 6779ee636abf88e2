package e2e

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
)

// authenticator gives a tab an authenticator of its own, as a device has one.
func authenticator(ctx context.Context, t *testing.T) webauthn.AuthenticatorID {
	t.Helper()
	id, err := chromedp.Run(ctx, func(ctx context.Context, target *chromedp.Target) (webauthn.AuthenticatorID, error) {
		if _, err := cdp.Call(ctx, target, webauthn.Enable, webauthn.EnableParams{}); err != nil {
			return "", err
		}
		made, err := cdp.Call(ctx, target, webauthn.AddVirtualAuthenticator,
			webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{
				Protocol: webauthn.AuthenticatorProtocolCtap2, Ctap2version: webauthn.Ctap2versionCtap21,
				Transport:      webauthn.AuthenticatorTransportInternal,
				HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true,
			}})
		return made.AuthenticatorID, err
	})
	if err != nil {
		t.Fatal(err)
	}
	return id
}

const vault = `site: Marram
roles: { keeper: }
sources: [ { path: /, files: ./site } ]
doors:
  - { path: /, admit: public }
  - { path: /vault/**, admit: { role: keeper, factor: passkey } }
  - { path: /books/**, admit: { role: keeper, factor: two, proof-within: 10m } }
`

func vaultSite(t *testing.T) *Process {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{
		"doors.yaml": vault, "site/index.html": "first", "site/vault/index.html": "the vault", "site/books/index.html": "the books",
	} {
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	s := start(t, dir)
	s.URL = strings.Replace(s.URL, "127.0.0.1", "localhost", 1)
	for _, name := range []string{"ines", "walt"} {
		if code, _, wrong := run(t, ines, "people", "add", name, "--role", "keeper", "--password-stdin", "--data", s.Data); code != 0 {
			t.Fatal(wrong)
		}
	}
	return s
}

// The road of a passkey in a browser: a door asks for one, it is set up, opens, signs in by itself, and is refused as a copy and at
// another site.
func TestPasskeyRoad(t *testing.T) {
	t.Parallel()
	s, ctx := vaultSite(t), tab(t)
	device := authenticator(ctx, t)
	do := func(actions ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		do(ctx, t, actions...)
	}
	says := func(want string) {
		t.Helper()
		do(chromedp.WaitReady("body"))
		text, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.body.innerText`))
		if err != nil || !strings.Contains(text, want) {
			t.Fatalf("the page does not say %q: %s %v", want, text, err)
		}
	}
	do(SignIn(s.URL, "ines", ines), chromedp.Navigate(s.URL+"/vault/"))
	at(ctx, t, s.URL+"/door/account/factors?needed=passkey&next=%2Fvault%2F")
	says("needs a passkey. You have none yet")
	accessible(ctx, t, "factors")
	do(chromedp.Click("form[data-passkey=make] button"), chromedp.WaitVisible("ol.kept"))
	accessible(ctx, t, "codes to keep")
	do(chromedp.Click(".ways a"))
	// Made is not yet shown: the door asks for it.
	do(chromedp.WaitVisible("form[data-passkey=use] button"))
	at(ctx, t, s.URL+"/door/prove-again?factor=passkey&next=%2Fvault%2F")
	accessible(ctx, t, "prove-again")
	do(chromedp.Click("form[data-passkey=use] button"), chromedp.WaitNotPresent("form[data-passkey]"))
	says("the vault")

	// Without a name, from the sign-in page. The browser of this test chooses a passkey by itself where a field offers one.
	do(chromedp.Navigate(s.URL+"/door/sign-out"), chromedp.Submit("main form"), chromedp.WaitNotPresent("main form"),
		chromedp.Navigate(s.URL+"/books/"))
	do(chromedp.WaitNotPresent("#username"))
	// The passkey is one proof; the books want two: the password is the other.
	at(ctx, t, s.URL+"/door/prove-again?factor=two&within=10m&next=%2Fbooks%2F")
	do(chromedp.SetValue("#password", ines), chromedp.Submit("#password"), chromedp.WaitNotPresent("#password"))
	says("the books")
	who := newPerson(t, s.URL)
	if a := who.signIn("ines", ines, ""); a.location != "/door/sign-in/second?next=" {
		t.Errorf("the password alone leads to %d %q", a.status, a.location)
	}

	// A copy with a count that is behind does not open.
	if err := chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		held, err := cdp.Call(ctx, target, webauthn.GetCredentials, webauthn.GetCredentialsParams{AuthenticatorID: device})
		if err != nil {
			return err
		}
		if _, err := cdp.Call(ctx, target, webauthn.ClearCredentials, webauthn.ClearCredentialsParams{AuthenticatorID: device}); err != nil {
			return err
		}
		// With the fields that this browser knows, and no more.
		was, add := held.Credentials[0], cdp.Command[map[string]any, cdp.Empty]{Method: webauthn.CommandAddCredential}
		_, err = cdp.Call(ctx, target, add, map[string]any{"authenticatorId": device, "credential": map[string]any{
			"credentialId": was.CredentialID, "isResidentCredential": true, "rpId": was.RpID, "privateKey": was.PrivateKey,
			"userHandle": was.UserHandle, "signCount": 0,
		}})
		return err
	})); err != nil {
		t.Fatal(err)
	}
	do(chromedp.Navigate(s.URL+"/door/sign-out"), chromedp.Submit("main form"), chromedp.WaitNotPresent("main form"),
		chromedp.Navigate(s.URL+"/vault/"), chromedp.WaitVisible("#problem"))
	says("This passkey does not belong to an account here")
	if _, out, _ := run(t, "", "activity", "--data", s.Data, "-o", "json"); !strings.Contains(out, `"passkey copied"`) {
		t.Errorf("no steward can see that: %s", out)
	}

	// At another address of the same service it is another site's.
	other := strings.Replace(s.URL, "localhost", "127.0.0.1", 1)
	do(chromedp.Navigate(other + "/door/sign-in"))
	if there, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`document.querySelector("[data-passkey]") !== null`)); err != nil || there {
		t.Errorf("a passkey is asked for where there are none (%v)", err)
	}
}
