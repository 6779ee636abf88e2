package elsewhere

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"golang.org/x/oauth2"

	"ostiarius/core/exact"
	"ostiarius/core/openid"
	"ostiarius/core/policy"
	"ostiarius/service/who/sessions"
	"ostiarius/service/who/signin"
)

// An Identity is who somebody is elsewhere, as a provider has just said and signed.
type Identity struct {
	Provider, Issuer, Subject string
	Session                   string // there; "" if it is not said
	Username, Name, Email     string
	Verified                  bool // the address, as the provider says, and the policy believes
	Roles                     []string
	Account                   int64 // whom it was linked for; 0 for nobody
	since                     time.Time
	mark                      int64 // of left, from before
}

// KnownAs is how people know it.
func (i *Identity) KnownAs() string {
	for _, text := range []string{i.Email, i.Username, i.Name, i.Subject} {
		if text != "" {
			if len(text) > 200 {
				text = strings.ToValidUTF8(text[:200], "")
			}
			return text
		}
	}
	return ""
}

// A Came is what it came to that somebody is back.
type Came struct {
	Purpose Purpose
	Next    string
	SignedIn
	Renewal *sessions.Renewal // of a proof
	// First is a token under which is kept who they are elsewhere, where no account here is known yet; "" for none.
	First string
}

// SignedIn is what a sign-in has led to.
type SignedIn = signin.SignedIn

// Back takes what a provider sent somebody back with, in the query of the address, under a name in the path of it. Session is the
// token of the session that the browser brings. The error is *signin.Second, signin.ErrDisabled, signin.ErrOver or one of this
// package's.
func (o *Providers) Back(ctx context.Context, name, token, session string, query url.Values, from sessions.Origin) (came Came, err error) {
	w, ok := o.take(token)
	d := policy.ElsewhereNamed(o.o.Book(), name)
	if d == nil {
		return came, ErrUnknown
	}
	state := query.Get("state")
	if !ok || w.Provider != name || w.Issuer != d.Issuer || len(query["state"]) != 1 ||
		subtle.ConstantTimeCompare([]byte(state), []byte(w.State)) != 1 {
		return came, o.failed(ctx, d, ErrLate, from,
			errors.New("somebody came back who was not sent there by this browser, or too late, or twice"))
	}
	came.Purpose, came.Next = w.Purpose, w.Next
	p := o.provider(name)
	is, keys, err := p.described(ctx, d.Issuer)
	if err != nil {
		return came, o.failed(ctx, d, nil, from, err)
	}
	// RFC 9207, section 2.4: another provider's answer is not taken for this one's.
	if iss, says := query.Get("iss"), query.Has("iss"); says && iss != d.Issuer || !says && is.NamesIssuer || len(query["iss"]) > 1 {
		return came, o.failed(ctx, d, ErrUntrue, from, fmt.Errorf("the answer is another provider's (iss %q)", iss))
	}
	if problem := query.Get("error"); problem != "" {
		return came, o.failed(ctx, d, ErrRefused, from, fmt.Errorf("the provider says %q", safe(problem)))
	}
	mark := o.left.mark()
	identity, err := o.identify(ctx, p, d, is, keys, w, query.Get("code"))
	if err != nil {
		return came, o.failed(ctx, d, ErrUntrue, from, err)
	}
	identity.mark = mark
	return o.arrived(ctx, d, w, identity, session, from, came)
}

// identify exchanges a code for who somebody is.
func (o *Providers) identify(ctx context.Context, p *provider, d *policy.DeclaredElsewhere, is openid.Provider,
	keys []jose.JSONWebKey, w way, code string) (*Identity, error) {
	if code == "" {
		return nil, errors.New("there is no code")
	}
	asked := context.WithValue(ctx, oauth2.HTTPClient, o.o.client)
	t, err := p.config(d, is, w.Back).Exchange(asked, code, oauth2.VerifierOption(w.Verifier))
	if err != nil {
		var said *oauth2.RetrieveError
		if errors.As(err, &said) {
			return nil, fmt.Errorf("the provider did not take the code: %s %q", said.Response.Status, safe(said.ErrorCode))
		}
		return nil, errUnreachable{withoutAddress(err)}
	}
	raw, _ := t.Extra("id_token").(string)
	e := openid.Expected{Issuer: d.Issuer, Client: d.Client, Nonce: w.Nonce, Now: o.o.Now(), AccessToken: t.AccessToken}
	if w.Purpose == ToProve {
		e.Since = w.Since
	}
	claims, err := openid.ReadIDToken(raw, keys, e)
	if errors.Is(err, openid.ErrKey) { // it may have others by now
		if keys, err = p.freshKeys(ctx); err == nil {
			claims, err = openid.ReadIDToken(raw, keys, e)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the ID token: %w", err)
	}
	o.userinfo(ctx, p, d, is, t.AccessToken, &claims)
	return &Identity{
		Provider: d.Name, Issuer: d.Issuer, Subject: claims.Subject, Session: claims.Session, Username: claims.Username,
		Name: claims.Name, Email: claims.Email,
		Verified: claims.Verified && claims.Email != "" && d.TrustsAddress, Roles: d.Roles(claims.All), since: o.o.Now(),
	}, nil
}

// userinfo adds what the provider says at another address, where the token does not have what is asked for (Core, section 5.3).
// What the token says counts before it.
func (o *Providers) userinfo(ctx context.Context, p *provider, d *policy.DeclaredElsewhere, is openid.Provider, token string,
	claims *openid.Claims) {
	lacks := claims.Email == "" || slices.ContainsFunc(d.Grants, func(g policy.ClaimGrant) bool { _, has := claims.All[g.Claim]; return !has })
	if is.Userinfo == "" || !lacks {
		return
	}
	text, err := p.get(ctx, is.Userinfo, token)
	if err != nil {
		return
	}
	var more map[string]any
	if exact.Unmarshal(text, &more) != nil || more["sub"] != claims.Subject { // Core, section 5.3.2
		return
	}
	for name, value := range more {
		if _, has := claims.All[name]; !has {
			claims.All[name] = value
		}
	}
	if email, ok := more["email"].(string); ok && claims.Email == "" {
		verified, _ := more["email_verified"].(bool)
		claims.Email, claims.Verified = email, verified
	}
	if username, ok := more["preferred_username"].(string); ok && claims.Username == "" {
		claims.Username = username
	}
}
