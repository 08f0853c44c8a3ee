package oneway_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/loss"
	"woodlark.example/core/oneway"
)

var origin = time.Date(2026, 11, 18, 12, 0, 0, 0, time.UTC)

const ms = time.Millisecond

// fixed is a stream of n packets 20 ms apart, all delayed by d.
func fixed(n int, d time.Duration) oneway.Stream {
	s := oneway.Stream{Interval: 20 * ms}
	for i := range n {
		at := origin.Add(time.Duration(i) * 20 * ms)
		s.Sent = append(s.Sent, at)
		s.Arrivals = append(s.Arrivals, oneway.Arrival{Number: i, At: at.Add(d), TTL: 60, DSCP: 46, Size: 172})
	}
	return s
}

// arriving is a stream whose packets arrived in an order of their own, 1 ms apart.
func arriving(n int, numbers ...int) oneway.Stream {
	s := fixed(n, 0)
	s.Arrivals = nil
	for k, number := range numbers {
		s.Arrivals = append(s.Arrivals, oneway.Arrival{Number: number, At: origin.Add(time.Second + time.Duration(k)*ms), DSCP: -1})
	}
	return s
}

func TestWhatAStreamMet(t *testing.T) {
	in := oneway.Stepped(0)
	for _, c := range []struct {
		name             string
		stream           oneway.Stream
		lost, duplicates int
		reordered        int
		extent           int
		longest          int
	}{
		{name: "all in order", stream: arriving(5, 0, 1, 2, 3, 4)},
		{name: "one lost", stream: arriving(5, 0, 1, 3, 4), lost: 1, longest: 1},
		{name: "two in a run", stream: arriving(5, 0, 3, 4), lost: 2, longest: 2},
		{name: "a duplicate", stream: arriving(3, 0, 1, 1, 2), duplicates: 1},
		{name: "a duplicate that comes late is not reordered", stream: arriving(3, 0, 1, 2, 0), duplicates: 1},
		// Packet 3 arrives behind 4 and 5: one is reordered, by two.
		{name: "overtaken by two", stream: arriving(6, 0, 1, 2, 4, 5, 3), reordered: 1, extent: 2},
		// The order 1 2 3 7 8 9 10 4 5 6 11 of RFC 4737, counted from 0:
		// 4, 5 and 6 are reordered, with extents of 4, 5 and 6.
		{name: "a stretch overtaken", stream: arriving(11, 0, 1, 2, 6, 7, 8, 9, 3, 4, 5, 10), reordered: 3, extent: 6},
		{name: "numbers that were never sent", stream: arriving(2, 0, 7, -1, 1)},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := oneway.Of(c.stream, in, true)
			assert.Equal(t, loss.Ratio{Lost: c.lost, Sent: len(c.stream.Sent)}, d.Loss)
			assert.Equal(t, c.duplicates, d.Duplicates)
			assert.Equal(t, c.reordered, d.Order.Reordered)
			assert.Equal(t, c.extent, d.Order.Extent)
			assert.Equal(t, c.longest, d.Pattern.Longest)
		})
	}
	d := oneway.Of(fixed(10, 7*ms), in, true)
	assert.Equal(t, 7*ms, d.Delay.Median.Or(0))
	assert.Equal(t, map[int]int{46: 10}, d.DSCPs)
	assert.Equal(t, map[int]int{60: 10}, d.TTLs)
	held := fixed(4, ms)
	held.Sent[2], held.Arrivals = time.Time{}, held.Arrivals[:2]
	assert.Equal(t, loss.Ratio{Lost: 1, Sent: 3}, oneway.Of(held, in, true).Loss, "what did not leave is not lost")
	none := oneway.Of(oneway.Stream{}, in, true)
	assert.False(t, none.Delay.Median.IsSet())
	assert.False(t, none.PDV999.IsSet())
}

// seen is a stream as clocks tell it that differ by an offset and a skew: each way has
// a least delay and a queue.
func seen(r *rand.Rand, n int, least, queue, offset time.Duration, skew float64, home bool) oneway.Stream {
	s := oneway.Stream{Interval: 20 * ms}
	far := func(t time.Time) time.Time {
		return t.Add(offset + time.Duration(skew*float64(t.Sub(origin))))
	}
	for i := range n {
		sent := origin.Add(time.Duration(i) * 20 * ms)
		got := sent.Add(least + time.Duration(r.ExpFloat64()*float64(queue)))
		if home {
			sent = far(sent)
		} else {
			got = far(got)
		}
		s.Sent = append(s.Sent, sent)
		s.Arrivals = append(s.Arrivals, oneway.Arrival{Number: i, At: got})
	}
	return s
}

func TestClock(t *testing.T) {
	for _, c := range []struct {
		name         string
		n            int
		there, back  time.Duration // least delays
		queue        time.Duration
		offset       time.Duration
		skew         float64
		wantError    time.Duration // half of the least round trip
		skewIsToldBy float64
	}{
		{"a second ahead, as far both ways", 1000, 20 * ms, 20 * ms, ms, time.Second, 0, 20 * ms, 2e-6},
		{"behind, and fast", 3000, 5 * ms, 5 * ms, ms / 2, -300 * ms, 50e-6, 5 * ms, 2e-6},
		{"slow", 3000, 5 * ms, 5 * ms, 2 * ms, 700 * ms, -50e-6, 5 * ms, 3e-6},
		{"the way back is longer", 1000, 5 * ms, 25 * ms, ms / 10, 40 * ms, 0, 15 * ms, 2e-6},
		{"too short to tell a skew", 40, 5 * ms, 5 * ms, 0, 40 * ms, 50e-6, 5 * ms, 51e-6},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := rand.New(rand.NewPCG(1, 2))
			there, back := seen(r, c.n, c.there, c.queue, c.offset, c.skew, false), seen(r, c.n, c.back, c.queue, c.offset, c.skew, true)
			clock, ok := oneway.Estimate(there, back)
			require.True(t, ok)
			assert.False(t, clock.InStep)
			assert.InDelta(t, c.skew, clock.Skew, c.skewIsToldBy)
			assert.InDelta(t, float64(c.wantError), float64(clock.Error), float64(ms)/10)
			assert.LessOrEqual(t, (clock.Offset - c.offset).Abs(), clock.Error+ms/10, "the stated error holds")
			// The variation is exact, whatever the offset is.
			d := oneway.Of(there, clock, true)
			truth := oneway.Of(seen(rand.New(rand.NewPCG(1, 2)), c.n, c.there, c.queue, 0, 0, false), oneway.Stepped(0), true)
			assert.InDelta(t, float64(truth.Delay.Jitter.Or(0)), float64(d.Delay.Jitter.Or(-1)), float64(ms)/20)
			assert.InDelta(t, float64(truth.Delay.PDV.Or(0)), float64(d.Delay.PDV.Or(-1)), float64(ms)/10)
			if c.there == c.back {
				assert.InDelta(t, float64(truth.Delay.Median.Or(0)), float64(d.Delay.Median.Or(-1)), float64(ms)/5)
				home := oneway.Of(back, clock, false)
				assert.InDelta(t, float64(truth.Delay.Min.Or(0)), float64(home.Delay.Min.Or(-1)), float64(ms)/5)
			}
		})
	}
	_, ok := oneway.Estimate(fixed(10, ms), oneway.Stream{})
	assert.False(t, ok, "one way alone tells no offset")
}
