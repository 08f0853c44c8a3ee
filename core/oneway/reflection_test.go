package oneway_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/oneway"
)

// reflect sends requests through a network of known fates and returns what the sender
// knows in the end: 10 ms there, 20 ms back, a far clock that is a second ahead.
func reflect(t *testing.T, stateful, counts bool, count, closers int, there, back func(n int) bool) oneway.Reflection {
	t.Helper()
	start := time.Unix(50_000, 0)
	r := oneway.Reflection{Count: count, Interval: 20 * time.Millisecond}
	seq := int64(0)
	for n := range count + closers {
		at := start.Add(time.Duration(n) * 20 * time.Millisecond)
		r.Sent = append(r.Sent, at)
		if !there(n) {
			continue
		}
		a := oneway.Reflected{Number: n, Seq: int64(n), Received: at.Add(1010 * time.Millisecond), Sent: at.Add(1011 * time.Millisecond), Came: at.Add(31 * time.Millisecond), Counted: -1, TTL: [2]int{60, 61}, DSCP: [2]int{46, 0}}
		if stateful {
			a.Seq = seq
		}
		seq++
		if counts {
			a.Counted = seq
		}
		if back(n) {
			r.Answers = append(r.Answers, a)
		}
	}
	return r
}

func among(list ...int) func(int) bool {
	return func(n int) bool {
		for _, x := range list {
			if x == n {
				return false
			}
		}
		return true
	}
}

func always(int) bool { return true }

func TestWhichWayAPacketWasLost(t *testing.T) {
	for _, c := range []struct {
		name             string
		stateful, counts bool
		there, back      func(int) bool
		known            bool
		lost             [2]int
		sent             [2]int
		unplaced         int
	}{
		{"nothing lost, stateful", true, false, always, always, true, [2]int{}, [2]int{100, 100}, 0},
		{"nothing lost, stateless", false, false, always, always, true, [2]int{}, [2]int{100, 100}, 0},
		{"there", true, false, among(3, 4, 90), always, true, [2]int{3, 0}, [2]int{100, 97}, 0},
		{"back, by counters", true, true, always, among(7, 8), true, [2]int{0, 2}, [2]int{100, 100}, 0},
		{"back, without counters: nothing shows that it counts", true, false, always, among(7, 8), false, [2]int{}, [2]int{98, 98}, 0},
		{"both, apart", true, false, among(3, 50), among(20, 21, 77), true, [2]int{2, 3}, [2]int{100, 98}, 0},
		{"both, side by side", true, false, among(3, 50), among(4), true, [2]int{2, 1}, [2]int{100, 98}, 2},
		{"the first ones", true, false, among(0, 1), among(2), true, [2]int{2, 1}, [2]int{100, 98}, 3},
		{"the last ones, closed by more", true, false, among(98), among(99), true, [2]int{1, 1}, [2]int{100, 99}, 2},
		{"stateless, lost", false, false, among(3), always, false, [2]int{}, [2]int{99, 99}, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := reflect(t, c.stateful, c.counts, 100, 3, c.there, c.back).Ways()
			assert.Equal(t, c.known, w.Known)
			clock, ok := oneway.Estimate(w.There, w.Back)
			require.True(t, ok)
			assert.Equal(t, 995*time.Millisecond, clock.Offset, "half of what both ways differ by stays in it")
			for i, s := range []oneway.Stream{w.There, w.Back} {
				d := oneway.Of(s, clock, i == 0)
				assert.Equal(t, c.lost[i], d.Loss.Lost, "lost, direction %d", i)
				assert.Equal(t, c.sent[i], d.Loss.Sent, "sent, direction %d", i)
				assert.Equal(t, 15*time.Millisecond, d.Delay.Median.Or(0))
				assert.Zero(t, d.Order.Reordered)
				assert.Zero(t, d.Duplicates)
			}
			assert.Equal(t, c.unplaced, w.Unplaced)
			assert.Equal(t, 46, w.There.Arrivals[10].DSCP)
			assert.Equal(t, 61, w.Back.Arrivals[10].TTL)
		})
	}
}

// TestLossesOfBothWaysAreCounted: whatever is lost, the number of losses each way is
// exact up to the last answer.
func TestLossesOfBothWaysAreCounted(t *testing.T) {
	for seed := range uint64(50) {
		random := rand.New(rand.NewPCG(seed, 4))
		var lost [2]int
		fate := make([][2]bool, 1000)
		for n := range fate {
			fate[n] = [2]bool{random.Float64() > 0.1, random.Float64() > 0.05}
		}
		fate[999] = [2]bool{true, true}
		for _, f := range fate[:900] {
			if !f[0] {
				lost[0]++
			} else if !f[1] {
				lost[1]++
			}
		}
		w := reflect(t, true, true, 900, 100, func(n int) bool { return fate[n][0] }, func(n int) bool { return fate[n][1] }).Ways()
		require.True(t, w.Known && w.Stateful)
		assert.Equal(t, lost[0], oneway.Of(w.There, oneway.Stepped(0), true).Loss.Lost, "seed %d", seed)
		// A closing packet may stand for one of the last of the stream.
		assert.InDelta(t, lost[1], oneway.Of(w.Back, oneway.Stepped(0), false).Loss.Lost, 1, "seed %d", seed)
	}
}

func TestWhatCameTwiceOrOvertook(t *testing.T) {
	r := reflect(t, true, true, 10, 0, always, always)
	// The answer to 4 came a second time, later than that to 5.
	twice := r.Answers[4]
	twice.Came = twice.Came.Add(25 * time.Millisecond)
	r.Answers = append(r.Answers[:6], append([]oneway.Reflected{twice}, r.Answers[6:]...)...)
	// 8 reached the reflector before 7.
	r.Answers[8].Seq, r.Answers[9].Seq = 8, 7
	r.Answers[8].Received, r.Answers[9].Received = r.Answers[9].Received, r.Answers[8].Received
	w := r.Ways()
	there, back := oneway.Of(w.There, oneway.Stepped(0), true), oneway.Of(w.Back, oneway.Stepped(0), false)
	assert.Equal(t, [2]int{1, 0}, [2]int{there.Order.Reordered, there.Duplicates})
	assert.Equal(t, 1, back.Duplicates)
	assert.Zero(t, there.Loss.Lost+back.Loss.Lost)

	assert.False(t, oneway.Reflection{Sent: r.Sent, Count: 10}.Ways().Known, "nothing came back: nothing is known")
}
