package oneway_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/oneway"
)

func TestTally(t *testing.T) {
	for _, c := range []struct {
		name                           string
		numbers                        []int
		packets, duplicates, reordered int64
		sent, lost                     int64
	}{
		{"in order", []int{0, 1, 2, 3}, 4, 0, 0, 4, 0},
		{"one lost", []int{0, 1, 3}, 3, 0, 0, 4, 1},
		{"the last lost", []int{0, 1}, 2, 0, 0, 4, 2},
		{"overtaken", []int{0, 2, 1, 3}, 4, 0, 1, 4, 0},
		{"twice", []int{0, 1, 1, 0, 2}, 3, 2, 0, 3, 0},
		{"a gap wider than the window", []int{0, 200_000, 200_001, 200_000}, 3, 1, 0, 3, 0},
		{"too old to be told from a duplicate", []int{0, 200_000, 1}, 2, 1, 0, 3, 1},
		{"nothing", nil, 0, 0, 0, 5, 5},
	} {
		t.Run(c.name, func(t *testing.T) {
			var y oneway.Tally
			for i, n := range c.numbers {
				at := origin.Add(time.Duration(i) * ms)
				y.Add(n, at, at.Add(5*ms), 100)
			}
			assert.Equal(t, c.packets, y.Packets)
			assert.Equal(t, 100*c.packets, y.Bytes)
			assert.Equal(t, c.duplicates, y.Duplicates)
			assert.Equal(t, c.reordered, y.Reordered)
			assert.Equal(t, c.lost, y.Lost(c.sent))
			if c.packets > 0 {
				assert.Zero(t, y.Jitter().Or(-1))
				assert.Zero(t, y.Waited().Or(-1))
			} else {
				assert.False(t, y.Jitter().IsSet())
				assert.False(t, y.Waited().IsSet())
			}
		})
	}
}

// TestTallyOfVariation: transit times of 10, 20, 10 ms give J = (10 + …)/16 as RFC 3550
// §6.4.1 has it: 0.625 ms after the first, then 0.625 + (10 − 0.625)/16 = 1.2109 ms.
func TestTallyOfVariation(t *testing.T) {
	var y oneway.Tally
	for i, d := range []time.Duration{10, 20, 10} {
		at := origin.Add(time.Duration(i) * 20 * ms)
		y.Add(i, at, at.Add(d*ms), 1)
	}
	assert.InDelta(t, 1.2109375e6, float64(y.Jitter().Or(0)), 1)
	assert.InDelta(t, 10e6/3, float64(y.Waited().Or(0)), 1, "0, 10 and 0 ms beyond the fastest")
	var untimed oneway.Tally
	untimed.Add(0, time.Time{}, origin, 1)
	assert.Equal(t, int64(1), untimed.Packets)
	assert.False(t, untimed.Jitter().IsSet(), "without times of sending there is none")
}

func TestSplit(t *testing.T) {
	s := fixed(100, 3*ms) // 2 s of packets
	s.Arrivals = append(s.Arrivals[:10], s.Arrivals[11:]...)
	s.Arrivals = append(s.Arrivals, oneway.Arrival{Number: 500, At: origin})
	parts := s.Split(origin, time.Second, 3)
	assert.Len(t, parts[0].Sent, 50)
	assert.Len(t, parts[0].Arrivals, 49)
	assert.Len(t, parts[1].Sent, 50)
	assert.Len(t, parts[1].Arrivals, 50)
	assert.Empty(t, parts[2].Sent)
	d := oneway.Of(parts[0], oneway.Stepped(0), true)
	assert.Equal(t, 1, d.Loss.Lost)
	assert.Equal(t, 3*ms, d.Delay.Median.Or(0))
	later := s.Split(origin.Add(time.Second), time.Second, 1)
	assert.Len(t, later[0].Sent, 50, "what was sent before is left out")
	assert.Equal(t, 0, later[0].Arrivals[0].Number, "numbered anew")
}

func TestOfAll(t *testing.T) {
	a, b := fixed(100, 5*ms), fixed(100, 7*ms)
	b.Arrivals = b.Arrivals[:90]
	b.Late = 2
	all := oneway.OfAll([]oneway.Stream{a, b}, oneway.Stepped(0), true)
	assert.Equal(t, 200, all.Loss.Sent)
	assert.Equal(t, 10, all.Loss.Lost)
	assert.Equal(t, 2, all.Late)
	assert.Equal(t, 1, all.Pattern.Runs)
	assert.Equal(t, 10, all.Pattern.Longest)
	assert.Equal(t, 5*ms, all.Delay.Min.Or(0))
	assert.Equal(t, 7*ms, all.Delay.Max.Or(0))
	assert.Zero(t, all.Delay.Jitter.Or(-1), "the step between two streams is no variation")
	assert.Equal(t, map[int]int{46: 190}, all.DSCPs)
	one := oneway.OfAll([]oneway.Stream{a}, oneway.Stepped(0), true)
	assert.Equal(t, oneway.Of(a, oneway.Stepped(0), true), one)
}
