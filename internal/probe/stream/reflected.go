package stream

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/oneway"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/wire"
)

// Reflected is what to measure by a STAMP reflector alone (RFC 8762), which may be of
// any maker, or a TWAMP-Light one.
type Reflected struct {
	Target   string // as it was asked for
	For      time.Duration
	Interval time.Duration
	Size     int    // bytes of UDP payload; as many as all TLVs need when 0, DefaultSize at least
	DSCP     uint8  // of the packets, and asked for of the answers
	Key      []byte // of the authenticated mode; nil for the other
	Plain    bool   // without TLVs (RFC 8972)
}

// leastReflected is the least time between packets to a reflector: no key shows that who
// stands there wants them, unlike at a far end of ours.
const leastReflected = time.Millisecond

// Shape is what is sent.
func (r *Reflected) Shape(six bool) (paced.Shape, error) {
	least := wire.StampSize
	if r.Key != nil {
		least = wire.StampAuthSize
	}
	if r.Size == 0 {
		r.Size = max(DefaultSize, least)
		if !r.Plain {
			r.Size = max(r.Size, least+len(r.tlvs(0, six, 1<<16)))
		}
	}
	if r.Size < least {
		return paced.Shape{}, fmt.Errorf("packets of %d bytes: STAMP's have %d at least in this mode", r.Size, least)
	}
	if r.Interval == 0 {
		r.Interval = DefaultInterval
	}
	if r.Interval < leastReflected {
		return paced.Shape{}, fmt.Errorf("a packet each %v: a reflector has agreed to nothing, so at most one each %v goes to it", r.Interval, leastReflected)
	}
	s := paced.Shape{Format: paced.Stamp, Calls: 1, Interval: r.Interval, Sizes: []int{r.Size}, For: r.For, DSCP: r.DSCP}
	return s, s.Check()
}

// tlvs are those of a request, as many as there is room for behind the base: what tells
// most comes first.
func (r *Reflected) tlvs(seq uint32, six bool, room int) []byte {
	none := netip.AddrPortFrom(netip.IPv4Unspecified(), 0)
	if six {
		none = netip.AddrPortFrom(netip.IPv6Unspecified(), 0)
	}
	if r.Key != nil {
		room -= len(wire.AppendTLVs(nil, wire.SealTLVs(0, nil, r.Key)))
	}
	var b []byte
	for _, t := range []wire.TLV{wire.DirectMeasurement{SenderSent: seq + 1}.TLV(), wire.FollowUp{}.TLV(), wire.Class{Asked: r.DSCP}.TLV(), wire.TimestampInfo{}.TLV(), wire.Location{Source: none, Destination: none}.TLV()} {
		t.Flags = wire.TLVUnrecognised // until the reflector says otherwise (RFC 8972 §4)
		if more := wire.AppendTLVs(b, t); len(more) <= room {
			b = more
		}
	}
	if r.Key != nil && len(b) > 0 {
		seal := wire.SealTLVs(seq, b, r.Key)
		seal.Flags = wire.TLVUnrecognised
		b = wire.AppendTLVs(b, seal)
	}
	return b
}

// closing is how many packets are sent behind a stream at most, until one is answered:
// they tell which way its last ones were lost.
const closing = 25

// reflection is a measurement that is going on.
type reflection struct {
	r       Reflected
	o       nearend.Options
	six     bool
	conn    network.Conn
	session uint16
	clock   network.Clock

	mu      sync.Mutex
	left    []time.Time // by number, by the kernel
	answers []oneway.Reflected
	follow  map[int64]time.Time // when the reflector's answers really left
	said    finding.ReflectorReport
	step    uint16 // the reflector's error estimate
	known   map[uint8]bool
	unknown map[uint8]bool
	dwells  []time.Duration
	trips   []time.Duration
	refusal string
	closed  bool
}

// Reflect measures by a reflector, and reports what was found. Clocks that are not known
// to be in step are estimated; without an answer there is an error.
func Reflect(ctx context.Context, o nearend.Options, r Reflected, heard func(nearend.Progress)) (finding.StreamReport, error) {
	if o.Wall == nil {
		o.Wall = paced.Plain
	}
	x := &reflection{r: r, o: o, six: o.To.Addr().Is6(), session: uint16(1 + rand.IntN(0xfffe)), clock: o.Network.Clock(), follow: map[int64]time.Time{}, known: map[uint8]bool{}, unknown: map[uint8]bool{}}
	shape, err := x.r.Shape(x.six)
	if err != nil {
		return finding.StreamReport{}, err
	}
	x.conn, err = o.Network.Open(network.UDP, wire.FamilyOf(o.To.Addr()), network.SocketOptions{Source: o.Source, Peer: o.To, DSCP: r.DSCP, Room: max(2000, r.Size)})
	if err != nil {
		return finding.StreamReport{}, err
	}
	x.left = make([]time.Time, shape.PerCall()+closing)
	var beside sync.WaitGroup
	x.clock.Go(&beside, x.receive)
	began := x.clock.Now()
	watching, seen := context.WithCancel(ctx)
	if heard != nil {
		beside.Go(func() { x.tell(watching, began, shape, heard) })
	}
	sent, problem := x.send(ctx, shape, began)
	seen()
	_ = x.conn.Close()
	beside.Wait()
	if len(x.answers) == 0 && problem == nil {
		problem = x.silent()
	}
	if len(x.answers) == 0 {
		return finding.StreamReport{}, problem
	}
	report := x.report(shape, sent)
	report.StartedAt, report.ElapsedMs, report.Complete = began.UTC(), figure.Millis(x.clock.Now().Sub(began)), problem == nil
	if problem != nil {
		report.Problem = problem.Error()
	}
	return report, nil
}

// silent is why nothing came back.
func (x *reflection) silent() error {
	if x.refusal != "" {
		return fmt.Errorf("no answer from %s: %s; does a STAMP reflector listen there?", x.o.To, x.refusal)
	}
	says := "does a STAMP reflector listen there, and is UDP let through?"
	if x.r.Key != nil {
		says = "does it have this key, and is UDP let through?"
	}
	return fmt.Errorf("no answer from %s within %s: %s", x.o.To, x.r.For+answersTake, says)
}

// answersTake is how long answers are waited for, but for those of closing packets.
const answersTake = 2 * time.Second

// send sends the stream, and then closes it.
func (x *reflection) send(ctx context.Context, shape paced.Shape, began time.Time) (paced.Log, error) {
	sender := &paced.Sender{Shape: shape, Conn: x.conn, To: x.o.To, Clock: x.clock, Wall: x.o.Wall, Write: x.write}
	log, err := sender.Run(ctx, began.Add(20*time.Millisecond))
	if err == nil && ctx.Err() != nil {
		err = errors.New("stopped before its end")
	}
	if len(log.Sent) == 0 {
		return log, err
	}
	if err != nil {
		return log, err
	}
	count := shape.PerCall()
	for len(log.Sent[0]) < count {
		log.Sent[0] = append(log.Sent[0], time.Time{})
	}
	b := make([]byte, shape.Sizes[0])
	step := max(shape.Interval, 20*time.Millisecond)
	for n := count; n < count+closing && ctx.Err() == nil && !x.done(); n++ {
		x.clock.Until(ctx, x.clock.Now().Add(step), nil)
		at, err := x.conn.Send(x.o.To, x.write(b, n, x.o.Wall(x.clock.Now())))
		if err != nil {
			break
		}
		log.Sent[0] = append(log.Sent[0], x.o.Wall(at))
	}
	for end := x.clock.Now().Add(answersTake); x.clock.Now().Before(end) && ctx.Err() == nil && !x.done(); {
		x.clock.Until(ctx, x.clock.Now().Add(20*time.Millisecond), nil)
	}
	// What is still on its way has as long as the slowest took.
	x.mu.Lock()
	slowest := time.Duration(0)
	for _, d := range x.trips {
		slowest = max(slowest, d)
	}
	x.mu.Unlock()
	x.clock.Until(ctx, x.clock.Now().Add(min(slowest, answersTake)), nil)
	return log, nil
}

func (x *reflection) done() bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.closed
}

// write makes a request.
func (x *reflection) write(b []byte, k int, now time.Time) []byte {
	b = b[:x.r.Size]
	clear(b)
	q := wire.StampRequest{Seq: uint32(k), Sent: now, Error: x.estimate(), Session: x.session}
	base := wire.StampSize
	if x.r.Key != nil {
		base = wire.StampAuthSize
		copy(b, q.MarshalAuth(0, x.r.Key))
	} else {
		q.Write(b)
	}
	if x.r.Plain {
		return b
	}
	n := base + copy(b[base:], x.r.tlvs(q.Seq, x.six, len(b)-base))
	if rest := len(b) - n; rest >= 4 {
		copy(b[n:], wire.AppendTLVs(nil, wire.TLV{Flags: wire.TLVUnrecognised, Type: wire.TLVPadding, Value: make([]byte, rest-4)}))
	}
	return b
}

// estimate is how well this end's clock is kept, as its packets say it.
func (x *reflection) estimate() uint16 {
	c := x.o.End.Clock
	if !c.Synchronised || c.ErrorMs == nil {
		return wire.StampFree
	}
	return wire.ErrorEstimate(true, figure.FromMillis(*c.ErrorMs))
}

// tell passes on how far it is.
func (x *reflection) tell(ctx context.Context, began time.Time, shape paced.Shape, heard func(nearend.Progress)) {
	for {
		if x.clock.Until(ctx, x.clock.Now().Add(time.Second), nil); ctx.Err() != nil {
			return
		}
		passed := x.clock.Now().Sub(began)
		x.mu.Lock()
		came := len(x.answers)
		x.mu.Unlock()
		due := min(shape.PerCall(), int(passed/shape.Interval))
		heard(nearend.Progress{Elapsed: min(passed, shape.For), Length: shape.For, Lost: int64(max(0, due-came))})
	}
}

// receive notes what comes until the connection is closed.
func (x *reflection) receive() {
	packets := make([]network.Packet, 64)
	for {
		n, err := x.conn.Receive(packets)
		if err != nil {
			return
		}
		x.mu.Lock()
		for i := range n {
			x.take(&packets[i])
		}
		x.mu.Unlock()
	}
}

func (x *reflection) take(p *network.Packet) {
	switch p.Event {
	case network.Departure:
		q, err := wire.ParseStampRequest(p.Data)
		if x.r.Key != nil {
			q, err = wire.ParseStampRequestAuth(p.Data, x.r.Key)
		}
		if err == nil && !p.At.IsZero() && q.Session == x.session && int(q.Seq) < len(x.left) {
			x.left[q.Seq] = x.o.Wall(p.At)
		}
		return
	case network.Refusal:
		x.refusal = p.Cause
		return
	}
	if p.Peer != x.o.To.Addr() || p.Port != x.o.To.Port() {
		return // not who was asked
	}
	r, err := wire.ParseStampReply(p.Data)
	base := wire.StampSize
	if x.r.Key != nil {
		r, err = wire.ParseStampReplyAuth(p.Data, x.r.Key)
		base = wire.StampAuthSize
	}
	if err != nil || r.Session != x.session && r.Session != 0 || int(r.Request.Seq) >= len(x.left) {
		return
	}
	at := p.At
	if at.IsZero() {
		at = p.Seen
	}
	a := oneway.Reflected{Number: int(r.Request.Seq), Seq: int64(r.Seq), Received: r.Received, Sent: r.Sent, Came: x.o.Wall(at), Counted: -1, TTL: [2]int{int(r.SenderTTL), p.TTL}, DSCP: [2]int{-1, -1}}
	if p.DSCP.Known {
		a.DSCP[1] = int(p.DSCP.Value)
	}
	if len(p.Data) > base && !x.r.Plain && (x.r.Key == nil || wire.TLVsSealed(r.Seq, p.Data[base:], x.r.Key)) {
		list, _ := wire.ParseTLVs(p.Data[base:])
		for _, t := range list {
			x.extended(t, &a)
		}
	}
	x.step = r.Error
	x.closed = x.closed || a.Number >= len(x.left)-closing
	x.answers = append(x.answers, a)
	x.dwells = append(x.dwells, r.Sent.Sub(r.Received))
	x.trips = append(x.trips, a.Came.Sub(r.Request.Sent))
}

// extended takes what a TLV of an answer says.
func (x *reflection) extended(t wire.TLV, a *oneway.Reflected) {
	if t.Type == wire.TLVPadding || t.Type == wire.TLVHMAC {
		return
	}
	if t.Flags != 0 {
		x.unknown[t.Type] = true
		return
	}
	x.known[t.Type] = true
	switch t.Type {
	case wire.TLVDirect:
		if d, err := wire.ParseDirect(t); err == nil {
			a.Counted = int64(d.ReflectorReceived)
		}
	case wire.TLVFollowUp:
		if f, err := wire.ParseFollowUp(t); err == nil && !f.Sent.IsZero() {
			x.follow[int64(f.Seq)] = f.Sent
		}
	case wire.TLVClass:
		if c, err := wire.ParseClass(t); err == nil {
			a.DSCP[0] = int(c.Received)
			x.said.DSCPRefused = x.said.DSCPRefused || c.Refused
		}
	case wire.TLVTimestamp:
		if i, err := wire.ParseTimestampInfo(t); err == nil {
			x.said.Clock, x.said.Stamps = syncNames[i.SyncIn], methodNames[i.MethodIn]
		}
	case wire.TLVLocation:
		if l, err := wire.ParseLocation(t); err == nil && l.Source.Addr().IsValid() && !l.Source.Addr().IsUnspecified() {
			x.said.SeenAs = l.Source.String()
		}
	}
}

// The values of the Timestamp Information TLV (RFC 8972 §4.3), and the TLVs by name.
var (
	syncNames   = map[uint8]string{wire.SyncNTP: "NTP", wire.SyncPTP: "PTP", 3: "SSU/BITS", 4: "GNSS", wire.SyncLocal: "free"}
	methodNames = map[uint8]string{wire.StampHard: "hardware", wire.StampSoft: "software", 3: "control plane"}
	tlvNames    = map[uint8]string{wire.TLVLocation: "location", wire.TLVTimestamp: "timestamp information", wire.TLVClass: "class of service", wire.TLVDirect: "direct measurement", wire.TLVFollowUp: "follow-up telemetry"}
)

func named(types map[uint8]bool) []string {
	list := []string{}
	for t := range types {
		list = append(list, tlvNames[t])
	}
	slices.Sort(list)
	return list
}

// report concludes what came.
func (x *reflection) report(shape paced.Shape, sent paced.Log) finding.StreamReport {
	log := sent.Sent[0]
	for i := range log {
		if !x.left[i].IsZero() && !log[i].IsZero() {
			log[i] = x.left[i]
		}
	}
	for i, a := range x.answers {
		if at, ok := x.follow[a.Seq]; ok {
			x.answers[i].Sent = at
		}
	}
	count := min(len(log), shape.PerCall())
	ways := oneway.Reflection{Sent: log, Count: count, Answers: x.answers, Interval: shape.Interval}.Ways()
	ways.There.Late = sent.Late
	s := finding.Streamed{From: x.o.End.Name, To: x.r.Target, There: []oneway.Stream{ways.There}, Back: []oneway.Stream{ways.Back}, DSCPs: [2]int{int(x.r.DSCP), int(x.r.DSCP)},
		Bps: [2]float64{shape.Rate(), shape.Rate()}, Clock: x.clocks(ways), LossUnknown: !ways.Known}
	if x.said.DSCPRefused || !x.known[wire.TLVClass] {
		s.DSCPs[1] = -1 // it was not asked for one, or says nothing: some copy that of the request
	}
	report := s.Report()
	report.Target, report.Address, report.Format, report.Streams, report.IntervalMs = x.r.Target, x.o.To.String(), string(paced.Stamp), 1, figure.Millis(shape.Interval)
	said := x.said
	said.Authenticated, said.Extensions, said.Unknown, said.Unplaced = x.r.Key != nil, named(x.known), named(x.unknown), ways.Unplaced
	if ways.Stateful {
		stateful := true
		said.Stateful = &stateful
	}
	for _, at := range log[:count] {
		if !at.IsZero() {
			said.Sent++
		}
	}
	answered := map[int]bool{}
	for _, a := range x.answers {
		if a.Number < count {
			answered[a.Number] = true
		}
	}
	said.Answered = len(answered)
	said.DwellMs, said.RTTMedianMs = x.medians(log)
	report.Reflector = &said
	if !ways.Known {
		report.Note = fmt.Sprintf("%d of %d packets have no answer, and this reflector does not count: which way they were lost is not known. The figures are those of the answered ones.", said.Sent-said.Answered, said.Sent)
	}
	return report
}

// medians are how long the reflector kept packets, and how long the round trip took
// without that.
func (x *reflection) medians(log []time.Time) (dwell, trip *float64) {
	var trips []time.Duration
	for _, a := range x.answers {
		if a.Number < len(log) && !log[a.Number].IsZero() {
			trips = append(trips, a.Came.Sub(log[a.Number])-a.Sent.Sub(a.Received))
		}
	}
	dwells := slices.Clone(x.dwells)
	slices.Sort(dwells)
	slices.Sort(trips)
	if len(trips) == 0 {
		return nil, nil
	}
	return figure.Ms(figure.Of(delay.Quantile(dwells, 0.5))), figure.Ms(figure.Of(delay.Quantile(trips, 0.5)))
}

// clocks is how the reflector's clock stands to ours.
func (x *reflection) clocks(w oneway.Ways) oneway.Clock {
	ours, near, _ := wire.ReadErrorEstimate(x.estimate())
	theirs, far, ptp := wire.ReadErrorEstimate(x.step)
	switch {
	case ptp: // its scale may be TAI
	case x.o.To.Addr().IsLoopback():
		return oneway.Stepped(0)
	case ours && theirs:
		return oneway.Stepped(near + far)
	}
	c, _ := oneway.Estimate(w.There, w.Back)
	return c
}
