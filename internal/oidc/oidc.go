// Package oidc has a provider elsewhere say who somebody is: OpenID Connect Core 1.0 by the
// authorization code flow (3.1) with PKCE (RFC 7636), a state and a nonce.
//
//	p, err := oidc.New(oidc.Options{Issuer: "https://id.northquay.example", Client: "woodlark", Secret: secret})
//	to, kept, err := p.Begin(ctx, redirect)
//	who, err := p.End(ctx, redirect, code, state, kept)
package oidc

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// Claims by which somebody is found who comes for the first time.
const (
	ByEmail    = "email" // that the provider says is verified
	ByUsername = "preferred_username"
)

// Options of a provider.
type Options struct {
	Issuer, Client, Secret string
	Claim                  string // ByEmail when empty
	Title                  string // what people call it; its host when empty
}

var (
	// ErrAway is wrapped when the provider does not answer.
	ErrAway = errors.New("the sign-in elsewhere does not answer")
	// ErrNotSaid is wrapped when the provider does not say who it is, or it was not asked.
	ErrNotSaid = errors.New("the sign-in elsewhere did not say who you are")
)

// Provider is one. It is safe for concurrent use.
type Provider struct {
	o    Options
	http *http.Client

	mu    sync.Mutex
	found *oidc.Provider
}

// New looks at the options; the provider is asked at the first sign-in.
func New(o Options) (*Provider, error) {
	u, err := url.Parse(o.Issuer)
	if err != nil || u.Host == "" || u.RawQuery != "" || u.Fragment != "" {
		return nil, fmt.Errorf("oidc-issuer: %q is not like https://id.northquay.example", o.Issuer)
	}
	if ip := net.ParseIP(u.Hostname()); u.Scheme != "https" && !(u.Scheme == "http" && (u.Hostname() == "localhost" || ip != nil && ip.IsLoopback())) {
		return nil, fmt.Errorf("oidc-issuer: %q has to be https, but on this machine", o.Issuer)
	}
	if o.Client == "" {
		return nil, errors.New("oidc-issuer needs oidc-client: the name that the provider knows this service by")
	}
	if o.Claim == "" {
		o.Claim = ByEmail
	}
	if o.Claim != ByEmail && o.Claim != ByUsername {
		return nil, fmt.Errorf("oidc-claim: %q is neither %s nor %s", o.Claim, ByEmail, ByUsername)
	}
	if o.Title == "" {
		o.Title = u.Hostname()
	}
	return &Provider{o: o, http: &http.Client{Timeout: 15 * time.Second}}, nil
}

// Title is what people call the provider.
func (p *Provider) Title() string { return p.o.Title }

// provider is what the issuer says of itself (OpenID Connect Discovery 1.0), asked until it is known.
func (p *Provider) provider(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found != nil {
		return p.found, nil
	}
	// Its keys are fetched later, too: by a context that lasts.
	found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), p.http), p.o.Issuer)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrAway, err)
	}
	p.found = found
	return found, nil
}

func (p *Provider) config(found *oidc.Provider, redirect string) oauth2.Config {
	scopes := []string{oidc.ScopeOpenID, "profile"}
	if p.o.Claim == ByEmail {
		scopes = append(scopes, "email")
	}
	return oauth2.Config{ClientID: p.o.Client, ClientSecret: p.o.Secret, Endpoint: found.Endpoint(), RedirectURL: redirect, Scopes: scopes}
}

// Kept is what the browser keeps from Begin to End, where pages do not see it.
type Kept struct {
	State    string `json:"state"`
	Nonce    string `json:"nonce"`
	Verifier string `json:"verifier"`
	To       string `json:"to"` // where somebody wanted to go
}

// Begin is where somebody is sent to, to come back to redirect. The error wraps ErrAway.
func (p *Provider) Begin(ctx context.Context, redirect string) (to string, kept Kept, err error) {
	found, err := p.provider(ctx)
	if err != nil {
		return "", kept, err
	}
	kept = Kept{State: chance(), Nonce: chance(), Verifier: oauth2.GenerateVerifier()}
	c := p.config(found, redirect)
	return c.AuthCodeURL(kept.State, oidc.Nonce(kept.Nonce), oauth2.S256ChallengeOption(kept.Verifier)), kept, nil
}

func chance() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// Who is whom the provider says.
type Who struct {
	Subject  string // the issuer and its own name of them: it stays the same
	Name     string // by the claim, in small letters; empty when there is none that counts
	FullName string
}

// End is who came back with a code and a state. The error wraps ErrNotSaid or ErrAway.
func (p *Provider) End(ctx context.Context, redirect, code, state string, kept Kept) (who Who, err error) {
	if kept.State == "" || subtle.ConstantTimeCompare([]byte(state), []byte(kept.State)) != 1 {
		return who, fmt.Errorf("%w: this answer belongs to another sign-in; begin anew", ErrNotSaid)
	}
	found, err := p.provider(ctx)
	if err != nil {
		return who, err
	}
	ctx = oidc.ClientContext(ctx, p.http)
	c := p.config(found, redirect)
	token, err := c.Exchange(ctx, code, oauth2.VerifierOption(kept.Verifier))
	var refused *oauth2.RetrieveError
	switch {
	case errors.As(err, &refused):
		return who, fmt.Errorf("%w: it refused the code (%s)", ErrNotSaid, refused.ErrorCode)
	case err != nil:
		return who, fmt.Errorf("%w: %w", ErrAway, err)
	}
	raw, _ := token.Extra("id_token").(string)
	said, err := found.Verifier(&oidc.Config{ClientID: p.o.Client}).Verify(ctx, raw)
	if err != nil {
		return who, fmt.Errorf("%w: %w", ErrNotSaid, err)
	}
	if subtle.ConstantTimeCompare([]byte(said.Nonce), []byte(kept.Nonce)) != 1 {
		return who, fmt.Errorf("%w: its answer was for another sign-in", ErrNotSaid)
	}
	type claims struct {
		Username string `json:"preferred_username"`
		Email    string `json:"email"`
		Verified bool   `json:"email_verified"`
		Name     string `json:"name"`
	}
	var x claims
	if err := said.Claims(&x); err != nil {
		return who, fmt.Errorf("%w: %w", ErrNotSaid, err)
	}
	if x.Username == "" && x.Email == "" { // some say it only when they are asked (5.3)
		info, err := found.UserInfo(ctx, oauth2.StaticTokenSource(token))
		if err == nil && info.Subject == said.Subject {
			err = info.Claims(&x)
		}
		if err != nil {
			return who, fmt.Errorf("%w: %w", ErrNotSaid, err)
		}
	}
	who = Who{Subject: said.Issuer + " " + said.Subject, FullName: x.Name}
	switch {
	case p.o.Claim == ByUsername:
		who.Name = strings.ToLower(x.Username)
	case x.Verified:
		who.Name = strings.ToLower(x.Email)
	}
	return who, nil
}
