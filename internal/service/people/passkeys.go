package people

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/store"
)

// ByPasskey is by a key that somebody's device holds (Web Authentication, level 2).
const ByPasskey Way = "passkey"

// ErrNoPasskey is wrapped when a passkey does not let anybody in, whatever is wrong.
var ErrNoPasskey = fmt.Errorf("%w: that passkey is none of anybody's here", ErrNotIn)

const (
	askedFor  = 5 * time.Minute // that a device may take to answer
	mostAsked = 1000
	mostOwn   = 20 // passkeys of a person
)

// Passkey is what is kept of one.
type Passkey struct {
	ID        ident.ID
	Person    ident.ID
	Title     string
	Host      string // that it is good for
	CreatedAt time.Time
	UsedAt    *time.Time
}

// asked is what a device was asked, and has not answered yet.
type asked struct {
	data   webauthn.SessionData
	person ident.ID // who adds one; zero where somebody signs in
	origin string
	until  time.Time
}

// partyOf is this service as devices know it: by the name in its address, which holds for all ports.
func partyOf(origin string) (*webauthn.WebAuthn, string, error) {
	u, err := url.Parse(origin)
	if err != nil || u.Host == "" {
		return nil, "", fmt.Errorf("%w: %q is no address of a console", kind.ErrInvalid, kind.Shorten(origin))
	}
	host := u.Hostname()
	if net.ParseIP(host) != nil {
		return nil, "", fmt.Errorf("%w: a passkey is for a name, not for the address %s: reach the console by its name (or as localhost, on its own machine), or sign in by passphrase", kind.ErrInvalid, host)
	}
	w, err := webauthn.New(&webauthn.Config{RPID: host, RPDisplayName: "Woodlark", RPOrigins: []string{origin},
		AuthenticatorSelection: protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired, UserVerification: protocol.VerificationRequired}})
	return w, host, err
}

// owner is a person as devices know them: by an identifier that says nothing of them.
type owner struct {
	p    store.Person
	have []webauthn.Credential
}

func (o owner) WebAuthnID() []byte                         { return o.p.ID[:] }
func (o owner) WebAuthnName() string                       { return o.p.Name }
func (o owner) WebAuthnCredentials() []webauthn.Credential { return o.have }
func (o owner) WebAuthnDisplayName() string {
	if o.p.FullName != "" {
		return o.p.FullName
	}
	return o.p.Name
}

func (x *People) ownerOf(id ident.ID) (o owner, is bool) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	if o.p, is = x.people[id]; !is || o.p.EndedAt != nil {
		return o, false
	}
	for _, k := range x.passkeys {
		var c webauthn.Credential
		if k.PersonID == id && json.Unmarshal([]byte(k.Body), &c) == nil {
			o.have = append(o.have, c)
		}
	}
	return o, true
}

// ask remembers what a device is asked, and returns by what the answer is found.
func (x *People) ask(a asked) string {
	key, now := keys.New("wlp"), x.o.Now()
	a.until = now.Add(askedFor)
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.asked) >= mostAsked {
		for k, o := range x.asked {
			if now.After(o.until) {
				delete(x.asked, k)
			}
		}
	}
	if len(x.asked) >= mostAsked { // strangers may ask as often as they like: the oldest goes
		first := ""
		for k, o := range x.asked {
			if first == "" || o.until.Before(x.asked[first].until) {
				first = k
			}
		}
		delete(x.asked, first)
	}
	x.asked[key] = a
	return key
}

// answered is what was asked; it is good for one answer.
func (x *People) answered(key string) (asked, bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	a, is := x.asked[key]
	delete(x.asked, key)
	return a, is && x.o.Now().Before(a.until)
}

// BeginPasskey is what a device is asked (PublicKeyCredentialCreationOptions) so that a person has a
// passkey for a console at an origin, and by what AddPasskey knows the answer. The error wraps kind.ErrInvalid.
func (x *People) BeginPasskey(w Who, origin string) (options any, key string, err error) {
	o, is := x.ownerOf(w.Person)
	if !is {
		return nil, "", fmt.Errorf("%w: who came by the state folder's token is no person, and has no passkey", kind.ErrInvalid)
	}
	if len(o.have) >= mostOwn {
		return nil, "", fmt.Errorf("%w: %s has %d passkeys, as many as may be", kind.ErrInvalid, o.p.Name, mostOwn)
	}
	party, _, err := partyOf(origin)
	if err != nil {
		return nil, "", err
	}
	var have []protocol.CredentialDescriptor
	for _, c := range o.have {
		have = append(have, c.Descriptor())
	}
	creation, data, err := party.BeginRegistration(o, webauthn.WithExclusions(have), webauthn.WithConveyancePreference(protocol.PreferNoAttestation))
	if err != nil {
		return nil, "", err
	}
	return creation.Response, x.ask(asked{data: *data, person: w.Person, origin: origin}), nil
}

// AddPasskey keeps what a device answered. The error wraps kind.ErrInvalid.
func (x *People) AddPasskey(ctx context.Context, w Who, key, title string, answer []byte) (Passkey, error) {
	x.change.Lock()
	defer x.change.Unlock()
	title = strings.TrimSpace(title)
	if title == "" || checkFullName(title) != nil {
		return Passkey{}, fmt.Errorf("%w: a passkey needs a title in one line, by which you know the device", kind.ErrInvalid)
	}
	a, is := x.answered(key)
	o, still := x.ownerOf(w.Person)
	if !is || !still || a.person != w.Person {
		return Passkey{}, fmt.Errorf("%w: that was asked too long ago, or of somebody else; begin anew", kind.ErrInvalid)
	}
	party, host, err := partyOf(a.origin)
	if err != nil {
		return Passkey{}, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return Passkey{}, fmt.Errorf("%w: the device's answer cannot be read", kind.ErrInvalid)
	}
	c, err := party.CreateCredential(o, a.data, parsed)
	if err != nil {
		return Passkey{}, fmt.Errorf("%w: the device's answer does not fit what it was asked", kind.ErrInvalid)
	}
	if _, _, taken := x.byCredential(c.ID); taken {
		return Passkey{}, fmt.Errorf("%w: that passkey is there already", kind.ErrInvalid)
	}
	body, err := json.Marshal(c)
	if err != nil {
		return Passkey{}, err
	}
	row := store.Passkey{ID: ident.New(), PersonID: w.Person, Title: title, Host: host, Body: string(body), CreatedAt: x.o.Now().UTC()}
	if err := x.o.Store.SavePasskey(ctx, row); err != nil {
		return Passkey{}, err
	}
	x.mu.Lock()
	x.passkeys[row.ID] = row
	x.mu.Unlock()
	x.o.Notices.Changed(ctx, "passkey_added", o.p.Name, nil, map[string]any{"passkey": row.ID.String(), "title": title, "host": host})
	return passkeyOf(row), nil
}

func passkeyOf(k store.Passkey) Passkey {
	return Passkey{k.ID, k.PersonID, k.Title, k.Host, k.CreatedAt, k.UsedAt}
}

// byCredential is whose a credential is.
func (x *People) byCredential(id []byte) (store.Passkey, webauthn.Credential, bool) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for _, k := range x.passkeys {
		var c webauthn.Credential
		if json.Unmarshal([]byte(k.Body), &c) == nil && bytes.Equal(c.ID, id) {
			return k, c, true
		}
	}
	return store.Passkey{}, webauthn.Credential{}, false
}

// Passkeys are those of a person, the newest first.
func (x *People) Passkeys(of ident.ID) (list []Passkey) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for _, k := range x.passkeys {
		if k.PersonID == of {
			list = append(list, passkeyOf(k))
		}
	}
	slices.SortFunc(list, func(a, b Passkey) int { return b.CreatedAt.Compare(a.CreatedAt) })
	return list
}

// EndPasskey ends a passkey of a person; the error wraps store.ErrNotFound.
func (x *People) EndPasskey(ctx context.Context, of, id ident.ID) error {
	x.change.Lock()
	defer x.change.Unlock()
	x.mu.RLock()
	k, is := x.passkeys[id]
	name := x.people[k.PersonID].Name
	x.mu.RUnlock()
	if !is || k.PersonID != of {
		return fmt.Errorf("there is no such passkey: %w", store.ErrNotFound)
	}
	if err := x.o.Store.DeletePasskeys(ctx, id); err != nil {
		return err
	}
	x.mu.Lock()
	delete(x.passkeys, id)
	x.mu.Unlock()
	x.o.Notices.Changed(ctx, "passkey_ended", name, map[string]any{"passkey": id.String(), "title": k.Title}, nil)
	return nil
}

// endPasskeysOf ends all of a person, whose account may have been somebody else's; x.change is held.
func (x *People) endPasskeysOf(ctx context.Context, of ident.ID) error {
	var ids []ident.ID
	x.mu.Lock()
	for id, k := range x.passkeys {
		if k.PersonID == of {
			ids = append(ids, id)
			delete(x.passkeys, id)
		}
	}
	x.mu.Unlock()
	return x.o.Store.DeletePasskeys(ctx, ids...)
}

// BeginPasskeySignIn is what a device is asked (PublicKeyCredentialRequestOptions) so that somebody
// comes in, whoever has it, and by what SignInByPasskey knows the answer.
func (x *People) BeginPasskeySignIn(origin string) (options any, key string, err error) {
	party, _, err := partyOf(origin)
	if err != nil {
		return nil, "", err
	}
	assertion, data, err := party.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return nil, "", err
	}
	return assertion.Response, x.ask(asked{data: *data, origin: origin}), nil
}

// SignInByPasskey begins a session of whose device answered. The error wraps ErrNotIn.
func (x *People) SignInByPasskey(ctx context.Context, key string, answer []byte, address, browser string) (string, Who, error) {
	a, is := x.answered(key)
	if !is || a.person != (ident.ID{}) {
		return "", Who{}, ErrNoPasskey
	}
	party, _, err := partyOf(a.origin)
	if err != nil {
		return "", Who{}, ErrNoPasskey
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return "", Who{}, ErrNoPasskey
	}
	user, c, err := party.ValidatePasskeyLogin(func(_, handle []byte) (webauthn.User, error) {
		if len(handle) != len(ident.ID{}) {
			return nil, ErrNoPasskey
		}
		o, is := x.ownerOf(ident.ID(handle))
		if !is {
			return nil, ErrNoPasskey
		}
		return o, nil
	}, a.data, parsed)
	if err != nil {
		x.o.Log.Warn("a passkey did not fit", "peer", address, "error", err)
		return "", Who{}, ErrNoPasskey
	}
	o, isOwner := user.(owner)
	row, _, kept := x.byCredential(c.ID)
	if !isOwner || !kept || row.PersonID != o.p.ID {
		return "", Who{}, ErrNoPasskey
	}
	if c.Authenticator.CloneWarning {
		x.o.Log.Error("a passkey counted backwards, as one does that was copied: it does not let anybody in; end it, and add another", "name", o.p.Name, "title", row.Title)
		return "", Who{}, ErrNoPasskey
	}
	if body, err := json.Marshal(c); err == nil {
		row.Body = string(body)
	}
	now := x.o.Now().UTC()
	row.UsedAt = &now
	x.mu.Lock()
	if _, still := x.passkeys[row.ID]; still {
		x.passkeys[row.ID] = row
	}
	x.mu.Unlock()
	if err := x.o.Store.UsedPasskey(ctx, row); err != nil && !errors.Is(err, store.ErrAway) {
		x.o.Log.Error("it could not be noted that a passkey was used", "error", err)
	}
	return x.begin(ctx, &o.p, ByPasskey, address, browser)
}
