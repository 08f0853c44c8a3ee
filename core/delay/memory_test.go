package delay_test

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/delay"
)

// lasting are delays whose correlation falls by e in so many probes, with a part of their variance;
// the rest is each one's own (an autoregressive process of the first order beside white noise).
func lasting(r *rand.Rand, n int, probes, share float64) (list []delay.Sample) {
	keep := math.Exp(-1 / probes)
	z := r.NormFloat64()
	for i := range n {
		z = keep*z + math.Sqrt(1-keep*keep)*r.NormFloat64()
		v := math.Sqrt(share)*z + math.Sqrt(1-share)*r.NormFloat64()
		// Any distribution: only ranks count.
		list = append(list, delay.Sample{Number: i, RTT: 20*time.Millisecond + time.Duration(math.Exp(v)*1e6)})
	}
	return list
}

func TestMemoryOfDelays(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	for _, c := range []struct {
		name          string
		probes, share float64
	}{{"long", 40, 1}, {"a part lasts", 40, 0.6}, {"short", 5, 0.9}} {
		t.Run(c.name, func(t *testing.T) {
			m, ok := delay.MemoryOf(lasting(r, 20_000, c.probes, c.share), 100*time.Millisecond)
			assert.True(t, ok)
			// It is fitted by a shape that falls less steeply first: within a half of such a process's.
			assert.InEpsilon(t, c.probes*0.1, m.For.Seconds(), 0.5)
			assert.InDelta(t, c.share, m.Share, 0.2)
		})
	}
	shows := 0
	for range 50 {
		if _, ok := delay.MemoryOf(lasting(r, 2000, 0.01, 0), time.Second); ok {
			shows++
		}
	}
	assert.LessOrEqual(t, shows, 2, "where each delay is its own none shows")
	_, ok := delay.MemoryOf(lasting(r, 50, 40, 1), time.Second)
	assert.False(t, ok, "too few")
	few := lasting(r, 5000, 40, 1)
	for i := range few { // every second one was lost
		few[i].Number *= 2
	}
	m, ok := delay.MemoryOf(few, 50*time.Millisecond)
	assert.True(t, ok)
	assert.InEpsilon(t, 4, m.For.Seconds(), 0.55, "80 numbers of 50 ms each")
	same := lasting(r, 500, 40, 1)
	for i := range same {
		same[i].RTT = time.Millisecond
	}
	_, ok = delay.MemoryOf(same, time.Second)
	assert.False(t, ok, "delays that do not vary have none")
}

func TestQuantilesAtParts(t *testing.T) {
	sorted := make([]time.Duration, 1001)
	for i := range sorted {
		sorted[i] = time.Duration(i)
	}
	at := delay.Quantiles(sorted)
	assert.Len(t, at, len(delay.Parts))
	for i, p := range delay.Parts {
		assert.InDelta(t, 1000*p, float64(at[i]), 1)
	}
	assert.Nil(t, delay.Quantiles(nil))
}
