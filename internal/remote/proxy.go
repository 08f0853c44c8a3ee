// Package remote is how the service and an agent on another machine speak: the agent
// calls out, fetches its plan, holds one connection over which it is told what to do
// now, and uploads what it measured. Proxy is the service's side, Link the agent's.
package remote

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
)

// Proxy is an agent on another machine, as the service holds it.
type Proxy struct {
	name    string
	id      ident.ID
	service protocol.Service // takes what could not be measured

	mu       sync.Mutex
	plan     protocol.Plan
	etag     string
	line     chan protocol.Command // of the connection that the agent holds; nil without one
	hangUp   func()
	lostAt   time.Time // when it last had one
	waiting  map[ident.ID]chan protocol.Reply
	health   protocol.Health
	healthAt time.Time
	removed  bool
}

// NewProxy is one that no agent holds a connection to yet.
func NewProxy(id ident.ID, name string, service protocol.Service) *Proxy {
	h := &Proxy{id: id, name: name, service: service, waiting: map[ident.ID]chan protocol.Reply{}, lostAt: time.Now()}
	h.mark()
	return h
}

var _ protocol.Worker = (*Proxy)(nil)

// ErrAway is wrapped when the agent holds no connection.
var ErrAway = errors.New("is not connected")

// mark makes the plan's tag; mu is held.
func (h *Proxy) mark() {
	b, err := json.Marshal(h.plan)
	if err != nil {
		return
	}
	sum := sha256.Sum256(b)
	tag := `"` + hex.EncodeToString(sum[:12]) + `"`
	if tag == h.etag {
		return
	}
	h.etag = tag
	if h.line != nil {
		select {
		case h.line <- protocol.Command{Kind: protocol.FetchPlan}:
		default:
		}
	}
}

// SetPlan replaces what it is to do.
func (h *Proxy) SetPlan(p protocol.Plan) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.plan = p
	h.mark()
}

// Plan is what the agent is to do, and its tag.
func (h *Proxy) Plan() (protocol.Plan, string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.plan, h.etag
}

// Connect gives the commands to who holds the connection, until it ends; an earlier
// connection ends at once. False when the agent was removed.
func (h *Proxy) Connect(ctx context.Context) (<-chan protocol.Command, context.Context, bool) {
	ctx, cancel := context.WithCancel(ctx)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.removed {
		cancel()
		return nil, ctx, false
	}
	if h.hangUp != nil {
		h.hangUp()
	}
	line := make(chan protocol.Command, 64)
	h.line, h.hangUp = line, cancel
	context.AfterFunc(ctx, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.line == line {
			h.line, h.hangUp, h.lostAt = nil, nil, time.Now()
			for id, replies := range h.waiting {
				delete(h.waiting, id)
				close(replies)
			}
		}
	})
	return line, ctx, true
}

// Remove locks the agent out at once.
func (h *Proxy) Remove() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.removed = true
	if h.hangUp != nil {
		h.hangUp()
	}
}

// Connected reports whether the agent holds a connection, else since when not.
func (h *Proxy) Connected() (bool, time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.line != nil, h.lostAt
}

// NoteHealth takes what the agent says of itself.
func (h *Proxy) NoteHealth(x protocol.Health) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.health, h.healthAt = x, time.Now()
}

// Health is what it said last, and when.
func (h *Proxy) Health() (protocol.Health, time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.health, h.healthAt
}

// HeldBack is how many readings wait at the agent, by its last word.
func (h *Proxy) HeldBack() int {
	x, _ := h.Health()
	return x.HeldBack
}

// Reply takes what the agent says to a command.
func (h *Proxy) Reply(r protocol.Reply) {
	h.mu.Lock()
	defer h.mu.Unlock()
	replies := h.waiting[r.Command]
	if replies == nil {
		return
	}
	// Who hears does not keep up: what tells how far it is may be lost, the last may not.
	for sent := false; !sent; {
		select {
		case replies <- r:
			sent = true
		default:
			if !r.Last {
				return
			}
			select {
			case <-replies:
			default:
			}
		}
	}
	if r.Last {
		delete(h.waiting, r.Command)
		close(replies)
	}
}

// do has the agent carry out a command, and hears it until its last word.
func (h *Proxy) do(ctx context.Context, kind protocol.CommandKind, limit time.Duration, body any, heard func(json.RawMessage)) (json.RawMessage, error) {
	b, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	c := protocol.Command{ID: ident.New(), Kind: kind, Limit: limit, Body: b}
	replies := make(chan protocol.Reply, 1024)
	h.mu.Lock()
	if h.line == nil {
		since := h.lostAt
		h.mu.Unlock()
		return nil, fmt.Errorf("agent %q %w since %s", h.name, ErrAway, since.UTC().Format(time.RFC3339))
	}
	select {
	case h.line <- c:
		h.waiting[c.ID] = replies
	default:
		h.mu.Unlock()
		return nil, fmt.Errorf("agent %q does not take what it is told: too much waits for it", h.name)
	}
	h.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for {
		select {
		case r, ok := <-replies:
			switch {
			case !ok:
				return nil, fmt.Errorf("agent %q %w any more: its connection broke in the middle", h.name, ErrAway)
			case r.Last && r.Error != "":
				return r.Body, errors.New(r.Error)
			case r.Last:
				return r.Body, nil
			case heard != nil:
				heard(r.Body)
			}
		case <-ctx.Done():
			h.stop(c.ID)
			return nil, fmt.Errorf("agent %q: %w", h.name, ctx.Err())
		}
	}
}

// stop tells the agent that nobody waits for a command any more.
func (h *Proxy) stop(id ident.ID) {
	b, _ := json.Marshal(id)
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.waiting, id)
	if h.line != nil {
		select {
		case h.line <- protocol.Command{ID: ident.New(), Kind: protocol.StopCommand, Body: b}:
		default:
		}
	}
}

const margin = 30 * time.Second

// Do carries an order out at the agent, which hands over what came of it itself unless the
// order says that it is returned.
func (h *Proxy) Do(ctx context.Context, o protocol.RunOrder, heard func(kind.Progress)) ([]protocol.Made, error) {
	limit := 24 * time.Hour
	var k *kind.Kind
	if known, err := kind.Find(o.Kind); err == nil {
		k = known
		if s, err := k.Decode(kind.Standing, o.Spec); err == nil {
			limit = k.Limit(s, len(o.Lanes)) + margin
		}
	}
	b, err := h.do(ctx, protocol.DoRun, limit, o, func(b json.RawMessage) {
		var list []protocol.HeardRun
		if json.Unmarshal(b, &list) != nil || heard == nil || k == nil {
			return
		}
		for _, x := range list {
			if x.Lane < 0 || x.Lane >= len(o.Lanes) {
				continue
			}
			p := kind.Progress{Lane: x.Lane, Done: x.Done, Of: x.Of, Says: x.Says, Address: x.Address}
			if more, err := k.ReadMore(x.More); err == nil {
				p.More = more
			}
			if len(x.Partial) > 0 {
				if r, err := k.ReadResult(o.Version, x.Partial); err == nil {
					p.Partial = r
				}
			}
			heard(p)
		}
	})
	if err != nil {
		return nil, err
	}
	var made []protocol.Made
	return made, json.Unmarshal(b, &made)
}

const locateTime = 20 * time.Second

// Locate resolves targets at the agent.
func (h *Proxy) Locate(ctx context.Context, o protocol.LocateOrder) (lanes []kind.Lane, err error) {
	b, err := h.do(ctx, protocol.DoLocate, locateTime, o, nil)
	if err != nil {
		return nil, err
	}
	return lanes, json.Unmarshal(b, &lanes)
}

// Standing is the agent's own machine.
func (h *Proxy) Standing() (json.RawMessage, error) {
	return h.do(context.Background(), protocol.TellState, 10*time.Second, nil, nil)
}

// Expect lets in who has a ticket, at the agent.
func (h *Proxy) Expect(t protocol.Ticket) (string, error) {
	b, err := h.do(context.Background(), protocol.ExpectGuest, 10*time.Second, t, nil)
	if err != nil {
		return "", err
	}
	var at string
	return at, json.Unmarshal(b, &at)
}
