package trace

import (
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/network"
)

// tracer is one trace: what it has asked, what it heard, and what it does next. It
// goes by what it knows, not by a script: each time something is heard or a wait
// has passed, it looks what is still wanted.
type tracer struct {
	Request
	e      *Engine
	way    sender
	hop    network.Hop
	onDone func()

	id        uint16
	secret    uint32
	firstPort uint16
	keys      []flowKey
	known     map[uint16]bool // ports in keys

	index  int
	wakeAt time.Time
	done   bool
	serial bool // one probe of a flow at a time

	began  time.Time
	took   time.Duration
	number uint16
	shots  map[uint16]*shot
	line   []*shot // in the order of sending, as long as they may time out

	rows    []*row      // by TTL
	pacing  []*hopState // by TTL; 0 is the whole trace
	wanted  []wish      // scratch of want
	gather  *route.Gather
	sent    int // whose fates are known
	ended   Ended
	limit   int // TTL beyond which nothing is asked; 0 when not known
	hint    int // how far the target may be, by a probe that went all the way; 0 when not known
	alive   bool
	lead    int // the flow that the hops are found with: one that gets through, if any does
	feelers feelers
	byError bool // the target answers datagrams with ICMP errors
	patience

	minutes byMinute

	stage  stage
	rounds rounds
	sizes  sizes
	stamp  reading.Stamp
}

type stage int

const (
	discovering stage = iota
	branching
	sizing
	measuring
	waiting
)

// hopState paces the probes to one router.
type hopState struct {
	next time.Time
	gap  time.Duration
}

const (
	// window is how many hops ahead of what is known are asked at once.
	window = 8
	// udpWindow is that of datagrams: what goes past the target uses up its answers.
	udpWindow = 4
	// pace is the least time between two probes of one trace.
	pace = 500 * time.Microsecond
	// leastGap is that between two probes to one router, and mostGap where it
	// begins to spare its answers: many answer one a second after a few at once.
	leastGap = 10 * time.Millisecond
	mostGap  = time.Second
	// mostFlows are tried at a hop.
	mostFlows = 96
)

// patience is how long a silent hop holds up the trace: less than the wait, when
// others answered much sooner. Later answers count all the same.
type patience struct {
	longest time.Duration
}

func (p patience) of(wait time.Duration) time.Duration {
	if p.longest == 0 {
		return wait
	}
	return min(wait, max(200*time.Millisecond, 3*p.longest))
}

func newTracer(r Request, hop network.Hop, at time.Time) *tracer {
	if r.Interval <= 0 {
		r.Interval = DefaultInterval
	}
	if r.Wait <= 0 {
		r.Wait = DefaultWait
	}
	if r.FirstTTL <= 0 {
		r.FirstTTL = 1
	}
	if r.LastTTL <= 0 {
		r.LastTTL = DefaultLast
	}
	if r.Silent <= 0 {
		r.Silent = DefaultSilent
	}
	if r.Retries <= 0 {
		r.Retries = DefaultRetries
	}
	if r.Payload < LeastPayload {
		r.Payload = DefaultPayload
	}
	if r.Via.Kind == reading.ByUDP && r.Via.Port == 0 {
		r.Via.Port = DefaultPort
	}
	return &tracer{Request: r, hop: hop, began: at, shots: map[uint16]*shot{},
		known: map[uint16]bool{}, gather: route.NewGather(r.Addr.WithZone("")), minutes: byMinute{}, stamp: reading.StampWorld}
}

// wish is a probe that is wanted.
type wish struct {
	ttl, flow, size int
	feeler          bool
	after           time.Time // not before
}

// act gives up what waited too long, sends what is wanted, and sets when to act
// again.
func (t *tracer) act(now time.Time) {
	next := t.giveUp(now)
	for !t.done {
		w, ok := t.want(now)
		if !ok {
			break
		}
		if at := t.mayAt(w); at.After(now) {
			next = earlier(next, at)
			break
		}
		t.fire(w, now)
		t.hopAt(0).next = now.Add(pace)
	}
	if t.done {
		return
	}
	if next.IsZero() { // nothing is on its way and nothing is wanted: that must not be
		next = now.Add(t.Wait)
	}
	t.wakeAt = next
}

func earlier(a, b time.Time) time.Time {
	if a.IsZero() || b.Before(a) {
		return b
	}
	return a
}

// hopAt is the pacing of a hop; 0 is the whole trace.
func (t *tracer) hopAt(ttl int) *hopState {
	for len(t.pacing) <= ttl {
		t.pacing = append(t.pacing, &hopState{gap: leastGap})
	}
	return t.pacing[ttl]
}

// mayAt is when a wish may be fulfilled.
func (t *tracer) mayAt(w wish) time.Time {
	at := t.hopAt(0).next
	if n := t.hopAt(w.ttl).next; n.After(at) && !w.feeler {
		at = n
	}
	if w.after.After(at) {
		at = w.after
	}
	return at
}

// fire sends one probe.
func (t *tracer) fire(w wish, now time.Time) {
	for t.number++; t.number == 0 || t.shots[t.number] != nil; t.number++ {
	}
	s := &shot{of: t, ttl: w.ttl, flow: w.flow, number: t.number, size: w.size, feeler: w.feeler, search: t.stage != measuring, sent: now}
	t.shots[s.number] = s
	t.line = append(t.line, s)
	if port := t.port(w.flow); t.Via.Kind != reading.ByICMP && !t.known[port] {
		t.known[port] = true
		k := flowKey{t.Addr.WithZone(""), port}
		t.keys = append(t.keys, k)
		t.e.byFlow[k] = append(t.e.byFlow[k], t)
	}
	sent, err := t.way.send(t, s)
	if !sent.IsZero() {
		s.sent = sent
	}
	h := t.hopAt(w.ttl)
	h.next = now.Add(h.gap)
	switch {
	case w.size > 0:
		t.sizes.fired(s, err)
	case w.feeler:
		t.feelers.fired(s.flow, t.feelerGap(), now)
	default:
		st := t.at(s.ttl, s.flow)
		st.sent++
		st.open++
	}
	if err != nil {
		s.fate, s.given = true, true
		switch {
		case w.feeler:
			t.feelers.missed(s.flow)
		case w.size == 0:
			t.at(s.ttl, s.flow).open--
		}
		if t.ended == "" && t.stage == discovering {
			t.ended = Ended(err.Error())
			t.finish()
		}
	}
}

// giveUp lets go of probes that waited too long, and returns when the next will
// have.
func (t *tracer) giveUp(now time.Time) (next time.Time) {
	soon := t.patience.of(t.Wait)
	if t.stage >= measuring {
		soon = t.Wait
	}
	kept := t.line[:0]
	for _, s := range t.line {
		if s.fate {
			continue
		}
		waited := now.Sub(s.sent)
		if waited >= soon && !s.given {
			s.given = true
			t.missed(s)
		}
		if waited >= t.Wait {
			s.fate = true
			t.settle(s, route.Probe{TTL: s.ttl, Flow: s.flow, SentAt: s.sent.Round(0)})
			delete(t.shots, s.number)
			continue
		}
		kept = append(kept, s)
		at := s.sent.Add(t.Wait)
		if !s.given {
			at = s.sent.Add(soon)
		}
		next = earlier(next, at)
	}
	clear(t.line[len(kept):])
	t.line = kept
	return next
}

// missed is what planning makes of a probe that is not answered in time.
func (t *tracer) missed(s *shot) {
	if s.size > 0 {
		t.sizes.missed(s)
		return
	}
	if s.feeler {
		t.feelers.missed(s.flow)
		for ttl := range t.rows {
			t.row(ttl).wished = false // a flow may vanish where others pass
		}
		return
	}
	st := t.at(s.ttl, s.flow)
	st.open--
	if st.answered == 0 && t.answers(s.ttl) {
		t.feelers.suspect = true
	}
	if t.stage != measuring && t.answers(s.ttl) && !t.feelers.doubted(s.flow) && !t.feelers.lossy() {
		// It answered others: perhaps it spares its answers.
		h := t.hopAt(s.ttl) // and at() above has it looked at anew
		h.gap = min(mostGap, 4*h.gap)
	}
}

// settle makes a fate final.
func (t *tracer) settle(s *shot, p route.Probe) {
	if s.feeler || s.size > 0 {
		return
	}
	if end := t.endOf(s.flow); end > 0 && s.ttl > end || t.ended == AtRefusal && s.ttl > t.limit {
		return // who is not the last on its way answered nothing
	}
	p.Search = s.search
	t.gather.Add(p)
	if !p.Search {
		t.minutes.add(t, p)
	}
	t.sent++
	if t.Heard != nil {
		t.Heard(p)
	}
}

// heard takes an answer. It reports whether that may change what is wanted.
func (t *tracer) heard(s *shot, p route.Probe, stamp reading.Stamp) bool {
	if s.fate || t.done {
		return false
	}
	s.fate = true
	delete(t.shots, s.number)
	if p.RTT > t.Wait {
		// Too late: it is lost, as one whose wait has passed is.
		p = route.Probe{TTL: s.ttl, Flow: s.flow, SentAt: p.SentAt}
	}
	t.longest = max(t.longest, p.RTT)
	t.stamp = worse(t.stamp, stamp)
	if s.size > 0 {
		t.sizes.heard(t, s, p)
		return true
	}
	if s.feeler {
		t.felt64(s, p)
		return true
	}
	st := t.at(s.ttl, s.flow)
	if !s.given {
		st.open--
	}
	s.given = true
	if p.Outcome != route.Silent {
		if st.answered > 0 && st.addr != p.Addr {
			st.several = true
		}
		if st.answered++; st.answered == 1 {
			st.took = p.RTT
		}
		st.addr, st.ends = p.Addr, p.Outcome == route.Reached
		t.byError = t.byError || st.ends && t.Via.Kind == reading.ByUDP && s.byError
		if back, ok := p.HopsBack(); ok && st.ends && t.hint == 0 {
			t.hint = back
		}
		if p.Outcome == route.Expired {
			t.longer(s.ttl)
		}
		switch {
		case st.ends && (t.limit == 0 || s.ttl < t.limit && !t.balanced()):
			t.limit = s.ttl
		case p.Outcome == route.Refused && p.MTU == 0 && (t.limit == 0 || s.ttl < t.limit):
			t.limit, t.ended = s.ttl, AtRefusal
		case st.ends && s.ttl > t.limit && t.endOf(s.flow) == 0:
			t.limit = s.ttl // a branch that is longer than others
		}
	}
	t.settle(s, p)
	return true
}

func worse(a, b reading.Stamp) reading.Stamp {
	order := []reading.Stamp{reading.StampUser, reading.StampKernel, reading.StampWorld}
	for _, s := range order {
		if a == s || b == s {
			return s
		}
	}
	return a
}

// felt64 takes the answer to a probe that went all the way.
func (t *tracer) felt64(s *shot, p route.Probe) {
	if p.Outcome != route.Reached {
		return
	}
	if !t.alive && t.stage == discovering && s.flow != t.lead && t.endOf(t.lead) == 0 {
		t.lead = s.flow // the one before may be put on a way that lets nothing through
		for ttl := range t.rows {
			t.row(ttl).wished = false
		}
	}
	t.alive = true
	if !s.given {
		t.feelers.open[s.flow]--
	}
	t.feelers.came[s.flow] = true
	if t.hint != 0 && s.flow != t.lead {
		return
	}
	switch back, ok := p.HopsBack(); {
	case p.Quoted.Known && p.Quoted.TTL > 0 && p.Quoted.TTL <= feelerTTL:
		t.hint = feelerTTL - p.Quoted.TTL + 1
	case ok:
		t.hint = back
	}
}

// open is how many probes may still be answered soon.
func (t *tracer) open() int {
	n := 0
	for _, s := range t.line {
		if !s.given {
			n++
		}
	}
	return n
}

// finish ends the trace.
func (t *tracer) finish() {
	if t.done {
		return
	}
	t.done = true
	t.took = t.e.clock.Now().Sub(t.began)
	t.shots = nil
	t.line = nil
}

func (t *tracer) result() Result {
	gather, past := t.phases()
	r := gather.Route()
	flows := 0
	for _, row := range t.rows {
		flows = max(flows, len(row.states))
	}
	faults, spared := gather.Locate(r)
	out := Result{Addr: t.Addr, Via: t.Via, Hop: t.hop, Started: t.began, Took: t.took, Ended: t.ended, Route: r, Faults: faults, Spared: spared, Dead: gather.Dead(r), Sent: t.sent, Stamp: t.stamp,
		Alive: t.alive || r.Reached, TargetSpares: t.byError, Past: past, Minutes: t.minutes.list(), Complete: !t.OneFlow && t.ended != Cut && len(t.unseen(nil, t.limit)) == 0, Flows: flows, MTU: t.sizes.result()}
	if out.Ended == "" {
		out.Ended = AtTarget
	}
	return out
}
