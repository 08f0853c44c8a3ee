package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/finding"
	"woodlark.example/core/voice"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/near"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/stream"
	"woodlark.example/internal/probe/throughput"
)

// guests are who may measure with this agent as the far end.
type guests struct {
	far     *respond.Responder
	mu      sync.Mutex
	tickets map[string]plan.Ticket
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
	a.guests.tickets = map[string]plan.Ticket{}
	limits := respond.Usual()
	if a.options.MostRate > 0 {
		limits.Rate = a.options.MostRate
	}
	far, err := respond.New(respond.Options{Network: a.options.Network, Listen: a.options.Listen, Keys: a.admit, Limits: limits, StampOpen: true, Wall: a.options.Wall, End: a.end, Log: a.log})
	if err != nil {
		return fmt.Errorf("be a far end at %s: %w", a.options.Listen, err)
	}
	a.guests.far = far
	return nil
}

func (a *Agent) end() session.End {
	if a.options.End == nil {
		return session.End{Name: a.options.Name}
	}
	e := a.options.End()
	e.Name = a.options.Name
	return e
}

// admit lets in who has a ticket of the service's.
func (a *Agent) admit(h session.Hello) (respond.Grant, error) {
	a.guests.mu.Lock()
	defer a.guests.mu.Unlock()
	t, ok := a.guests.tickets[h.Key]
	if !ok || time.Now().After(t.Ends) {
		return respond.Grant{}, errors.New("no such ticket")
	}
	return respond.Grant{Key: t.Key, Time: t.Time, Rate: capacity.Rate(t.Rate), TCP: t.TCP}, nil
}

// FarEnd is where it answers as a far end; empty when it does not.
func (a *Agent) FarEnd() string {
	switch {
	case a.guests.far == nil:
		return ""
	case a.options.Advertise != "":
		return a.options.Advertise
	}
	return a.guests.far.At().String()
}

// Expect lets in who has a ticket; see plan.TwoEnder.
func (a *Agent) Expect(t plan.Ticket) (string, error) {
	if a.guests.far == nil {
		return "", fmt.Errorf("agent %q is no far end: start it with -listen ADDRESS:PORT", a.options.Name)
	}
	if t.TCP && !a.options.LoadHours.Allow(time.Now()) {
		return "", fmt.Errorf("agent %q: its owner allows load runs only at %s", a.options.Name, a.options.LoadHours)
	}
	a.guests.mu.Lock()
	defer a.guests.mu.Unlock()
	for name, old := range a.guests.tickets {
		if time.Now().After(old.Ends) {
			delete(a.guests.tickets, name)
		}
	}
	if len(a.guests.tickets) >= mostTickets {
		return "", fmt.Errorf("agent %q: too many tickets wait to be used", a.options.Name)
	}
	a.guests.tickets[t.Name] = t
	return a.FarEnd(), nil
}

// TwoEnded measures towards a far end; see plan.TwoEnder.
func (a *Agent) TwoEnded(ctx context.Context, o plan.TwoEndedOrder, heard func(plan.TwoGoing)) plan.TwoEnded {
	x := plan.TwoEnded{ID: o.ID, Far: o.Far, Target: o.Target, Kind: o.Kind, Started: time.Now(), Outcome: plan.Failed}
	err := a.twoEnded(ctx, o, heard, &x)
	x.Ended = time.Now()
	if err != nil {
		x.Reason = err.Error()
	}
	a.spool.addTwoEnded(x) // the service may be gone by now, and the answer with it
	return x
}

func (a *Agent) twoEnded(ctx context.Context, o plan.TwoEndedOrder, heard func(plan.TwoGoing), x *plan.TwoEnded) error {
	to, err := a.farAddress(ctx, o.Address)
	if err != nil {
		return err
	}
	options := near.Options{Network: a.options.Network, To: to, Key: o.Key, KeyName: o.KeyName, Wall: a.options.Wall, End: a.end()}
	if heard == nil {
		heard = func(plan.TwoGoing) {}
	}
	tell := func(step string, p near.Progress) {
		heard(plan.TwoGoing{Says: step, Share: min(1, p.Elapsed.Seconds()/max(1, p.Length.Seconds())), Seconds: p.Elapsed.Seconds(), There: p.There, Back: p.Back})
	}
	switch o.Kind {
	case plan.Stream:
		r, err := streamOf(o.Request)
		if err != nil {
			return err
		}
		if order, err := r.Order(); err != nil {
			return err
		} else if a.options.MostRate > 0 && order.Rate() > float64(a.options.MostRate) {
			return fmt.Errorf("it sends %v, and the owner of this agent allows %v", capacity.Rate(order.Rate()), a.options.MostRate)
		}
		r.Target = o.Target
		report, err := stream.Measure(ctx, options, r, func(p near.Progress) { tell("streaming", p) })
		if err != nil {
			return err
		}
		for _, d := range report.Directions {
			if d.Quality != nil && d.Quality.MOS != nil && (x.MOS == nil || *d.Quality.MOS < *x.MOS) {
				x.MOS = d.Quality.MOS // the worse direction is what a caller hears of
			}
			x.SentBytes += int64(d.Bps / 8 * report.ElapsedMs / 1000)
		}
		return keep(x, report, report.Complete, report.Problem)
	case plan.Throughput:
		return a.throughput(ctx, options, o, tell, x)
	}
	return fmt.Errorf("no measurement %q with two ends", o.Kind)
}

func (a *Agent) throughput(ctx context.Context, options near.Options, o plan.TwoEndedOrder, heard throughput.Heard, x *plan.TwoEnded) error {
	r := throughputOf(o.Request)
	switch limit := a.options.MostRate; {
	case !a.options.LoadHours.Allow(time.Now()):
		return fmt.Errorf("the owner of this agent allows load runs only at %s", a.options.LoadHours)
	case limit > 0 && r.Protocol != capacity.UDP:
		return fmt.Errorf("the owner of this agent allows %v at most, and TCP keeps to no rate: measure with -protocol udp", limit)
	case limit > 0 && (r.Rate > limit || r.Search && r.Rate == 0):
		return fmt.Errorf("the owner of this agent allows %v at most", limit)
	}
	r.Target = o.Target
	report, err := throughput.Measure(ctx, options, r, heard)
	if err != nil {
		return err
	}
	for i := range report.Directions {
		d := &report.Directions[i]
		x.SentBytes += d.SentBytes * int64(max(1, len(report.Repeats)/max(1, len(report.Directions))))
		if d.There {
			x.ThereBps = d.Trimmed
		} else {
			x.BackBps = d.Trimmed
		}
	}
	return keep(x, report, report.Complete, report.Problem)
}

// streamOf is what a request asks of a stream.
func streamOf(q plan.TwoRequest) (stream.Request, error) {
	r := stream.Request{Direction: stream.Direction(q.Direction), For: q.For, Calls: q.Calls, Interval: q.Interval, Rate: capacity.Rate(q.Rate), Size: q.Size, DSCP: q.DSCP, Buffer: voice.Fixed}
	if r.For == 0 {
		r.For = 10 * time.Second
	}
	if q.Buffer == "adaptive" {
		r.Buffer = voice.Adaptive
	}
	if q.Codec == "" {
		return r, nil
	}
	codec, err := voice.ParseCodec(q.Codec)
	r.Codec = &codec
	return r, err
}

// throughputOf is what a request asks of a bandwidth test.
func throughputOf(q plan.TwoRequest) throughput.Request {
	r := throughput.Request{Protocol: capacity.Transport(q.Protocol), Direction: throughput.Direction(q.Direction), Streams: q.Streams, For: q.For, Congestion: q.Congestion, Window: q.Window,
		DSCP: q.DSCP, Rate: capacity.Rate(q.Rate), Size: q.Size, Search: q.Search, LossLimit: q.LossLimit, Repeats: q.Repeats, Yardstick: q.Yardstick, Line: capacity.Rate(q.Line), Explain: !q.NoExplain}
	if r.For == 0 {
		r.For = throughput.DefaultFor
	}
	if r.Protocol != capacity.UDP && r.For > 2*throughput.DefaultWarmUp {
		r.WarmUp = throughput.DefaultWarmUp
	}
	return r
}

// CheckTwoEnded says what is wrong with a request.
func CheckTwoEnded(kind plan.TwoEndedKind, q plan.TwoRequest) error {
	if kind == plan.Stream {
		r, err := streamOf(q)
		if err != nil {
			return err
		}
		_, err = r.Order()
		return err
	}
	_, _, err := throughputOf(q).Estimate()
	return err
}

// keep packs a report up with its outcome: what broke off is failed, and what was
// measured until then is kept.
func keep[T finding.ThroughputReport | finding.StreamReport](x *plan.TwoEnded, report T, complete bool, problem string) (err error) {
	if x.Report, err = json.Marshal(report); err != nil {
		return err
	}
	x.Outcome = plan.Done
	if !complete {
		x.Outcome, x.Reason = plan.Failed, problem
	}
	return nil
}

// farAddress is the address and port of a far end, whose host may be a name.
func (a *Agent) farAddress(ctx context.Context, text string) (netip.AddrPort, error) {
	if at, err := netip.ParseAddrPort(text); err == nil {
		return netip.AddrPortFrom(at.Addr().Unmap(), at.Port()), nil
	}
	host, port, err := splitHostPort(text)
	if err != nil {
		return netip.AddrPort{}, err
	}
	found, err := a.options.Network.Lookup(ctx, host, 0)
	if err != nil {
		return netip.AddrPort{}, err
	}
	for _, addr := range found.Addrs {
		if addr.Is4() {
			return netip.AddrPortFrom(addr, port), nil
		}
	}
	return netip.AddrPortFrom(found.Addrs[0], port), nil
}
