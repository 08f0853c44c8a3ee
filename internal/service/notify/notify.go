// Package notify tells people of what happens, by rules and channels: what may have to be told
// is kept with the episode or incident in one transaction, becomes messages once it is known
// whom they are for, and each is handed over at least once, with one identifier.
//
//	x := notify.New(notify.Options{Store: s, Paths: p, …})
//	go x.Run(ctx)
//	err := x.SaveRule(ctx, notify.Rule{Name: "night desk", Channel: "desk"})
package notify

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/channel"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/devices"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

// Options of Notify; all are needed.
type Options struct {
	Store     *store.Store
	Log       *slog.Logger
	Notices   *notices.Notices
	Fleet     *fleet.Fleet
	Devices   *devices.Devices
	Paths     *paths.Paths
	Incidents *incidents.Incidents
	Watches   *watches.Watches
	Reports   *reports.Reports
	Zone      *time.Location
	// Holidays are days off.
	Holidays []time.Time
	// PublicOnly forbids channels to private, loopback and link-local addresses.
	PublicOnly bool
	// Gather is how long what opens waits for others that open with it; 10 s when 0.
	Gather time.Duration
	// Patience is how long it is waited whether one segment explains many that open together;
	// until incidents were looked for when 0.
	Patience time.Duration
	// Retry is after how long it is tried again first; 5 s when 0.
	Retry time.Duration
}

// Channel is a way by which people are told.
type Channel struct {
	ID   ident.ID
	Name string
	Type *channel.Type
	channel.Settings
}

// Notify tells people. It is safe for concurrent use.
type Notify struct {
	Options
	mu       sync.Mutex
	channels []Channel
	rules    []Rule
	open     map[ident.ID]channel.Channel
	busy     map[ident.ID]bool      // channels that hand messages over now
	reminded time.Time              // when it was last looked who is to be reminded
	ordered  map[ident.ID]time.Time // the reports that messages were made of, by rule
}

const (
	mostChannels = 200
	mostRules    = 500
	mostName     = 100
	usualGather  = 10 * time.Second
)

// New tells nobody yet.
func New(o Options) *Notify {
	if o.Gather == 0 {
		o.Gather = usualGather
	}
	if o.Patience == 0 {
		o.Patience = incidentIn
	}
	if o.Retry == 0 {
		o.Retry = retryTime
	}
	return &Notify{Options: o, open: map[ident.ID]channel.Channel{}, busy: map[ident.ID]bool{}, ordered: map[ident.ID]time.Time{}}
}

// Load takes up the rules and channels that the database knows.
func (x *Notify) Load(ctx context.Context) error {
	rows, err := x.Store.Channels(ctx)
	if err != nil {
		return err
	}
	rules, err := x.Store.Rules(ctx)
	if err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.channels, x.rules = nil, nil
	for _, row := range rows {
		t, err := channel.Find(row.Type)
		if err != nil {
			return fmt.Errorf("read the channel %q: %w", row.Name, err)
		}
		s, err := t.Decode([]byte(row.Settings))
		if err != nil {
			return fmt.Errorf("read the channel %q: %w", row.Name, err)
		}
		x.channels = append(x.channels, Channel{row.ID, row.Name, t, s})
	}
	for _, row := range rules {
		r := Rule{}
		if err := json.Unmarshal([]byte(row.Body), &r); err != nil {
			return fmt.Errorf("read the rule %q: %w", row.Name, err)
		}
		r.ID, r.Name = row.ID, row.Name
		x.rules = append(x.rules, r)
	}
	return nil
}

// Channels are all of them, by name.
func (x *Notify) Channels() []Channel {
	x.mu.Lock()
	defer x.mu.Unlock()
	return slices.Clone(x.channels)
}

// Rules are all of them, by name.
func (x *Notify) Rules() []Rule {
	x.mu.Lock()
	defer x.mu.Unlock()
	return slices.Clone(x.rules)
}

// Channel finds one by name; the error wraps store.ErrNotFound.
func (x *Notify) Channel(name string) (Channel, error) {
	for _, c := range x.Channels() {
		if c.Name == name || c.ID.String() == name {
			return c, nil
		}
	}
	return Channel{}, fmt.Errorf("channel %q: %w", kind.Shorten(name), store.ErrNotFound)
}

// Rule finds one by name; the error wraps store.ErrNotFound.
func (x *Notify) Rule(name string) (Rule, error) {
	for _, r := range x.Rules() {
		if r.Name == name || r.ID.String() == name {
			return r, nil
		}
	}
	return Rule{}, fmt.Errorf("rule %q: %w", kind.Shorten(name), store.ErrNotFound)
}

func named(what, name string) (string, error) {
	if name = strings.TrimSpace(name); name == "" || len(name) > mostName {
		return "", fmt.Errorf("%w: a %s needs a name of 1 to %d characters", kind.ErrInvalid, what, mostName)
	}
	return name, nil
}

// SaveChannel adds a channel, or replaces the one of its name: what waits goes by the new one.
func (x *Notify) SaveChannel(ctx context.Context, name, by string, settings json.RawMessage) (c Channel, err error) {
	if c.Name, err = named("channel", name); err != nil {
		return c, err
	}
	if c.Type, err = channel.Find(by); err != nil {
		return c, err
	}
	if c.Settings, err = c.Type.Decode(settings); err != nil {
		return c, err
	}
	if err := x.confine(c.Settings); err != nil {
		return c, err
	}
	text, err := c.Type.Encode(c.Settings)
	if err != nil {
		return c, err
	}
	c.ID = ident.New()
	old, err := x.Channel(c.Name)
	if err == nil {
		c.ID = old.ID
	} else if len(x.Channels()) >= mostChannels {
		return c, fmt.Errorf("%w: there are %d channels, as many as may be", kind.ErrInvalid, mostChannels)
	}
	if err := x.Store.SaveChannel(ctx, store.Channel{ID: c.ID, Name: c.Name, Type: c.Type.Name, Settings: string(text), CreatedAt: time.Now().UTC()}); err != nil {
		return c, err
	}
	x.Notices.Changed(ctx, "channel_saved", c.Name, nil, c.Type.Name) // its settings hold secrets
	return c, x.again(ctx, c.ID)
}

// confine forbids what the service's settings forbid; the error says what of a channel cannot be
// then.
func (x *Notify) confine(s channel.Settings) error {
	if p, is := s.(channel.Public); is && x.PublicOnly {
		p.OnlyPublic()
		return s.Check()
	}
	return nil
}

// again takes up what changed, and has a channel opened anew.
func (x *Notify) again(ctx context.Context, id ident.ID) error {
	x.mu.Lock()
	was := x.open[id]
	delete(x.open, id)
	x.mu.Unlock()
	if was != nil {
		_ = was.Close()
	}
	return x.Load(ctx)
}

// RemoveChannel removes a channel that no rule leads to.
func (x *Notify) RemoveChannel(ctx context.Context, name string) error {
	c, err := x.Channel(name)
	if err != nil {
		return err
	}
	for _, r := range x.Rules() {
		if r.Channel == c.Name {
			return fmt.Errorf("%w: the rule %q leads to the channel %q; remove the rule first", kind.ErrInvalid, r.Name, c.Name)
		}
	}
	if err := x.Store.DeleteChannel(ctx, c.ID); err != nil {
		return err
	}
	x.Notices.Changed(ctx, "channel_removed", c.Name, c.Type.Name, nil)
	return x.again(ctx, c.ID)
}

// SaveRule adds a rule, or replaces the one of its name.
func (x *Notify) SaveRule(ctx context.Context, r Rule) (Rule, error) {
	var err error
	if r.Name, err = named("rule", r.Name); err != nil {
		return r, err
	}
	if _, err := x.Channel(r.Channel); err != nil {
		return r, fmt.Errorf("%w: %w", kind.ErrInvalid, err)
	}
	if err := r.check(); err != nil {
		return r, err
	}
	r.ID, r.SavedAt = ident.New(), time.Now().UTC()
	var was any
	if old, err := x.Rule(r.Name); err == nil {
		r.ID, was = old.ID, old
	} else if len(x.Rules()) >= mostRules {
		return r, fmt.Errorf("%w: there are %d rules, as many as may be", kind.ErrInvalid, mostRules)
	}
	body, err := json.Marshal(r)
	if err != nil {
		return r, err
	}
	if err := x.Store.SaveRule(ctx, store.Rule{ID: r.ID, Name: r.Name, Body: string(body), CreatedAt: time.Now().UTC()}); err != nil {
		return r, err
	}
	x.Notices.Changed(ctx, "rule_saved", r.Name, was, r)
	return r, x.Load(ctx)
}

// RemoveRule removes a rule.
func (x *Notify) RemoveRule(ctx context.Context, name string) error {
	r, err := x.Rule(name)
	if err != nil {
		return err
	}
	if err := x.Store.DeleteRule(ctx, r.ID); err != nil {
		return err
	}
	x.Notices.Changed(ctx, "rule_removed", r.Name, r, nil)
	return x.Load(ctx)
}

// Test hands a message over now, and says what came of it.
func (x *Notify) Test(ctx context.Context, name string) error {
	c, err := x.Channel(name)
	if err != nil {
		return err
	}
	by, err := x.opened(c)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, handOver)
	defer cancel()
	m := channel.Message{ID: ident.New(), At: time.Now().UTC(), What: "test", Subject: "test", Title: "Woodlark: a test of the channel " + c.Name, Text: "If you read this, what happens to paths is told here.", Body: json.RawMessage(`{"test":true}`)}
	if err := by.Deliver(ctx, m); err != nil {
		return fmt.Errorf("%w: the channel %q: %w", kind.ErrInvalid, c.Name, err)
	}
	return nil
}

// opened is a channel that messages can be handed to.
func (x *Notify) opened(c Channel) (channel.Channel, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if by := x.open[c.ID]; by != nil {
		return by, nil
	}
	if err := x.confine(c.Settings); err != nil {
		return nil, fmt.Errorf("%w: %w", channel.ErrRefused, err)
	}
	by, err := c.Type.Open(c.Settings)
	if err == nil {
		x.open[c.ID] = by
	}
	return by, err
}

// Close lets go of channels.
func (x *Notify) Close() {
	x.mu.Lock()
	defer x.mu.Unlock()
	for id, by := range x.open {
		_ = by.Close()
		delete(x.open, id)
	}
}
