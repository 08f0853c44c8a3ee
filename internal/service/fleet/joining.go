package fleet

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"regexp"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/store"
)

const (
	inviteTime  = 24 * time.Hour
	longestWait = 30 * 24 * time.Hour
)

var agentName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._ -]{0,98}$`)

// secret is a new random secret that can be pasted.
func secret() string {
	b := make([]byte, 18)
	_, _ = rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// Invite makes an invite that lets one agent join, and returns its code, which is not
// kept. Name, site and labels are those that the agent gets; empty ones are its own
// choice.
func (f *Fleet) Invite(ctx context.Context, name, site, labels string, lasts time.Duration) (string, store.Invite, error) {
	if lasts == 0 {
		lasts = inviteTime
	}
	if err := checkWords(site, labels); err != nil {
		return "", store.Invite{}, err
	}
	if name != "" && !agentName.MatchString(name) {
		return "", store.Invite{}, fmt.Errorf("%w: %q is no name for an agent: letters, digits, dots, blanks and dashes, 99 at most", kind.ErrInvalid, kind.Shorten(name))
	}
	if lasts < time.Minute || lasts > longestWait {
		return "", store.Invite{}, fmt.Errorf("%w: an invite lasts from a minute to 30 days, not %v", kind.ErrInvalid, lasts)
	}
	code, now := secret(), time.Now().UTC()
	i := store.Invite{ID: ident.New(), CodeHash: store.HashOf(code), Name: name, Site: site, Labels: labels, CreatedAt: now, EndsAt: now.Add(lasts)}
	err := f.Store.SaveInvite(ctx, i)
	if err == nil {
		f.Notices.Changed(ctx, "agent_invited", name, nil, map[string]any{"site": site, "labels": labels, "ends_at": i.EndsAt})
	}
	return code, i, err
}

// The lengths that are kept, in bytes.
const (
	mostSite   = 100
	mostLabels = 500
	// mostVersion and mostHealth are of what an agent says of itself.
	mostVersion = 40
	mostHealth  = 60_000
)

// checkWords says that a site or labels are too long.
func checkWords(site, labels string) error {
	switch {
	case len(site) > mostSite:
		return fmt.Errorf("%w: the site has %d bytes; %d at most are kept", kind.ErrInvalid, len(site), mostSite)
	case len(labels) > mostLabels:
		return fmt.Errorf("%w: the labels have %d bytes; %d at most are kept", kind.ErrInvalid, len(labels), mostLabels)
	}
	return nil
}

// Join lets an agent join by an invite, and returns it with its key, of which only a
// hash is kept. One that signs may ask again when it has not heard the answer.
func (f *Fleet) Join(ctx context.Context, r remote.JoinRequest, address string) (remote.JoinAnswer, error) {
	if r.Name != "" && !agentName.MatchString(r.Name) {
		return remote.JoinAnswer{}, fmt.Errorf("%w: %q is no name for an agent: letters, digits, dots, blanks and dashes, 99 at most", kind.ErrInvalid, kind.Shorten(r.Name))
	}
	if err := checkWords(r.Site, r.Labels); err != nil {
		return remote.JoinAnswer{}, err
	}
	if len(r.Version) > mostVersion {
		return remote.JoinAnswer{}, fmt.Errorf("%w: the version has %d bytes; %d at most are kept", kind.ErrInvalid, len(r.Version), mostVersion)
	}
	if len(r.PublicKey) > 0 && len(r.PublicKey) != ed25519.PublicKeySize {
		return remote.JoinAnswer{}, errNotKey
	}
	key := secret()
	a, err := f.Store.UseInvite(ctx, r.Code, store.Agent{Name: r.Name, Site: r.Site, Labels: r.Labels, Version: r.Version, Kind: Remote, Address: address, PublicKey: r.PublicKey}, store.HashOf(key))
	if err != nil {
		return remote.JoinAnswer{}, err
	}
	answer := remote.JoinAnswer{ID: a.ID, Name: a.Name, Site: a.Site}
	if _, _, joined := f.Signing(a.ID); joined {
		return answer, nil
	}
	f.put(&Agent{Agent: a, Worker: remote.NewProxy(a.ID, a.Name, f.Service)})
	f.Changed()
	f.Notices.Changed(notices.WithActor(ctx, "an agent from "+address), "agent_joined", a.Name, nil, map[string]any{"site": a.Site, "labels": a.Labels})
	if len(r.PublicKey) == 0 {
		answer.Key = key // one that signs is told none: nobody knows it then
	}
	return answer, nil
}

var errNotKey = fmt.Errorf("%w: the public key is none of Ed25519, which has %d bytes", kind.ErrInvalid, ed25519.PublicKeySize)

// Signing is the public key of an agent on another machine that signs its calls; false for others.
func (f *Fleet) Signing(id ident.ID) (ed25519.PublicKey, *remote.Proxy, bool) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	a := f.agents[id]
	if a == nil || a.Proxy() == nil || len(a.PublicKey) == 0 {
		return nil, nil, false
	}
	return a.PublicKey, a.Proxy(), true
}

// SignsBy has an agent that showed a key sign its calls from now on: that key is good no more. The
// error wraps kind.ErrInvalid.
func (f *Fleet) SignsBy(ctx context.Context, id ident.ID, key []byte) error {
	if len(key) != ed25519.PublicKeySize {
		return errNotKey
	}
	hash := store.HashOf(secret())
	if err := f.Store.SetAgentKey(ctx, id, hash, key); err != nil {
		return err
	}
	name := ""
	f.change(id, func(a *Agent) { a.KeyHash, a.PublicKey, name = hash, key, a.Name })
	f.Changed()
	f.Notices.Changed(ctx, "agent_signs", name, nil, nil)
	return nil
}

// ByKey is the agent on another machine whose key it is; false when none has it.
func (f *Fleet) ByKey(key string) (ident.ID, *remote.Proxy, bool) {
	hash := store.HashOf(key)
	f.mu.RLock()
	defer f.mu.RUnlock()
	for id, a := range f.agents {
		if far := a.Proxy(); far != nil && bytes.Equal(a.KeyHash, hash) {
			return id, far, true
		}
	}
	return ident.ID{}, nil, false
}

// NoteHealth takes what an agent on another machine says of itself.
func (f *Fleet) NoteHealth(ctx context.Context, id ident.ID, h protocol.Health) error {
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	if len(h.Version) > mostVersion || len(text) > mostHealth {
		return fmt.Errorf("%w: what the agent says of itself has %d bytes, its version %d; %d and %d at most are kept", kind.ErrInvalid, len(text), len(h.Version), mostHealth, mostVersion)
	}
	now, kept := time.Now(), string(text)
	moved := false
	f.change(id, func(a *Agent) {
		moved = a.Responder() != h.Responder
		seen := now.UTC()
		a.SeenAt, a.Version, a.Health = &seen, h.Version, &kept
		if far := a.Proxy(); far != nil {
			far.NoteHealth(h)
		}
	})
	if moved { // others are to find it while this service is away
		f.Changed()
	}
	err = f.Store.NoteHealth(ctx, id, now, h.Version, kept)
	f.Notices.NoteAway(err)
	return err
}

// Remove locks an agent out at once: its connection ends and its key is worth
// nothing any more. Its paths and what it measured stay.
func (f *Fleet) Remove(ctx context.Context, name string) error {
	a, err := f.Named(name)
	if err != nil {
		return notThere(err)
	}
	far := a.Proxy()
	if far == nil {
		return fmt.Errorf("%w: agent %q is inside the service and cannot be removed", kind.ErrInvalid, name)
	}
	if err := f.Store.LockOut(ctx, a.ID); err != nil {
		return err
	}
	f.mu.Lock()
	delete(f.agents, a.ID)
	f.mu.Unlock()
	far.Remove()
	f.Changed() // others measure with it no more
	f.Notices.Changed(ctx, "agent_removed", name, map[string]any{"site": a.Site, "labels": a.Labels}, nil)
	return nil
}
