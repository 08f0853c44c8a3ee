// Package remote is how the service and an agent on another machine speak: the agent
// calls out, fetches its plan, holds one connection over which it is told what to do
// now, and uploads what it measured. Hand is the service's side, Link the agent's.
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
	"woodlark.example/internal/plan"
)

// Hand is an agent on another machine, as the service holds it.
type Hand struct {
	name    string
	id      ident.ID
	service plan.Service // takes what could not be measured

	mu       sync.Mutex
	plan     plan.Plan
	etag     string
	line     chan plan.Command // of the connection that the agent holds; nil without one
	hangUp   func()
	lostAt   time.Time // when it last had one
	waiting  map[ident.ID]chan plan.Reply
	health   plan.Health
	healthAt time.Time
	removed  bool
}

// NewHand is one that no agent holds a connection to yet.
func NewHand(id ident.ID, name string, service plan.Service) *Hand {
	h := &Hand{id: id, name: name, service: service, waiting: map[ident.ID]chan plan.Reply{}, lostAt: time.Now()}
	h.mark()
	return h
}

var _ plan.Hand = (*Hand)(nil)

// ErrAway is wrapped when the agent holds no connection.
var ErrAway = errors.New("is not connected")

// mark makes the plan's tag; mu is held.
func (h *Hand) mark() {
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
		case h.line <- plan.Command{Kind: plan.FetchPlan}:
		default:
		}
	}
}

// SetPlan replaces what it is to do.
func (h *Hand) SetPlan(p plan.Plan) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.plan = p
	h.mark()
}

// Plan is what the agent is to do, and its tag.
func (h *Hand) Plan() (plan.Plan, string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.plan, h.etag
}

// Connect gives the commands to who holds the connection, until it ends; an earlier
// connection ends at once. False when the agent was removed.
func (h *Hand) Connect(ctx context.Context) (<-chan plan.Command, context.Context, bool) {
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
	line := make(chan plan.Command, 64)
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
func (h *Hand) Remove() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.removed = true
	if h.hangUp != nil {
		h.hangUp()
	}
}

// Connected reports whether the agent holds a connection, else since when not.
func (h *Hand) Connected() (bool, time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.line != nil, h.lostAt
}

// NoteHealth takes what the agent says of itself.
func (h *Hand) NoteHealth(x plan.Health) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.health, h.healthAt = x, time.Now()
}

// Health is what it said last, and when.
func (h *Hand) Health() (plan.Health, time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.health, h.healthAt
}

// HeldBack is how many readings wait at the agent, by its last word.
func (h *Hand) HeldBack() int {
	x, _ := h.Health()
	return x.HeldBack
}

// Reply takes what the agent says to a command.
func (h *Hand) Reply(r plan.Reply) {
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
func (h *Hand) do(ctx context.Context, kind plan.CommandKind, limit time.Duration, body any, heard func(json.RawMessage)) (json.RawMessage, error) {
	b, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	c := plan.Command{ID: ident.New(), Kind: kind, Limit: limit, Body: b}
	replies := make(chan plan.Reply, 1024)
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
func (h *Hand) stop(id ident.ID) {
	b, _ := json.Marshal(id)
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.waiting, id)
	if h.line != nil {
		select {
		case h.line <- plan.Command{ID: ident.New(), Kind: plan.StopCommand, Body: b}:
		default:
		}
	}
}

const margin = 30 * time.Second

// Do carries an order out at the agent, which hands over what came of it itself unless the
// order says that it is returned.
func (h *Hand) Do(ctx context.Context, o plan.RunOrder, heard func(kind.Progress)) ([]plan.Made, error) {
	limit := 24 * time.Hour
	var k *kind.Kind
	if known, err := kind.Find(o.Kind); err == nil {
		k = known
		if s, err := k.Decode(kind.Standing, o.Spec); err == nil {
			limit = k.Limit(s, len(o.Lanes)) + margin
		}
	}
	b, err := h.do(ctx, plan.DoRun, limit, o, func(b json.RawMessage) {
		var list []plan.HeardRun
		if json.Unmarshal(b, &list) != nil || heard == nil || k == nil {
			return
		}
		for _, x := range list {
			if x.Lane < 0 || x.Lane >= len(o.Lanes) {
				continue
			}
			p := kind.Progress{Lane: x.Lane, Done: x.Done, Of: x.Of, Says: x.Says}
			if more, err := k.ReadMore(x.More); err == nil {
				p.More = more
			}
			heard(p)
		}
	})
	if err != nil {
		return nil, err
	}
	var made []plan.Made
	return made, json.Unmarshal(b, &made)
}

const locateTime = 20 * time.Second

// Locate resolves targets at the agent.
func (h *Hand) Locate(ctx context.Context, o plan.LocateOrder) (lanes []kind.Lane, err error) {
	b, err := h.do(ctx, plan.DoLocate, locateTime, o, nil)
	if err != nil {
		return nil, err
	}
	return lanes, json.Unmarshal(b, &lanes)
}

// Standing is the agent's own machine.
func (h *Hand) Standing() (json.RawMessage, error) {
	return h.do(context.Background(), plan.TellState, 10*time.Second, nil, nil)
}

// Expect lets in who has a ticket, at the agent.
func (h *Hand) Expect(t plan.Ticket) (string, error) {
	b, err := h.do(context.Background(), plan.ExpectGuest, 10*time.Second, t, nil)
	if err != nil {
		return "", err
	}
	var at string
	return at, json.Unmarshal(b, &at)
}
