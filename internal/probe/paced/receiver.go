package paced

import (
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/oneway"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// Receiver notes what arrives at a connection, and when what left it did.
type Receiver struct {
	In    Shape // that the other end sends; its zero value when it sends nothing
	Out   Shape // that this end sends
	Conn  network.Conn
	Clock network.Clock
	Wall  Wall
	// Reflects says that STAMP packets of the session Reflected are sent back at once;
	// Echo is given those that come back.
	Reflects bool
	Echo     func(wire.StampReply, time.Time)
	// Returns says that frames of a test are sent back as they come.
	Returns bool
	// Other is given what is neither.
	Other func(*network.Packet)

	mu       sync.Mutex
	log      Log
	known    []int // by call, the number after the highest that came
	tally    oneway.Tally
	departed Log // by the kernel's stamps
	reports  int

	frames     *frames // of a test; nil for other streams
	returning  []network.Outgoing
	unreturned int
}

// Count is what came so far.
func (r *Receiver) Count() oneway.Tally {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.frames != nil {
		var t oneway.Tally
		t.Packets, t.Bytes = r.frames.meter.Count()
		return t
	}
	return r.tally
}

// Reports is how many RTCP reports came.
func (r *Receiver) Reports() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.reports
}

// Run receives until the connection is closed.
func (r *Receiver) Run() {
	r.known = make([]int, max(1, r.In.Calls))
	if r.In.Format == Test {
		r.mu.Lock()
		r.frames = framesOf(r.In)
		r.mu.Unlock()
	}
	if r.In.Calls > 0 && !r.In.Bulk {
		r.log.Arrivals, r.log.Said = make([][]oneway.Arrival, r.In.Calls), make([][]time.Time, r.In.Calls)
	}
	packets := make([]network.Packet, 128)
	for {
		n, err := r.Conn.Receive(packets)
		if err != nil {
			return
		}
		r.mu.Lock()
		for i := range n {
			r.take(&packets[i])
		}
		r.mu.Unlock()
		r.returning = r.giveBack(r.returning)
	}
}

// Log ends nothing: it is what was noted so far, with the kernel's times of departure
// laid over those of sent.
func (r *Receiver) Log(sent Log) (out, in Log) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for call, list := range r.departed.Sent {
		for i, at := range list {
			if call < len(sent.Sent) && i < len(sent.Sent[call]) && !at.IsZero() && !sent.Sent[call][i].IsZero() {
				sent.Sent[call][i] = at
			}
		}
	}
	return sent, r.log
}

func (r *Receiver) take(p *network.Packet) {
	switch p.Event {
	case network.Departure:
		if r.Out.Calls == 0 || p.At.IsZero() || r.Out.Bulk {
			return
		}
		call, number, _, ok := r.Out.read(p.Data, func(call int) int { return r.left(call) })
		if ok {
			r.departed.sentAt(r.Out, call, number, r.Wall(p.At))
		}
		return
	case network.Refusal:
		if r.Other != nil {
			r.Other(p)
		}
		return
	}
	at := p.At
	if at.IsZero() {
		at = p.Seen
	}
	if r.reflect(p, at) {
		return
	}
	if r.frames != nil {
		if payload, is := r.frames.take(p, at, r.Wall); is {
			if r.Returns && payload != nil {
				r.returning = append(r.returning, outgoing(p))
			}
			return
		}
	} else if r.In.Calls > 0 {
		call, number, sent, ok := r.In.read(p.Data, func(call int) int {
			if call < 0 || call >= len(r.known) {
				return 0
			}
			return r.known[call]
		})
		if ok {
			r.arrived(p, call, number, sent, at)
			return
		}
		if r.In.Format == RTP && wire.IsRTCP(p.Data) {
			r.reports++
			return
		}
	}
	if r.Other != nil {
		r.Other(p)
	}
}

// left is how many packets of a call the kernel told the departure of.
func (r *Receiver) left(call int) int {
	if call < 0 || call >= len(r.departed.Sent) {
		return 0
	}
	return len(r.departed.Sent[call])
}

func (r *Receiver) arrived(p *network.Packet, call, number int, sent, at time.Time) {
	shown := r.Wall(at)
	r.tally.Add(number*r.In.Calls+call, sent, shown, len(p.Data))
	r.known[call] = max(r.known[call], number+1)
	if r.log.Arrivals == nil || len(r.log.Arrivals[call]) > 4*r.In.PerCall() {
		return
	}
	a := oneway.Arrival{Number: number, At: shown, TTL: p.TTL, DSCP: -1, Size: len(p.Data)}
	if p.DSCP.Known {
		a.DSCP = int(p.DSCP.Value)
	}
	r.log.Arrivals[call] = append(r.log.Arrivals[call], a)
	if !sent.IsZero() {
		for len(r.log.Said[call]) <= number {
			r.log.Said[call] = append(r.log.Said[call], time.Time{})
		}
		r.log.Said[call][number] = sent
	}
}

// reflect sees to the packets that measure the round trip beside a stream.
func (r *Receiver) reflect(p *network.Packet, at time.Time) bool {
	if len(p.Data) != wire.StampSize {
		return false
	}
	if r.Reflects {
		q, err := wire.ParseStampRequest(p.Data)
		if err != nil || q.Session != Reflected {
			return false
		}
		reply := wire.StampReply{Seq: q.Seq, Sent: r.Wall(r.Clock.Now()), Error: wire.StampFree, Session: Reflected, Received: r.Wall(at), Request: q, SenderTTL: uint8(p.TTL)}
		_, _ = r.Conn.Send(netip.AddrPortFrom(p.Peer, p.Port), reply.Marshal(0))
		return true
	}
	if r.Echo != nil {
		if reply, err := wire.ParseStampReply(p.Data); err == nil && reply.Session == Reflected && !reply.Received.IsZero() {
			r.Echo(reply, at)
			return true
		}
	}
	return false
}
