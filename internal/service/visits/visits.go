// Package visits has whoever comes by a guest link measure the way between a browser and this
// service: one visit of a link at a time, bounded in bytes and seconds.
//
//	v, err := x.Begin(ctx, link, need, seats, address, agent)
//	… x.Find(link, ticket) … v.Down(w) … v.Up(r) … v.Offer(sdp) …
//	found, err := x.End(ctx, v, told)
package visits

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"woodlark.example/core/readiness"
	"woodlark.example/core/visitor"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/visit"
	"woodlark.example/internal/store"
)

// Options of Visits; all but Trace are needed.
type Options struct {
	Store *store.Store
	Log   *slog.Logger
	// Listen is where packets beside HTTP arrive, by UDP; not valid where they are not taken.
	Listen netip.AddrPort
	// Trace traces the way to an address, and returns the run; nil where that is not allowed.
	Trace func(ctx context.Context, address string) (ident.ID, error)
}

// Visits are those that go on. It is safe for concurrent use.
type Visits struct {
	Options
	mu    sync.Mutex
	going map[ident.ID]*Visit      // by link
	begun map[ident.ID][]time.Time // lately, by link
	door  *visit.Door
	shut  error // why there is no door
}

const (
	longest    = 2 * time.Minute
	atOnce     = 4
	mostAnHour = 30
	chunk      = 128 << 10
	mostAgent  = 300
)

// Errors of Begin and Find.
var (
	ErrBusy   = errors.New("somebody measures by this link just now; try again in two minutes")
	ErrFull   = errors.New("too many measure at once just now; try again in two minutes")
	ErrOften  = errors.New("this link was used thirty times within an hour; try again later")
	ErrOffer  = visit.ErrOffer
	ErrTicket = errors.New("there is no such visit, or it is over; begin anew")
)

// New knows no visit.
func New(o Options) *Visits {
	return &Visits{Options: o, going: map[ident.ID]*Visit{}, begun: map[ident.ID][]time.Time{}}
}

// Close ends all that goes on.
func (x *Visits) Close() {
	x.mu.Lock()
	var all []*Visit
	for _, v := range x.going {
		all = append(all, v)
	}
	door := x.door
	x.door, x.shut = nil, errors.New("the service ends")
	x.mu.Unlock()
	for _, v := range all {
		v.cancel()
	}
	for _, v := range all {
		<-v.over
	}
	if door != nil {
		_ = door.Close()
	}
}

// Visit is one that goes on.
type Visit struct {
	ID     ident.ID
	Ticket string
	Plan   visitor.Plan
	Began  time.Time
	link   store.GuestLink
	need   readiness.Need
	seats  int
	from   string // its address
	agent  string // what its browser calls itself
	ctx    context.Context
	cancel context.CancelFunc
	over   chan struct{} // closed when what is kept of it is kept

	down, up atomic.Int64
	mu       sync.Mutex
	marks    []visitor.Mark // of what came up
	newest   visitor.Mark
	call     *visit.Call
	asked    bool // for packets
	ended    bool
}

// Begin begins a visit by a link; its error is one of those above.
func (x *Visits) Begin(link store.GuestLink, need readiness.Need, seats int, address, agent string) (*Visit, error) {
	var random [16]byte
	if _, err := rand.Read(random[:]); err != nil {
		return nil, err
	}
	now := time.Now()
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.going[link.ID] != nil {
		return nil, ErrBusy
	}
	if len(x.going) >= atOnce {
		return nil, ErrFull
	}
	recent := x.begun[link.ID][:0]
	for _, t := range x.begun[link.ID] {
		if now.Sub(t) < time.Hour {
			recent = append(recent, t)
		}
	}
	if len(recent) >= mostAnHour {
		x.begun[link.ID] = recent
		return nil, ErrOften
	}
	x.begun[link.ID] = append(recent, now)
	ctx, cancel := context.WithTimeout(context.Background(), longest)
	plan, _ := visitor.PlanOf(need, seats)
	v := &Visit{ID: ident.New(), Ticket: base64.RawURLEncoding.EncodeToString(random[:]), Plan: plan, Began: now, link: link, need: need, seats: seats,
		from: address, agent: agent[:min(len(agent), mostAgent)], ctx: ctx, cancel: cancel, over: make(chan struct{})}
	x.going[link.ID] = v
	context.AfterFunc(ctx, func() { x.left(v) })
	return v, nil
}

// Find is the visit of a ticket that goes on by a link.
func (x *Visits) Find(link ident.ID, ticket string) (*Visit, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	v := x.going[link]
	if v == nil || subtle.ConstantTimeCompare([]byte(v.Ticket), []byte(ticket)) != 1 {
		return nil, ErrTicket
	}
	return v, nil
}

// Offer answers an offer of a data channel: once a visit. at is the address of ours that the visitor
// reached.
func (x *Visits) Offer(v *Visit, offer string, at netip.Addr) (string, error) {
	door, err := x.opened()
	if err != nil {
		return "", err
	}
	v.mu.Lock()
	asked := v.asked
	v.asked = true
	v.mu.Unlock()
	if asked {
		return "", fmt.Errorf("%w: this visit has a channel already", kind.ErrInvalid)
	}
	call, answer, err := door.Answer(v.ctx, offer, at, v.Plan, v.Began)
	if err != nil {
		return "", err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.call = call
	return answer, nil
}

// opened is the door of all visitors, which is open as long as there are any.
func (x *Visits) opened() (*visit.Door, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	switch {
	case x.shut != nil:
		return nil, x.shut
	case x.door != nil:
		return x.door, nil
	case !x.Listen.IsValid():
		return nil, errors.New("this service takes no packets beside HTTP")
	}
	door, err := visit.Open(x.Listen)
	if err != nil {
		return nil, fmt.Errorf("at %s: %w", x.Listen, err)
	}
	x.door = door
	return door, nil
}

// closed closes the door behind the last visitor.
func (x *Visits) closed() {
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.going) == 0 && x.door != nil {
		_ = x.door.Close()
		x.door = nil
	}
}

// left reports what is left of the bytes that a visit may move one way.
func (v *Visit) left(counter *atomic.Int64) int64 { return v.Plan.MostBytes - counter.Load() }

// noise is what is downloaded: nothing on the way can pack it.
var noise = sync.OnceValue(func() []byte {
	b := make([]byte, 4<<20)
	_, _ = rand.Read(b)
	return b
})

// loadTime is how long a load goes on at the most: the plan's, and some for the visitor to end it.
func (v *Visit) loadTime() time.Duration {
	return time.Duration((v.Plan.LoadS+3)*1000) * time.Millisecond
}

// Until is when a load that begins now ends.
func (v *Visit) Until() time.Time { return time.Now().Add(v.loadTime()) }

// Down writes what is downloaded until the visitor has enough, or as much and as long as is allowed.
func (v *Visit) Down(ctx context.Context, w io.Writer) {
	until, noise := v.Until(), noise()
	for at := 0; time.Now().Before(until) && ctx.Err() == nil && v.ctx.Err() == nil && v.left(&v.down) > 0; at = (at + chunk) % (len(noise) - chunk) {
		n, err := w.Write(noise[at : at+chunk])
		v.down.Add(int64(n))
		if err != nil {
			return
		}
	}
}

// Up reads what is uploaded, and notes how much came when.
func (v *Visit) Up(ctx context.Context, r io.Reader) {
	const apart = 50.0 // milliseconds between two marks
	until := v.Until()
	b := make([]byte, chunk)
	for time.Now().Before(until) && ctx.Err() == nil && v.ctx.Err() == nil && v.left(&v.up) > 0 {
		n, err := r.Read(b)
		if n > 0 {
			total := v.up.Add(int64(n))
			at := float64(time.Since(v.Began)) / 1e6
			v.mu.Lock()
			if total > v.newest.Bytes {
				v.newest = visitor.Mark{At: max(at, v.newest.At), Bytes: total}
			}
			if k := len(v.marks); k == 0 || at-v.marks[k-1].At >= apart {
				v.marks = append(v.marks, v.newest)
			}
			v.mu.Unlock()
		}
		if err != nil {
			return
		}
	}
}

// Kept is what is kept of a visit.
type Kept struct {
	Need    readiness.Need `json:"need"`
	Seats   int            `json:"seats"`
	Agent   string         `json:"agent"`
	Words   string         `json:"words"`
	Problem string         `json:"problem,omitempty"`
	Route   string         `json:"route_run,omitempty"` // the run that traces the way to the visitor
	Found   visitor.Found  `json:"found"`
}

// The outcomes of visits.
const (
	Done = "done"
	Left = "left" // the visitor went away before the end
)

// End ends a visit with what the visitor tells.
func (x *Visits) End(ctx context.Context, v *Visit, told visitor.Told) (k Kept, err error) {
	if len(told.Words) > visitor.MostWords {
		return k, fmt.Errorf("%w: the words have %d bytes; %d at most are kept", kind.ErrInvalid, len(told.Words), visitor.MostWords)
	}
	if !v.finish() {
		return k, ErrTicket
	}
	seen := v.seen()
	k = Kept{Need: v.need, Seats: v.need.SeatsOr(v.seats), Agent: v.agent, Words: strings.TrimSpace(told.Words), Problem: short(told.Problem), Found: visitor.Find(v.need, v.seats, told, seen)}
	if x.Trace != nil {
		switch id, err := x.Trace(ctx, v.from); {
		case err != nil:
			k.Found.Notes = append(k.Found.Notes, "the way to the visitor could not be traced: "+err.Error())
		case !id.IsZero():
			k.Route = id.String()
		}
	}
	err = x.keep(ctx, v, k, Done)
	x.drop(v)
	return k, err
}

func short(s string) string { return s[:min(len(s), 500)] }

// finish is true once.
func (v *Visit) finish() bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	was := v.ended
	v.ended = true
	return !was
}

func (v *Visit) seen() (s visitor.Seen) {
	v.mu.Lock()
	call := v.call
	s.Up = append(s.Up, v.marks...)
	if n := len(s.Up); n > 0 && v.newest.Bytes > s.Up[n-1].Bytes {
		s.Up = append(s.Up, v.newest)
	}
	v.mu.Unlock()
	if call != nil {
		c := call.Seen()
		s.Came, s.Sent = c.Came, c.Sent
	}
	return s
}

// left keeps that a visitor went away.
func (x *Visits) left(v *Visit) {
	defer close(v.over)
	if v.finish() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := x.keep(ctx, v, Kept{Need: v.need, Seats: v.need.SeatsOr(v.seats), Agent: v.agent, Found: visitor.Find(v.need, v.seats, visitor.Told{}, v.seen())}, Left); err != nil {
			x.Log.Error("a visit was not kept", "visit", v.ID, "error", err)
		}
	}
	x.drop(v)
}

// drop makes room for the next visit of the link.
func (x *Visits) drop(v *Visit) {
	x.mu.Lock()
	if x.going[v.link.ID] == v {
		delete(x.going, v.link.ID)
	}
	x.mu.Unlock()
	v.cancel()
	v.mu.Lock()
	call := v.call
	v.mu.Unlock()
	if call != nil {
		call.Close()
	}
	x.closed()
}

func (x *Visits) keep(ctx context.Context, v *Visit, k Kept, outcome string) error {
	body, err := json.Marshal(k)
	if err != nil {
		return err
	}
	row := store.Visit{ID: v.ID, LinkID: v.link.ID, Title: v.link.Title, StartedAt: v.Began.UTC(), EndedAt: time.Now().UTC(), Address: v.from, Outcome: outcome, Need: k.Need.Name, Seats: k.Seats, Answer: string(k.Found.Answer.Answer), Sentence: k.Found.Answer.Sentence, Words: k.Words}
	if outcome != Done {
		row.Answer, row.Sentence = "", ""
	}
	return x.Store.SaveVisit(ctx, row, body)
}

// Of is what was kept of a visit.
func Of(body []byte) (k Kept, err error) {
	err = json.Unmarshal(body, &k)
	return k, err
}
