package paced

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"runtime"
	"sync/atomic"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/pace"
)

// Wall is what the host's own clock shows at a time of its network's.
type Wall func(time.Time) time.Time

// Plain is the wall of a host whose network goes by its own clock.
func Plain(t time.Time) time.Time { return t.Round(0) }

// Sender sends a stream.
type Sender struct {
	Shape Shape
	Conn  network.Conn
	To    netip.AddrPort
	Clock network.Clock
	Wall  Wall
	// Reports, when there are any, are sent in between: RTCP for RTP.
	Reports func(now time.Time, packets []int, bytes []int) [][]byte
	// Write, when there is one, makes the packets instead of the shape: the k-th into b,
	// which has room for the largest.
	Write func(b []byte, k int, now time.Time) []byte

	packets, bytes atomic.Int64
	late           atomic.Int64
	log            Log

	due         func(k int) time.Duration
	first, last time.Time // departures
	pauses      []Pause
	skipped     int64
	tooLarge    bool
}

// Sent is how many packets and bytes of payload left so far. It may be called at any
// time.
func (s *Sender) Sent() (packets, bytes int64) { return s.packets.Load(), s.bytes.Load() }

const (
	mostBatch = 32
	// spin is the distance of packets below which waiting between them by the
	// kernel would take longer.
	spin = 60 * time.Microsecond
	// seldom is the distance of packets at which a sender sleeps most of the time.
	seldom = 5 * time.Millisecond
	// busiest is the distance of frames of a test above which their sender sleeps for a part of
	// the time at least, and may go before all others: of one that does not the kernel takes the
	// processor away for a while each second.
	busiest = 5 * time.Microsecond
	// each is the distance of frames of a test at which each is waited for by itself.
	each = 50 * time.Microsecond
	// hopeless is how far behind its times a sender may fall before packets are left
	// out: what it cannot send is not sent in a burst later.
	hopeless    = 100 * time.Millisecond
	reportEvery = time.Second
	// heap is how late frames of a test may be made up for at once. When this host was away for
	// longer the times of all later ones are put off: frames in a heap would be lost in queues
	// that carry the rate that is asked for.
	heap = 1500 * time.Microsecond
)

// overtime is how much longer a trial may last for that: less than a far end waits for its end.
func overtime(d time.Duration) time.Duration {
	return min(15*time.Second, max(20*time.Millisecond, d/50))
}

// Run sends from start on until all is sent, or ctx ends, and returns what it noted.
// A full buffer of this host ends nothing: what it does not take is sent again.
func (s *Sender) Run(ctx context.Context, start time.Time) (Log, error) {
	s.due = s.Shape.schedule()
	wait, done := s.waiter(ctx)
	defer done()
	if !s.Shape.Bulk {
		s.log.Sent = make([][]time.Time, s.Shape.Calls)
	}
	total := s.Shape.Packets()
	room := make([]byte, mostBatch*(MostSizeOf(s.Shape)))
	each := len(room) / mostBatch
	list := make([]network.Outgoing, 0, mostBatch)
	write := s.Shape.write
	if s.Write != nil {
		write = s.Write
	}
	behind := min(time.Millisecond, s.Shape.apart()*time.Duration(s.Shape.Calls)/10)
	if s.Shape.Bulk {
		behind = time.Millisecond
	}
	reported := start
	packets, bytes := make([]int, s.Shape.Calls), make([]int, s.Shape.Calls)
	begun := start
	for k := 0; k < total && ctx.Err() == nil; {
		due := start.Add(s.due(k))
		now := s.Clock.Now()
		if late := now.Sub(due); s.Shape.Format == Test && s.Shape.AtOnce == 0 && late > heap {
			if now.Sub(begun) > s.Shape.For+overtime(s.Shape.For) {
				s.skipped += int64(total - k)
				break
			}
			start, due = start.Add(late-heap), due.Add(late-heap)
			s.pauses = append(s.pauses, Pause{int64(k), (late - heap).Seconds()})
		}
		if left := due.Sub(now); left > 0 {
			wait(due)
			continue
		}
		list = list[:0]
		first := k
		shown := s.Wall(now)
		for k < total && len(list) < mostBatch && !start.Add(s.due(k)).After(now) {
			list = append(list, network.Outgoing{To: s.To, Message: write(room[len(list)*each:(len(list)+1)*each], k, shown)})
			k++
		}
		n, err := s.Conn.SendAll(list)
		for i := range n {
			s.note(first+i, list[i], start, behind)
			call, _ := s.Shape.place(first + i)
			packets[call]++
			bytes[call] += len(list[i].Message)
		}
		if err != nil {
			s.tooLarge = s.tooLarge || errors.Is(err, network.ErrTooBig)
			if errors.Is(err, network.ErrTooBig) || errors.Is(err, network.ErrNotPermitted) {
				return s.log, fmt.Errorf("send the stream: %w", err)
			}
			if ctx.Err() != nil {
				break
			}
			k = first + n + 1 // this one was not taken: it counts as not sent
			s.skipped++
			if n == 0 {
				wait(now.Add(time.Millisecond))
			}
		}
		if to := s.skip(start, k); to > k {
			s.skipped += int64(to - k)
			k = to
		}
		if s.Reports != nil && now.Sub(reported) >= reportEvery {
			reported = now
			for _, b := range s.Reports(shown, packets, bytes) {
				_, _ = s.Conn.Send(s.To, b)
			}
		}
	}
	s.log.Late = int(s.late.Load())
	return s.log, nil
}

// MostSizeOf is the largest packet of a shape.
func MostSizeOf(s Shape) int {
	most := 0
	for _, n := range s.Sizes {
		most = max(most, n)
	}
	return most
}

// skip is the packet that a hopelessly late sender goes on with; k when it is not.
func (s *Sender) skip(start time.Time, k int) int {
	passed := s.Clock.Now().Sub(start)
	if k >= s.Shape.Packets() || passed-s.due(k) < hopeless {
		return k
	}
	if s.Shape.Format == Test {
		return k
	}
	return int(float64(passed-hopeless/2) * float64(s.Shape.Calls) / float64(s.Shape.Interval))
}

// Departed is how it all left, once Run has returned.
func (s *Sender) Departed() Departed {
	d := Departed{Packets: s.packets.Load(), Skipped: s.skipped, Pauses: s.pauses, TooLarge: s.tooLarge}
	if s.last.After(s.first) {
		d.Seconds = s.last.Sub(s.first).Seconds()
	}
	return d
}

func (s *Sender) note(k int, o network.Outgoing, start time.Time, behind time.Duration) {
	s.packets.Add(1)
	s.bytes.Add(int64(len(o.Message)))
	if s.first.IsZero() {
		s.first = o.Sent
	}
	s.last = o.Sent
	if s.Shape.AtOnce == 0 && o.Sent.Sub(start.Add(s.due(k))) > behind {
		s.late.Add(1)
	}
	if s.log.Sent != nil {
		call, number := s.Shape.place(k)
		s.log.sentAt(s.Shape, call, number, s.Wall(o.Sent))
	}
}

// waiter is how to wait for a packet's moment: exactly by this machine's clock, or as a
// simulated one says.
func (s *Sender) waiter(ctx context.Context) (wait func(time.Time), done func()) {
	if _, real := s.Clock.(network.SystemClock); !real {
		return func(t time.Time) { s.Clock.Until(ctx, t, nil) }, func() {}
	}
	apart := s.Shape.apart()
	test := s.Shape.Format == Test && apart >= busiest
	if apart < spin && s.Shape.Bulk && !test {
		return func(time.Time) { runtime.Gosched() }, func() {}
	}
	runtime.LockOSThread()
	pace.Sharpen()
	alarm, err := pace.NewAlarm()
	if err != nil {
		return func(t time.Time) { s.Clock.Until(ctx, t, nil) }, runtime.UnlockOSThread
	}
	stop := context.AfterFunc(ctx, alarm.Wake)
	grain := time.Duration(0)
	back := func() {}
	if apart >= seldom || test {
		back = pace.Ahead()
	}
	if apart < 250*time.Microsecond && !(test && apart >= each) {
		grain = 100 * time.Microsecond // many at once: each at most that late
	}
	return func(t time.Time) { alarm.Wait(t.Add(grain), true) }, func() {
		stop()
		back()
		_ = alarm.Close()
		runtime.UnlockOSThread()
	}
}
