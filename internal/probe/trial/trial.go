package trial

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/capacity"
	"woodlark.example/internal/host"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
	"woodlark.example/wire"
)

// Bench is where trials of a plan are made.
type Bench struct {
	nearend.Options
	Plan acceptance.Plan
	// Real says that it sends through this machine, and not in a simulated network.
	Real bool
	// Far finds the far end of a service that has an address of its own.
	Far func(ctx context.Context, address string) (netip.AddrPort, error)
	// Seen is what both ends said of themselves in the last trial; nil before the first.
	Seen *Ends
}

// Ends are the two ends of a trial.
type Ends struct{ Near, Far session.End }

const (
	// windows is how many a trial is looked at in.
	windows = 64
	// leastWindow is how short one may be: less holds too few frames, and a machine that is
	// busy is late by as much.
	leastWindow = 5 * time.Millisecond
	// rest is for how long the round trip is measured before a load.
	rest = 250 * time.Millisecond
)

// part is one session of a trial: what of one service, of one mark, goes there and back.
type part struct {
	service int
	colour  string
	there   int // which load; -1 for none
	back    int
	order   session.Order
	run     *nearend.Run
	out     nearend.Outcome
	err     error
}

// Make carries out a trial. What could not be measured is told in the outcome; the error is for
// what ends the test: that it was stopped, or that the far end is gone.
func (b *Bench) Make(ctx context.Context, t acceptance.Trial, heard func(nearend.Progress)) (o acceptance.Outcome, err error) {
	o.Started = time.Now().UTC()
	began := time.Now()
	defer func() { o.Took = acceptance.Span(time.Since(began)) }()
	if t.Part == acceptance.OfHost {
		return b.ofHost(ctx, t, o)
	}
	parts, err := b.parts(t)
	if err != nil {
		return o, err
	}
	defer func() {
		for _, p := range parts {
			if p.run != nil {
				p.run.Close()
			}
		}
	}()
	for _, p := range parts {
		options, err := b.options(ctx, p)
		if err != nil {
			return o, err
		}
		if p.run, err = nearend.Open(ctx, options, p.order); err != nil {
			return o, err
		}
	}
	b.Seen = &Ends{b.End, parts[0].run.Far()}
	if t.Part == acceptance.FirstLook {
		o.Look = b.look(parts[0].run.Far())
		if err := b.pathMTU(ctx, parts[0].run, o.Look); err != nil {
			return o, err
		}
		if o.Seen = b.fitsNot(t, o.Look); o.Seen != nil {
			return o, nil
		}
	}
	var all sync.WaitGroup
	for i, p := range parts {
		tell := heard
		if i > 0 {
			tell = nil
		}
		all.Go(func() { p.out, p.err = p.run.Run(ctx, tell) })
	}
	all.Wait()
	o.Seen = make([]acceptance.Seen, len(t.Loads))
	for _, p := range parts {
		if err := p.broke(ctx); err != nil {
			return b.cut(ctx, t, parts, o), err
		}
		if p.there >= 0 {
			o.Seen[p.there] = b.seen(t, p, true)
		}
		if p.back >= 0 {
			o.Seen[p.back] = b.seen(t, p, false)
		}
		if o.Look != nil && len(p.out.Rest) > 0 {
			rtt := float64(slices.Min(p.out.Rest)) / 1e6
			o.Look.RTTMs = &rtt
		}
	}
	return o, nil
}

// cut is what was measured of a trial that was stopped; nothing where an end did not tell.
func (b *Bench) cut(ctx context.Context, t acceptance.Trial, parts []*part, o acceptance.Outcome) acceptance.Outcome {
	o.Seen = nil
	if ctx.Err() == nil {
		return o
	}
	seen := make([]acceptance.Seen, len(t.Loads))
	for _, p := range parts {
		if !p.out.Told {
			return o
		}
		if p.there >= 0 {
			seen[p.there] = b.seen(t, p, true)
		}
		if p.back >= 0 {
			seen[p.back] = b.seen(t, p, false)
		}
	}
	for i := range seen {
		seen[i].Ours, seen[i].Short = "", false // it was stopped, and did not fall short
	}
	o.Seen = seen
	return o
}

// broke says why a session did not come to its end.
func (p *part) broke(ctx context.Context) error {
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case p.err != nil && !p.tooLarge():
		return p.err
	case !p.out.Complete && !p.tooLarge():
		return errors.New(p.out.Problem)
	}
	return nil
}

// tooLarge reports whether frames did not fit.
func (p *part) tooLarge() bool {
	for _, d := range []*paced.Departed{p.out.DepartedThere, p.out.DepartedBack} {
		if d != nil && d.TooLarge {
			return true
		}
	}
	return false
}

// options are those of a session: a service may have addresses of its own.
func (b *Bench) options(ctx context.Context, p *part) (nearend.Options, error) {
	o := b.Options
	o.Rest = rest
	if b.Plan.Over == acceptance.Frame {
		o.Interface = b.Plan.Ethernet.Interface
		if b.Plan.Ethernet.To != "" {
			h, err := wire.ParseHardware(b.Plan.Ethernet.To)
			if err != nil {
				return o, err
			}
			o.Station = &h
		}
	}
	if p.service < 0 {
		return o, nil
	}
	s := b.Plan.By.List[p.service]
	if s.Source != "" {
		a, err := netip.ParseAddr(s.Source)
		if err != nil {
			return o, err
		}
		o.Source = a
	}
	if s.To != "" && b.Far != nil {
		to, err := b.Far(ctx, s.To)
		if err != nil {
			return o, fmt.Errorf("the far end of service %q: %w", s.Name, err)
		}
		if wire.FamilyOf(to.Addr()) != wire.FamilyOf(o.To.Addr()) { // its frames would have other headers
			return o, fmt.Errorf("the far end of service %q is %s, of another family than %s: give it a plan of its own", s.Name, to.Addr(), o.To.Addr())
		}
		o.To = to
	}
	return o, nil
}

// parts are the sessions of a trial.
func (b *Bench) parts(t acceptance.Trial) (list []*part, err error) {
	for i, l := range t.Loads {
		at := slices.IndexFunc(list, func(p *part) bool {
			taken := p.there
			if !l.There {
				taken = p.back
			}
			return p.service == l.Service && p.colour == l.Colour && taken < 0
		})
		if at < 0 {
			at = len(list)
			list = append(list, &part{service: l.Service, colour: l.Colour, there: -1, back: -1})
		}
		p := list[at]
		if t.Part == acceptance.FirstLook && at == 0 && b.Plan.Over != acceptance.Frame {
			p.order.Largest = b.Plan.LargestIP() - b.around()
		}
		if b.Plan.Over == acceptance.Frame {
			p.order.Link = b.link(l)
		}
		shape := b.shape(t, l, uint32(at+1))
		if l.There {
			p.there, p.order.There, p.order.Returned = i, &shape, b.Plan.Ends == acceptance.Returned
		} else {
			p.back, p.order.Back = i, &shape
		}
	}
	if len(list) == 0 {
		return nil, errors.New("a trial without a load")
	}
	for _, p := range list {
		if err := p.order.Check(); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// shape is how a load is sent.
func (b *Bench) shape(t acceptance.Trial, l acceptance.Load, stream uint32) paced.Shape {
	pack := b.Plan.Packing()
	s := paced.Shape{Format: paced.Test, Calls: 1, Interval: time.Duration(max(100, 1e9/l.FPS)), For: t.For.D(), First: stream, DSCP: b.Plan.Mark(l), Bulk: true, FPS: l.FPS, AtOnce: l.Burst}
	for _, f := range l.Frames {
		s.Sizes = append(s.Sizes, pack.Payload(f))
	}
	s.Around = l.Frames[0] - s.Sizes[0]
	switch {
	case l.Burst > 0:
		// Frames of a burst are due at once; it lasts as long as it takes.
		s.For = max(10*time.Millisecond, time.Duration(float64(l.Burst)/l.FPS*1e9))
	case l.Seconds:
		s.Window = time.Second
	default:
		s.Window = max(leastWindow, t.For.D()/windows)
	}
	return s
}

// seen is what became of one load.
func (b *Bench) seen(t acceptance.Trial, p *part, there bool) acceptance.Seen {
	shape, left, came, load := p.order.Back, p.out.DepartedBack, p.out.MeteredBack, acceptance.Load{}
	if !there {
		load = t.Loads[p.back]
	}
	if there {
		load = t.Loads[p.there]
		shape, left, came = p.order.There, p.out.DepartedThere, p.out.MeteredThere
		if p.order.Returned {
			came = p.out.MeteredBack
		}
	}
	var s acceptance.Seen
	if left == nil {
		s.Ours = "it did not tell what it sent"
		return s
	}
	s.Sent, s.TooLarge = left.Packets, left.TooLarge
	s.SentBytes = int64(float64(left.Packets) * b.Plan.Packing().MeanAt(load.Frames, capacity.Frame))
	if left.Packets > 1 && left.Seconds > 0 {
		s.Offered = float64(left.Packets-1) / left.Seconds
	}
	if came == nil {
		if !s.TooLarge {
			s.Ours = "it did not tell what arrived"
		}
		return s
	}
	s.Received, s.Duplicates, s.Reordered, s.Damaged, s.Whole, s.Marks = came.Packets, came.Duplicates, came.Reordered, came.Damaged, came.Whole, came.Marks
	s.Bytes = came.Bytes + came.Packets*int64(shape.Around)
	s.Delay = came.DelayBy(b.clocks(p, there))
	due := shape.DueIn(left.Packets) // what was left out is the end of it
	if shape.Window > 0 {
		if shape.Window == time.Second {
			s.Of, s.Bad = seconds(due, came)
		}
		pauses := map[int]bool{}
		for _, x := range left.Pauses {
			pauses[shape.WindowOf(x.Frame)] = true
		}
		s.Steady, s.Growth = came.Trend(due, pauses, shape.Window)
		if s.Offered < wasOffered*shape.FPS { // queues ran empty too often for it to tell what fits
			s.Steady = nil
		}
	}
	s.Ours = b.ours(p, shape, left, came, there)
	s.Short = s.Ours != "" && float64(left.Packets) < wasOffered*float64(shape.PerCall())
	return s
}

// seconds are those that lost something.
func seconds(due []int64, came *acceptance.Metered) (n int, bad []acceptance.BadSecond) {
	for len(due) > 0 && due[len(due)-1] == 0 { // of one that was stopped
		due = due[:len(due)-1]
	}
	for i, sent := range due {
		got := int64(0)
		if i < len(came.Windows) {
			got = came.Windows[i][0]
		}
		if sent > got {
			bad = append(bad, acceptance.BadSecond{Second: i, Sent: sent, Lost: sent - got})
		}
	}
	return len(due), bad
}

// clocks is how the receiver's clock stands to the sender's.
func (b *Bench) clocks(p *part, there bool) acceptance.Clocks {
	if p.order.Returned {
		return acceptance.Clocks{Of: acceptance.Round}
	}
	near, far := p.out.Near, p.out.Far
	if near.Boot != "" && near.Boot == far.Boot && near.Offset == far.Offset {
		return acceptance.Clocks{Of: acceptance.OneWay}
	}
	if x, y := near.Clock, far.Clock; x.Synchronised && y.Synchronised && x.ErrorMs != nil && y.ErrorMs != nil {
		within := time.Duration((*x.ErrorMs + *y.ErrorMs) * 1e6)
		if p.out.Offset == nil || within < p.out.Offset.RTT/2 {
			return acceptance.Clocks{Of: acceptance.OneWay, Error: within}
		}
	}
	c := acceptance.Clocks{Of: acceptance.HalfRound}
	if o := p.out.Offset; o != nil {
		c.Offset = o.Ahead
		if !there {
			c.Offset = -o.Ahead
		}
	}
	return c
}

const (
	// few is what part of its frames a host may leave out without its rate being another.
	few = 0.0005
	// wasOffered is how much of what was asked for has to be offered, for what arrives to tell
	// how much fits.
	wasOffered = 0.98
	// mostPaused is for what part of a trial a host may pause.
	mostPaused = 0.005
	// mostlyDropped is what part of what is missing may have found no room in a buffer of the
	// receiving host, for the rest to be the circuit's.
	mostlyDropped = 0.2
)

// ours says why what is wrong with a load may be the doing of the two hosts; empty when it is not.
func (b *Bench) ours(p *part, shape *paced.Shape, left *paced.Departed, came *acceptance.Metered, there bool) string {
	if left.TooLarge {
		return ""
	}
	from, to, dropped := p.out.Far.Name, p.out.Near.Name, p.out.Dropped
	if there {
		from, to, dropped = to, from, p.out.FarDropped
		if p.order.Returned {
			to, dropped = p.out.Near.Name, p.out.Dropped+p.out.FarDropped+p.out.Unreturned
		}
	}
	planned := int64(shape.PerCall())
	if left.Packets < planned-max(1, int64(few*float64(planned))) {
		rate := ""
		if left.Seconds > 0 {
			rate = fmt.Sprintf("; it sent %.0f frames a second", float64(left.Packets)/max(left.Seconds, 1e-3))
		}
		return fmt.Sprintf("%s left out %d of %d frames, as it could not send them in time%s", orThis(from), planned-left.Packets, planned, rate)
	}
	lost := left.Packets - came.Packets
	if lost <= 0 {
		// Pauses only help the circuit: what is lost in spite of them is not lost for them.
		if away := left.Paused(); away > mostPaused*left.Seconds {
			return fmt.Sprintf("%s was away for %.1f ms of it in all, in which nothing was sent", orThis(from), away*1e3)
		}
		return ""
	}
	if float64(dropped) > mostlyDropped*float64(lost) {
		return fmt.Sprintf("%s had no room for %d of the frames that came", orThis(to), dropped)
	}
	return ""
}

func orThis(name string) string {
	if name == "" {
		return "a host"
	}
	return name
}

// look is what is known of both ends.
func (b *Bench) look(far session.End) *acceptance.Look {
	l := &acceptance.Look{FarIs: far.Is, FarLink: sideOf(far.Link)}
	if b.Link != nil {
		l.NearLink = sideOf(b.Link(b.To.Addr()))
	}
	return l
}

// pathMTU finds which packets come through whole, of IP; frames on a link are held to their
// interface's MTU. It looks no further than the plan's largest frames, or the usual ones.
func (b *Bench) pathMTU(ctx context.Context, r *nearend.Run, l *acceptance.Look) error {
	if b.Plan.Over == acceptance.Frame {
		return nil
	}
	around := b.around()
	there, back, err := r.Largest(ctx)
	if err != nil || there == 0 {
		return err
	}
	l.MTUThere = there + around
	if back > 0 {
		l.MTUBack = back + around
	}
	return nil
}

// around is how many bytes an IP packet of the plan has beside the payload.
func (b *Bench) around() int {
	pack := b.Plan.Packing()
	return pack.At(acceptance.MostFrame, capacity.IP) - pack.Payload(acceptance.MostFrame)
}

// fitsNot is what comes of loads whose frames do not fit: nothing has to be sent for that. It is
// nil where all fit.
func (b *Bench) fitsNot(t acceptance.Trial, l *acceptance.Look) (seen []acceptance.Seen) {
	pack := b.Plan.Packing()
	for _, x := range t.Loads {
		most := l.MTUThere
		if !x.There || b.Plan.Ends == acceptance.Returned {
			most = l.MTUBack
		}
		seen = append(seen, acceptance.Seen{TooLarge: most > 0 && pack.At(slices.Max(x.Frames), capacity.IP) > most})
	}
	if !slices.ContainsFunc(seen, func(s acceptance.Seen) bool { return s.TooLarge }) {
		return nil
	}
	return seen
}

func sideOf(l host.Link) acceptance.LinkSide {
	return acceptance.LinkSide{Interface: l.Interface, Driver: l.Driver, Speed: l.SpeedBps, Duplex: l.Duplex, MTU: l.MTU}
}

// ofHost measures what this machine sends to itself, over its loopback.
func (b *Bench) ofHost(ctx context.Context, t acceptance.Trial, o acceptance.Outcome) (acceptance.Outcome, error) {
	for _, l := range t.Loads {
		s := acceptance.Seen{}
		if b.Real {
			fps, err := b.within(ctx, l, t.For.D())
			if err != nil {
				return o, err
			}
			s.Offered = fps
		}
		o.Seen = append(o.Seen, s)
	}
	return o, ctx.Err()
}

// most is how fast frames can be asked for: more than any host has.
const most = 50e6

// within is how many frames of a load this machine sends to itself and receives in a second.
func (b *Bench) within(ctx context.Context, l acceptance.Load, d time.Duration) (float64, error) {
	n := kernel.Host()
	shape := b.shape(acceptance.Trial{For: acceptance.Span(d)}, acceptance.Load{FPS: most, Frames: l.Frames, Burst: 1}, 1)
	from, to, at, err := b.withinOneself(n, shape)
	if err != nil {
		return 0, fmt.Errorf("measure this host by itself: %w", err)
	}
	defer from.Close()
	shape.AtOnce, shape.For = int(most*d.Seconds()), d
	ctx, stop := context.WithTimeout(ctx, d)
	defer stop()
	r := paced.Receiver{In: shape, Conn: to, Clock: n.Clock(), Wall: paced.Plain}
	var owned sync.WaitGroup
	owned.Go(r.Run)
	s := paced.Sender{Shape: shape, Conn: from, To: at, Clock: n.Clock(), Wall: paced.Plain}
	_, err = s.Run(ctx, n.Clock().Now())
	left := s.Departed()
	_ = to.Close()
	owned.Wait()
	if err != nil {
		return 0, err
	}
	came := r.Metered()
	if came == nil || left.Seconds <= 0 {
		return 0, errors.New("measure this host by itself: nothing arrived")
	}
	return float64(came.Packets) / left.Seconds, nil
}

// withinOneself opens both ends of a way through this machine, of the kind that the plan's frames
// go by, and says where the second is.
func (b *Bench) withinOneself(n network.Network, s paced.Shape) (from, to network.Conn, at netip.AddrPort, err error) {
	o := network.SocketOptions{Source: netip.AddrFrom4([4]byte{127, 0, 0, 1}), Bulk: true, Room: max(256, paced.MostSizeOf(s))}
	k, f := network.UDP, wire.IPv4
	if b.Plan.Over == acceptance.Frame {
		const loopback = "lo"
		k, f, at = network.Ethernet, 0, netip.AddrPortFrom(network.Station(wire.Hardware{}, loopback), 0)
		o.Source, o.Interface, o.Depth = netip.Addr{}, loopback, 1<<16
		o.Link = &network.LinkOptions{Channel: uint16(rand.Uint32())}
	}
	if from, err = n.Open(k, f, o); err != nil {
		return nil, nil, at, err
	}
	if k == network.UDP {
		if o.Port, err = freePort(); err != nil {
			_ = from.Close()
			return nil, nil, at, err
		}
		at = netip.AddrPortFrom(o.Source, o.Port)
	}
	if to, err = n.Open(k, f, o); err != nil {
		_ = from.Close()
		return nil, nil, at, err
	}
	return from, to, at, nil
}

// link is how a load's frames look on a link.
func (b *Bench) link(l acceptance.Load) *session.LinkOrder {
	x := &session.LinkOrder{Labels: b.Plan.Ethernet.Labels}
	for _, t := range b.Plan.TagsOf(l) {
		kind := uint16(wire.TypeVLAN)
		if t.Type == acceptance.ServiceTag {
			kind = wire.TypeServiceVLAN
		}
		x.Tags = append(x.Tags, wire.VLANTag{Type: kind, ID: uint16(t.VLAN), Priority: uint8(t.Priority), Drop: t.Drop})
	}
	return x
}

// Guest is what the far end has to allow for a plan.
func Guest(p acceptance.Plan) (session time.Duration, rate capacity.Rate) {
	longest, fastest := 30*time.Second, 0.0
	for _, l := range p.Hardest() {
		longest = max(longest, l.For)
		fastest = max(fastest, l.PayloadBps)
	}
	return longest + time.Minute, capacity.Rate(fastest * 1.05)
}
