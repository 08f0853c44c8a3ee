package controller

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/store"
)

// Remote is the kind of an agent on another machine.
const (
	Remote = "remote"
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
func (c *Controller) Invite(ctx context.Context, name, site, labels string, lasts time.Duration) (string, store.Invite, error) {
	if lasts == 0 {
		lasts = inviteTime
	}
	if err := checkWords(site, labels); err != nil {
		return "", store.Invite{}, err
	}
	if name != "" && !agentName.MatchString(name) {
		return "", store.Invite{}, fmt.Errorf("%w: %q is no name for an agent: letters, digits, dots, blanks and dashes, 99 at most", ErrInvalid, shorten(name))
	}
	if lasts < time.Minute || lasts > longestWait {
		return "", store.Invite{}, fmt.Errorf("%w: an invite lasts from a minute to 30 days, not %v", ErrInvalid, lasts)
	}
	code, now := secret(), time.Now().UTC()
	i := store.Invite{ID: ident.New(), CodeHash: store.HashOf(code), Name: name, Site: site, Labels: labels, CreatedAt: now, EndsAt: now.Add(lasts)}
	err := c.store.SaveInvite(ctx, i)
	if err == nil {
		c.noteChange(ctx, "agent_invited", name, nil, map[string]any{"site": site, "labels": labels, "ends_at": i.EndsAt})
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
		return fmt.Errorf("%w: the site has %d bytes; %d at most are kept", ErrInvalid, len(site), mostSite)
	case len(labels) > mostLabels:
		return fmt.Errorf("%w: the labels have %d bytes; %d at most are kept", ErrInvalid, len(labels), mostLabels)
	}
	return nil
}

// Join lets an agent join by an invite, and returns it with its key, of which only a
// hash is kept.
func (c *Controller) Join(ctx context.Context, r remote.JoinRequest, address string) (remote.JoinAnswer, error) {
	if r.Name != "" && !agentName.MatchString(r.Name) {
		return remote.JoinAnswer{}, fmt.Errorf("%w: %q is no name for an agent: letters, digits, dots, blanks and dashes, 99 at most", ErrInvalid, shorten(r.Name))
	}
	if err := checkWords(r.Site, r.Labels); err != nil {
		return remote.JoinAnswer{}, err
	}
	if len(r.Version) > mostVersion {
		return remote.JoinAnswer{}, fmt.Errorf("%w: the version has %d bytes; %d at most are kept", ErrInvalid, len(r.Version), mostVersion)
	}
	key := secret()
	a, err := c.store.UseInvite(ctx, r.Code, store.Agent{Name: r.Name, Site: r.Site, Labels: r.Labels, Version: r.Version, Kind: Remote, Address: address}, store.HashOf(key))
	if err != nil {
		return remote.JoinAnswer{}, err
	}
	c.mu.Lock()
	c.agents[a.ID] = &agentState{Agent: a, worker: remote.NewProxy(a.ID, a.Name, c)}
	c.mu.Unlock()
	c.sendPlans()
	c.noteChange(WithActor(ctx, "an agent from "+address), "agent_joined", a.Name, nil, map[string]any{"site": a.Site, "labels": a.Labels})
	return remote.JoinAnswer{ID: a.ID, Name: a.Name, Site: a.Site, Key: key}, nil
}

// ByKey is the agent on another machine whose key it is; false when none has it.
func (c *Controller) ByKey(key string) (ident.ID, *remote.Proxy, bool) {
	hash := store.HashOf(key)
	c.mu.RLock()
	defer c.mu.RUnlock()
	for id, a := range c.agents {
		if far, ok := a.worker.(*remote.Proxy); ok && bytes.Equal(a.KeyHash, hash) {
			return id, far, true
		}
	}
	return ident.ID{}, nil, false
}

// NoteHealth takes what an agent on another machine says of itself.
func (c *Controller) NoteHealth(ctx context.Context, id ident.ID, h protocol.Health) error {
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	if len(h.Version) > mostVersion || len(text) > mostHealth {
		return fmt.Errorf("%w: what the agent says of itself has %d bytes, its version %d; %d and %d at most are kept", ErrInvalid, len(text), len(h.Version), mostHealth, mostVersion)
	}
	now, kept := time.Now(), string(text)
	moved := false
	c.mu.Lock()
	if a := c.agents[id]; a != nil {
		moved = a.responder() != h.Responder
		seen := now.UTC()
		a.SeenAt, a.Version, a.Health = &seen, h.Version, &kept
		if far, ok := a.worker.(*remote.Proxy); ok {
			far.NoteHealth(h)
		}
	}
	c.mu.Unlock()
	if moved { // others are to find it while this service is away
		c.sendPlans()
	}
	err = c.store.NoteHealth(ctx, id, now, h.Version, kept)
	c.noteAway(err)
	return err
}

// RemoveAgent locks an agent out at once: its connection ends and its key is worth
// nothing any more. Its paths and what it measured stay.
func (c *Controller) RemoveAgent(ctx context.Context, name string) error {
	c.mu.RLock()
	a, err := c.agentNamed(name)
	c.mu.RUnlock()
	if err != nil {
		return notThere(err)
	}
	far, ok := a.worker.(*remote.Proxy)
	if !ok {
		return fmt.Errorf("%w: agent %q is inside the service and cannot be removed", ErrInvalid, name)
	}
	if err := c.store.LockOut(ctx, a.ID); err != nil {
		return err
	}
	c.mu.Lock()
	delete(c.agents, a.ID)
	c.mu.Unlock()
	far.Remove()
	c.sendPlans() // others measure with it no more
	c.noteChange(ctx, "agent_removed", name, map[string]any{"site": a.Site, "labels": a.Labels}, nil)
	return nil
}

// AgentView is an agent and how it stands.
type AgentView struct {
	store.Agent
	Connected bool
	LostAt    time.Time // when an agent on another machine last was connected
	Health    *protocol.Health
}

// addresses are those that an agent says its machine has.
func (a *agentState) addresses() []string {
	if far, ok := a.worker.(*remote.Proxy); ok {
		h, _ := far.Health()
		return h.Addresses
	}
	return nil
}

// isAt reports whether a target names the agent, or an address of its machine.
func (a *agentState) isAt(target string) bool {
	return a.Name == target || a.Address != "" && a.Address == target || slices.Contains(a.addresses(), target)
}

// AgentViews are all agents, by name.
func (c *Controller) AgentViews() []AgentView {
	c.mu.RLock()
	defer c.mu.RUnlock()
	var list []AgentView
	for _, a := range c.agents {
		v := AgentView{Agent: a.Agent, Connected: a.here()}
		if far, ok := a.worker.(*remote.Proxy); ok {
			_, v.LostAt = far.Connected()
		}
		if a.Agent.Health != nil {
			var h protocol.Health
			if json.Unmarshal([]byte(*a.Agent.Health), &h) == nil {
				v.Health = &h
			}
		} else if local, ok := a.worker.(interface{ Health() protocol.Health }); ok {
			h := local.Health()
			v.Health = &h
		}
		list = append(list, v)
	}
	slices.SortFunc(list, func(a, b AgentView) int { return cmp.Compare(a.Name, b.Name) })
	return list
}

// notThere makes of an agent that a call is about, and that there is not, one that is not
// found.
func notThere(err error) error {
	return fmt.Errorf("%w: %s", store.ErrNotFound, strings.TrimPrefix(err.Error(), ErrInvalid.Error()+": "))
}
