package agent

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/internal/host"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/trace"
	"woodlark.example/internal/protocol"
)

// tickets are who may measure with this agent as the far end.
type tickets struct {
	far     *respond.Responder
	mu      sync.Mutex
	tickets map[string]protocol.Ticket
	lasting map[string]protocol.Ticket // of the plan
}

// last takes the tickets that last as long as the plan.
func (t *tickets) last(list []protocol.Ticket) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.lasting = map[string]protocol.Ticket{}
	for _, x := range list {
		t.lasting[x.Name] = x
	}
}

// find finds one that is good at a time.
func (t *tickets) find(name string, at time.Time) (protocol.Ticket, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if x, ok := t.tickets[name]; ok && !at.After(x.Ends) {
		return x, true
	}
	x, ok := t.lasting[name]
	return x, ok && (x.Ends.IsZero() || !at.After(x.Ends))
}

// LoadHours are the hours of the day, in local time, in which load runs are allowed;
// all of them when both are the same.
type LoadHours struct{ From, To time.Duration }

// Allow reports whether a load run may go on at a time.
func (h LoadHours) Allow(t time.Time) bool {
	if h.From == h.To {
		return true
	}
	at := time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute + time.Duration(t.Second())*time.Second
	if h.From < h.To {
		return at >= h.From && at < h.To
	}
	return at >= h.From || at < h.To
}

// String writes them as 22:00-06:00.
func (h LoadHours) String() string {
	clock := func(d time.Duration) string {
		return fmt.Sprintf("%02d:%02d", int(d.Hours()), int(d.Minutes())%60)
	}
	return clock(h.From) + "-" + clock(h.To)
}

// ParseLoadHours reads hours such as 22:00-06:00.
func ParseLoadHours(text string) (h LoadHours, err error) {
	var a, b, c, d int
	if n, _ := fmt.Sscanf(text, "%d:%d-%d:%d", &a, &b, &c, &d); n != 4 || a < 0 || a > 24 || c < 0 || c > 24 || b < 0 || b > 59 || d < 0 || d > 59 {
		return h, fmt.Errorf("%q are not hours of the day, such as 22:00-06:00", text)
	}
	return LoadHours{time.Duration(a)*time.Hour + time.Duration(b)*time.Minute, time.Duration(c)*time.Hour + time.Duration(d)*time.Minute}, nil
}

// mostTickets is how many tickets wait to be used.
const mostTickets = 1000

// openFarEnd opens the agent's port for other ends.
func (a *Agent) openFarEnd() error {
	a.tickets.tickets = map[string]protocol.Ticket{}
	limits := respond.Usual()
	if a.options.MostRate > 0 {
		limits.Rate = a.options.MostRate
	}
	o := respond.Options{Network: a.options.Network, Listen: a.options.Listen, Keys: a.admit, Limits: limits, StampOpen: true, Wall: a.options.Wall, End: a.end, Log: a.log}
	if a.options.Ground != nil {
		o.Link = host.LinkTo
	}
	if g := a.ground(); g != nil {
		o.Trace = func(ctx context.Context, to netip.Addr) ([]string, error) {
			return trace.Hops(ctx, a.options.Network, g, to)
		}
	}
	far, err := respond.New(o)
	if err != nil {
		return fmt.Errorf("be a far end at %s: %w", a.options.Listen, err)
	}
	a.tickets.far = far
	return nil
}

func (a *Agent) end() session.End {
	if a.options.End == nil {
		return session.End{Name: a.options.Name, Is: "agent"}
	}
	e := a.options.End()
	e.Name, e.Is = a.options.Name, "agent"
	return e
}

// admit lets in who has a ticket of the service's.
func (a *Agent) admit(h session.Hello) (respond.Grant, error) {
	now := time.Now()
	t, ok := a.tickets.find(h.Key, now)
	switch {
	case !ok:
		return respond.Grant{}, errors.New("no such ticket")
	case t.TCP && t.Ends.IsZero() && !a.options.LoadHours.Allow(now):
		return respond.Grant{}, fmt.Errorf("its owner allows load runs only at %s", a.options.LoadHours)
	}
	return respond.Grant{Key: t.Key, Time: t.Time, Rate: capacity.Rate(t.Rate), TCP: t.TCP}, nil
}

// FarEnd is where it answers as a far end; empty when it does not.
func (a *Agent) FarEnd() string {
	switch {
	case a.tickets.far == nil:
		return ""
	case a.options.Advertise != "":
		return a.options.Advertise
	}
	return a.tickets.far.At().String()
}

// Expect lets in who has a ticket; see protocol.TwoEnder.
func (a *Agent) Expect(t protocol.Ticket) (string, error) {
	if a.tickets.far == nil {
		return "", fmt.Errorf("agent %q is no far end: start it with -listen ADDRESS:PORT", a.options.Name)
	}
	if t.TCP && !a.options.LoadHours.Allow(time.Now()) {
		return "", fmt.Errorf("agent %q: its owner allows load runs only at %s", a.options.Name, a.options.LoadHours)
	}
	a.tickets.mu.Lock()
	defer a.tickets.mu.Unlock()
	for name, old := range a.tickets.tickets {
		if time.Now().After(old.Ends) {
			delete(a.tickets.tickets, name)
		}
	}
	if len(a.tickets.tickets) >= mostTickets {
		return "", fmt.Errorf("agent %q: too many tickets wait to be used", a.options.Name)
	}
	a.tickets.tickets[t.Name] = t
	return a.FarEnd(), nil
}
