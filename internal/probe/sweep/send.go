package sweep

import (
	"context"
	"encoding/binary"
	"net/netip"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/core/sweep"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// messageSize is the mark, the place of the address and the number of the
// packet.
const messageSize = 24

// placeBits is how many bits of the second word are the place; the rest says by
// which way of asking.
const placeBits = 56

const icmpHeader = 8

// outbox is a batch that is being filled.
type outbox struct {
	list    []network.Outgoing
	numbers []uint64
	memory  []byte
}

func newOutbox() *outbox {
	const room = icmpHeader + messageSize
	b := &outbox{list: make([]network.Outgoing, 0, mostBatch), numbers: make([]uint64, 0, mostBatch), memory: make([]byte, mostBatch*room)}
	return b
}

// add puts a packet into the batch.
func (b *outbox) add(v reading.Via, to netip.Addr, mark, place, number uint64) {
	const room = icmpHeader + messageSize
	m := b.memory[len(b.list)*room:][:room]
	payload := m[icmpHeader:]
	binary.BigEndian.PutUint64(payload, mark)
	binary.BigEndian.PutUint64(payload[8:], place)
	binary.BigEndian.PutUint64(payload[16:], number)
	if v.Kind == reading.ByTCP {
		m = payload
	} else {
		kind := byte(8)
		if to.Is6() {
			kind = 128
		}
		binary.BigEndian.PutUint32(m, uint32(kind)<<24)
		binary.BigEndian.PutUint16(m[4:], uint16(number>>16))
		binary.BigEndian.PutUint16(m[6:], uint16(number))
		if to.Is4() { // the kernel writes ICMPv6's
			binary.BigEndian.PutUint16(m[2:], wire.Checksum(m))
		}
	}
	b.list = append(b.list, network.Outgoing{To: netip.AddrPortFrom(to, v.Port), Message: m})
	b.numbers = append(b.numbers, number)
}

// run sends all rounds.
func (s *sweeper) run(ctx context.Context) {
	s.result.Started = s.clock.Now()
	p := &pacer{s: s, from: s.result.Started}
	for round := range s.Rounds {
		if round > 0 && s.all() {
			break
		}
		first := round == 0
		s.each(ctx, p, func(place uint64) bool {
			if first {
				s.result.Probed++
			}
			return first || s.silent(place)
		})
		s.flush(ctx, p)
		s.wait(ctx)
		p.last = time.Time{}
	}
	if s.Before != nil && ctx.Err() == nil {
		s.again(ctx, p)
	}
	s.result.Cut = ctx.Err() != nil
	select {
	case <-s.idle:
	default:
		close(s.idle)
	}
	s.result.Elapsed = s.clock.Now().Sub(s.result.Started)
	s.tell(p)
}

// each goes over the space in its order.
func (s *sweeper) each(ctx context.Context, p *pacer, wanted func(place uint64) bool) {
	n := s.Space.Len()
	shuffle := sweep.NewShuffle(n, s.Seed)
	for i := range n {
		place := i
		if s.Random {
			place = shuffle.At(i)
		}
		if !wanted(place) {
			continue
		}
		if !s.ask(ctx, p, place) {
			return
		}
	}
}

// ask puts the packets for one address into the batches; false when it is over.
func (s *sweeper) ask(ctx context.Context, p *pacer, place uint64) bool {
	to := s.Space.At(place)
	for i, v := range s.Vias {
		box := s.boxes[i][to.BitLen()/128]
		if box == nil { // this host has no such socket, and said so
			s.result.Unsent++
			continue
		}
		number := uint64(0)
		if s.untimed {
			number = p.done + uint64(p.waiting)
		} else {
			number = s.ring.take(place)
		}
		box.add(v, to, s.Mark, place|uint64(i)<<placeBits, number)
		p.waiting++
		if len(box.list) == mostBatch || p.full() {
			s.flush(ctx, p)
		}
	}
	return ctx.Err() == nil
}

// flush sends what is in the batches.
func (s *sweeper) flush(ctx context.Context, p *pacer) {
	if p.waiting == 0 || !p.wait(ctx) {
		p.waiting = 0
		for _, box := range s.batch {
			box.list, box.numbers = box.list[:0], box.numbers[:0]
		}
		return
	}
	began := s.clock.Now()
	for w, box := range s.batch {
		if len(box.list) == 0 {
			continue
		}
		s.send(s.conns[w], box)
		for conn := s.conns[w]; s.polls(conn); {
			n, err := conn.Poll(s.polled)
			s.takeAll(w, conn, s.polled[:n])
			if err != nil || n < len(s.polled)/2 {
				break
			}
		}
	}
	p.sent(s.clock.Now(), began)
	s.tell(p)
}

// tellEvery is how often at least it is told how many packets left.
const tellEvery = 500 * time.Millisecond

func (s *sweeper) tell(p *pacer) {
	if s.Sent == nil {
		return
	}
	// A slow one is told of, too.
	if now := s.clock.Now(); s.result.Sent-p.told >= 1000 || now.Sub(p.toldAt) >= tellEvery || s.result.Elapsed > 0 {
		p.told, p.toldAt = s.result.Sent, now
		s.Sent(s.result.Sent)
	}
}

// send sends a batch; what this host does not let out is passed over.
func (s *sweeper) send(conn network.Conn, box *outbox) {
	list, numbers := box.list, box.numbers
	for len(list) > 0 {
		n, err := conn.SendAll(list)
		if !s.untimed {
			s.left(list[:n], numbers[:n])
		}
		s.result.Sent += uint64(n)
		if err != nil && n < len(list) {
			s.result.Unsent++
			s.result.Why = err.Error()
			n++
		}
		list, numbers = list[n:], numbers[n:]
	}
	box.list, box.numbers = box.list[:0], box.numbers[:0]
}

// left notes when packets left, and times the answers that came before the
// kernel told that they had.
func (s *sweeper) left(list []network.Outgoing, numbers []uint64) {
	locked := false
	for i := range list {
		sent := s.ring.at(numbers[i])
		at := int64(list[i].Sent.Sub(s.ring.epoch))
		sent.within.Store(int64(list[i].Within))
		sent.sent.Store(at)
		received := sent.received.Load()
		if received == 0 {
			continue
		}
		if !locked {
			s.mu.Lock()
			locked = true
		}
		if received < 0 {
			received = -received
		}
		if r := s.found.at(sent.place.Load()); r != nil {
			roughly(r, time.Duration(received-at), list[i].Within)
		}
	}
	if locked {
		s.mu.Unlock()
	}
}

// wait lets the last answers come in, no longer than all are there.
func (s *sweeper) wait(ctx context.Context) {
	select {
	case <-s.idle:
	default:
		close(s.idle)
	}
	until := s.clock.Now().Add(s.Wait)
	for ctx.Err() == nil && !s.all() && !s.clock.Until(ctx, until, s.news) {
	}
}

// again asks those several times that look slower than before.
func (s *sweeper) again(ctx context.Context, p *pacer) {
	for range againSlow {
		s.mu.Lock()
		var slow []uint64
		for _, r := range s.found.records {
			if sweep.LooksSlower(s.Before(s.Space.At(r.place)), r.rtt) {
				slow = append(slow, r.place)
			}
		}
		s.mu.Unlock()
		if len(slow) == 0 {
			return
		}
		for _, place := range slow {
			s.ask(ctx, p, place)
		}
		s.flush(ctx, p)
		s.clock.Until(ctx, s.clock.Now().Add(s.Wait), nil)
		p.last = time.Time{}
	}
}

// pacer keeps the rate.
type pacer struct {
	s       *sweeper
	from    time.Time
	waiting int    // packets in the batches
	done    uint64 // packets since from
	spent   time.Duration
	last    time.Time // that packets left, in this round
	told    uint64
	toldAt  time.Time
}

// full reports whether so many packets wait as are due in one tick.
func (p *pacer) full() bool {
	if p.s.Rate == 0 {
		return p.waiting >= mostBatch
	}
	return p.waiting >= max(1, int(p.s.Rate*tick.Seconds()))
}

// wait waits until the packets are due; false when ctx ends first.
func (p *pacer) wait(ctx context.Context) bool {
	if p.s.Rate == 0 {
		return ctx.Err() == nil
	}
	now := p.s.clock.Now()
	due := p.from.Add(time.Duration(float64(p.done) / p.s.Rate * float64(time.Second)))
	// After a pause, such as the wait between rounds, what was not sent in it is
	// not caught up with.
	if behind := now.Sub(due); behind > 10*tick {
		p.from = p.from.Add(behind)
		due = now
	}
	for ctx.Err() == nil {
		if p.s.clock.Until(ctx, due, nil) {
			return true
		}
	}
	return false
}

func (p *pacer) sent(now, began time.Time) {
	p.done += uint64(p.waiting)
	p.waiting = 0
	if p.s.Rate == 0 {
		p.s.result.Sending += now.Sub(began)
		return
	}
	if p.last.IsZero() {
		p.last = began
	}
	p.spent += now.Sub(p.last)
	p.last = now
	// What it took, and no less than the rate allows: a few packets leave at once.
	p.s.result.Sending = max(p.spent, time.Duration(float64(p.done)/p.s.Rate*float64(time.Second)))
}
