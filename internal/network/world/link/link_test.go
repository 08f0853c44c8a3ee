package link_test

import (
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network/world/link"
)

const (
	fates = 100_000
	ms    = time.Millisecond
)

// crossAll sends n packets of a size, one every so often.
func crossAll(p link.Properties, n, size int, every time.Duration) (delays []float64, all []link.Crossing, s link.State) {
	for i := range n {
		at := int64(time.Hour) + int64(i)*int64(every)
		c := s.Cross(&p, link.Packet{Seed: 9, Number: link.Mix(uint64(i)), Size: size, At: at})
		all = append(all, c)
		if c.Cause == link.Through {
			delays = append(delays, float64(c.At-at)/1e6)
		}
	}
	return delays, all, s
}

func with(change func(*link.Properties)) link.Properties {
	p := link.Default()
	p.Delay = 20 * ms
	change(&p)
	return p
}

// below is how many of n draws lie below a quantile, within four standard errors.
func assertQuantiles(t *testing.T, values []float64, quantile func(float64) float64) {
	t.Helper()
	n := float64(len(values))
	for _, q := range []float64{0.01, 0.1, 0.5, 0.9, 0.99, 0.999} {
		limit, below := quantile(q), 0
		for _, v := range values {
			if v <= limit {
				below++
			}
		}
		assert.InDelta(t, q*n, float64(below), 4*math.Sqrt(n*q*(1-q)), "below the %g quantile, %g ms", q, limit)
	}
}

func mean(values []float64) (sum float64) {
	for _, v := range values {
		sum += v / float64(len(values))
	}
	return sum
}

func TestVariationsAreWhatTheySay(t *testing.T) {
	// Quantiles by hand: of the normal distribution by erfinv, of the gamma
	// distribution with shape 2 by bisection of 1 − e^−y (1 + y).
	gamma2 := func(q float64) float64 {
		low, high := 0.0, 60.0
		for range 200 {
			if y := (low + high) / 2; 1-math.Exp(-y)*(1+y) < q {
				low = y
			} else {
				high = y
			}
		}
		return low
	}
	bins := []link.Bin{{From: 0, To: ms, Weight: 0.7}, {From: ms, To: 5 * ms, Weight: 0.25}, {From: 5 * ms, To: 20 * ms, Weight: 0.05}}
	for _, c := range []struct {
		name     string
		v        link.Variation
		mean, sd float64
		quantile func(q float64) float64
	}{
		{"uniform", link.Variation{Kind: link.Uniform, Scale: 5 * ms}, 20, 5 / math.Sqrt(3), func(q float64) float64 { return 15 + 10*q }},
		{"normal", link.Variation{Kind: link.Gaussian, Scale: 2 * ms}, 20, 2, func(q float64) float64 { return 20 + 2*math.Sqrt2*math.Erfinv(2*q-1) }},
		{"gamma", link.Variation{Kind: link.Gamma, Scale: 4 * ms, Shape: 2}, 24, 4 / math.Sqrt2, func(q float64) float64 { return 20 + 2*gamma2(q) }},
		{"exponential", link.Variation{Kind: link.Gamma, Scale: 4 * ms, Shape: 1}, 24, 4, func(q float64) float64 { return 20 - 4*math.Log(1-q) }},
		{"pareto", link.Variation{Kind: link.Pareto, Scale: 4 * ms, Shape: 3}, 24, 4 * math.Sqrt(3), func(q float64) float64 { return 20 + 8*(math.Pow(1-q, -1.0/3)-1) }},
		{"histogram", link.Variation{Kind: link.Histogram, Bins: bins}, 20 + 0.7*0.5 + 0.25*3 + 0.05*12.5, 3.1, func(q float64) float64 {
			switch {
			case q < 0.7:
				return 20 + q/0.7
			case q < 0.95:
				return 21 + 4*(q-0.7)/0.25
			}
			return 25 + 15*(q-0.95)/0.05
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			for name, p := range map[string]link.Properties{
				"far apart":    with(func(p *link.Properties) { p.Variation = c.v }),
				"not in order": with(func(p *link.Properties) { p.Variation, p.Unordered = c.v, true }),
			} {
				every := time.Minute
				if p.Unordered {
					every = 100 * time.Microsecond
				}
				values, _, _ := crossAll(p, fates, 84, every)
				require.Len(t, values, fates, name)
				assert.InDelta(t, c.mean, mean(values), 4*c.sd/math.Sqrt(fates), name)
				assertQuantiles(t, values, c.quantile)
			}
		})
	}
	values, _, _ := crossAll(with(func(*link.Properties) {}), 1000, 84, ms)
	assert.Equal(t, 20.0, slices.Max(values), "no variation")
	assert.Equal(t, 20.0, slices.Min(values))
}

// TestADelayThatLasts: as a whole it is what it says, and after its memory the correlation of what
// varies has fallen to 1/e.
func TestADelayThatLasts(t *testing.T) {
	for _, c := range []struct {
		name   string
		memory link.Memory
		want   []float64 // the correlation of the next packet, and after 1 and 2.5 memories: drawn without putting back
	}{
		{"all of it", link.Memory{For: 2 * time.Second, Share: 1}, []float64{1, math.Exp(-1), -1.0 / 16}},
		{"a part", link.Memory{For: 2 * time.Second, Share: 0.6}, []float64{0.6, 0.6 * math.Exp(-1), 0}},
		{"none", link.Memory{}, []float64{0, 0, 0}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := with(func(p *link.Properties) {
				p.Variation, p.Memory, p.Unordered = link.Variation{Kind: link.Gaussian, Scale: ms}, c.memory, true
			})
			values, _, _ := crossAll(p, 4*fates, 84, 10*ms)
			// 2000 steps, of which each sixteen meet all of the distribution.
			assert.InDelta(t, 20, mean(values), 0.03)
			for lag, want := range map[int]float64{1: c.want[0], 200: c.want[1], 500: c.want[2]} {
				sum, square := 0.0, 0.0
				for i := range values[:len(values)-lag] {
					sum += (values[i] - 20) * (values[i+lag] - 20)
					square += (values[i] - 20) * (values[i] - 20)
				}
				assert.InDelta(t, want, sum/square, 0.08, "after %d packets", lag)
			}
			slices.Sort(values)
			for q, want := range map[float64]float64{0.05: -1.645, 0.25: -0.674, 0.5: 0, 0.75: 0.674, 0.95: 1.645} {
				assert.InDelta(t, 20+want, values[int(q*float64(len(values)))], 0.06, "quantile %g", q)
			}
		})
	}
	t.Run("any distribution", func(t *testing.T) {
		bins := []link.Bin{{From: 0, To: ms, Weight: 0.9}, {From: 10 * ms, To: 20 * ms, Weight: 0.1}}
		for _, v := range []link.Variation{{Kind: link.Histogram, Bins: bins}, {Kind: link.Gamma, Scale: 2 * ms, Shape: 2}, {Kind: link.Pareto, Scale: 2 * ms, Shape: 3}} {
			p := with(func(p *link.Properties) { p.Variation, p.Unordered = v, true })
			own, _, _ := crossAll(p, fates, 84, 10*ms)
			p.Memory = link.Memory{For: time.Second, Share: 1}
			lasts, _, _ := crossAll(p, 4*fates, 84, 10*ms)
			slices.Sort(own)
			slices.Sort(lasts)
			for _, q := range []float64{0.1, 0.5, 0.8, 0.95} {
				assert.InEpsilon(t, own[int(q*fates)], lasts[int(4*q*fates)], 0.03, "%d, quantile %g", v.Kind, q)
			}
		}
	})
}

func TestLossesAreWhatTheySay(t *testing.T) {
	for _, c := range []struct {
		name string
		loss link.Loss
		mean float64
		// inflation of the variance of the count against independent losses
		inflation float64
	}{
		{"none", link.Loss{}, 0, 1},
		{"random", link.Loss{Kind: link.RandomLoss, Ratio: 0.005}, 0.005, 1},
		{"all", link.Loss{Kind: link.RandomLoss, Ratio: 1}, 1, 1},
		{"every 50th", link.Loss{Kind: link.EveryNth, N: 50}, 0.02, 0},
		// π_bad = 0.002 / 0.202; lost there 0.9. The chain's correlation 1 − p − r =
		// 0.798 makes the variance of a sum (1 + ρ) / (1 − ρ) times as large.
		{"bursts", link.Loss{Kind: link.BurstLoss, Enter: 0.002, Leave: 0.2, Inside: 0.9}, 0.002 / 0.202 * 0.9, 1.798 / 0.202},
		{"bursts, and some outside", link.Loss{Kind: link.BurstLoss, Enter: 0.01, Leave: 0.25, Inside: 0.5, Outside: 0.001}, (0.01*0.5 + 0.25*0.001) / 0.26, 1.74 / 0.26},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, all, s := crossAll(with(func(p *link.Properties) { p.Loss = c.loss }), fates, 84, ms)
			lost := 0
			for _, x := range all {
				if x.Cause == link.Lost {
					lost++
				}
			}
			assert.InDelta(t, c.mean, c.loss.Mean(), 1e-12)
			assert.InDelta(t, c.mean*fates, float64(lost), 4*math.Sqrt(fates*c.mean*(1-c.mean)*c.inflation)+1e-6)
			assert.Equal(t, uint64(lost), s.Tally.By[link.Lost])
			assert.Equal(t, uint64(fates), s.Tally.Packets)
		})
	}
}

func TestBurstsHaveTheirLength(t *testing.T) {
	_, all, _ := crossAll(with(func(p *link.Properties) { p.Loss = link.Loss{Kind: link.BurstLoss, Enter: 0.01, Leave: 0.2, Inside: 1} }), fates, 84, ms)
	runs, lost := 0, 0
	for i, c := range all {
		if c.Cause != link.Lost {
			continue
		}
		lost++
		if i == 0 || all[i-1].Cause != link.Lost {
			runs++
		}
	}
	// Run lengths are geometric with mean 1/0.2 and standard deviation √0.8/0.2.
	assert.InDelta(t, 5, float64(lost)/float64(runs), 4*math.Sqrt(0.8)/0.2/math.Sqrt(float64(runs)))
}

func TestEveryNthIsRegular(t *testing.T) {
	_, all, _ := crossAll(with(func(p *link.Properties) { p.Loss = link.Loss{Kind: link.EveryNth, N: 4} }), 12, 84, ms)
	for i, c := range all {
		assert.Equal(t, (i+1)%4 == 0, c.Cause == link.Lost, "%d", i)
	}
}

func TestCopiesAndReordering(t *testing.T) {
	delays, all, s := crossAll(with(func(p *link.Properties) { p.Duplicates, p.Reorders, p.HeldBack = 0.03, 0.02, 7*ms }), fates, 84, ms)
	copies, held := 0, 0
	for i, c := range all {
		if c.Again > 0 {
			copies++
			assert.Greater(t, c.Again, c.At)
		}
		if delays[i] > 26 {
			held++
		}
	}
	assert.InDelta(t, 0.03*fates, copies, 4*math.Sqrt(fates*0.03*0.97))
	assert.InDelta(t, 0.02*fates, held, 4*math.Sqrt(fates*0.02*0.98))
	assert.Equal(t, uint64(copies), s.Tally.Copies)
	assert.Equal(t, uint64(held), s.Tally.Overtaken)
}

func TestALinkKeepsTheOrder(t *testing.T) {
	p := with(func(p *link.Properties) { p.Variation = link.Variation{Kind: link.Uniform, Scale: 10 * ms} })
	_, all, _ := crossAll(p, 1000, 84, 100*time.Microsecond)
	assert.True(t, slices.IsSortedFunc(all, func(a, b link.Crossing) int { return int(a.At - b.At) }))
	p.Unordered = true
	_, all, _ = crossAll(p, 1000, 84, 100*time.Microsecond)
	assert.False(t, slices.IsSortedFunc(all, func(a, b link.Crossing) int { return int(a.At - b.At) }))
}

func TestRateAndQueue(t *testing.T) {
	// 10 Mbit/s: a packet of 1250 bytes takes 1 ms.
	slow := func(change func(*link.Properties)) link.Properties {
		return with(func(p *link.Properties) { p.Delay, p.Rate = 5*ms, 10e6; change(p) })
	}
	t.Run("one packet", func(t *testing.T) {
		delays, _, _ := crossAll(slow(func(*link.Properties) {}), 3, 1250, time.Second)
		assert.Equal(t, []float64{6, 6, 6}, delays)
	})
	t.Run("a burst waits in line", func(t *testing.T) {
		delays, _, _ := crossAll(slow(func(*link.Properties) {}), 4, 1250, 0)
		assert.Equal(t, []float64{6, 7, 8, 9}, delays)
	})
	t.Run("the queue is as deep as it says, as a time", func(t *testing.T) {
		delays, all, s := crossAll(slow(func(p *link.Properties) { p.Queue = link.Queue{Time: 3 * ms} }), 10, 1250, 0)
		assert.Equal(t, []float64{6, 7, 8, 9}, delays)
		assert.Equal(t, link.Full, all[4].Cause)
		assert.Equal(t, uint64(6), s.Tally.By[link.Full])
		assert.Equal(t, 4*ms, s.Backlog(int64(time.Hour)))
	})
	t.Run("and as a size", func(t *testing.T) {
		delays, _, _ := crossAll(slow(func(p *link.Properties) { p.Queue = link.Queue{Bytes: 5000} }), 10, 1250, 0)
		assert.Len(t, delays, 4, "four packets fill 5000 bytes")
	})
	t.Run("twice the rate is offered", func(t *testing.T) {
		delays, _, s := crossAll(slow(func(*link.Properties) {}), fates, 1250, ms/2)
		assert.InDelta(t, fates/2, len(delays), 60, "half of it fits, and what is in the queue at the end")
		assert.InDelta(t, 55, delays[len(delays)-1], 2, "the queue of 50 ms is full")
		assert.Equal(t, s.Tally.Packets, s.Tally.By[link.Full]+s.Tally.By[link.Through])
	})
	t.Run("early drops keep the queue short", func(t *testing.T) {
		delays, _, _ := crossAll(slow(func(p *link.Properties) { p.Queue.Early = true }), fates, 1250, ms/2)
		// Half must go, and half is dropped at three quarters of the depth.
		assert.InDelta(t, 5+0.75*50, mean(delays[1000:]), 2)
	})
}

func TestPolicer(t *testing.T) {
	p := with(func(p *link.Properties) { p.Policer = link.Policer{Rate: 8e6, Burst: 10_000} })
	_, all, _ := crossAll(p, 12, 1000, 0)
	assert.Equal(t, link.Through, all[9].Cause, "the burst passes")
	assert.Equal(t, link.Policed, all[10].Cause)
	delays, _, _ := crossAll(p, fates, 1000, ms/4)
	assert.InDelta(t, fates/4+10, len(delays), 12, "a packet a millisecond, and the burst")
	assert.Equal(t, 20.0, slices.Max(delays), "a policer does not delay")
}

func TestCrossTraffic(t *testing.T) {
	loaded := func(load float64) link.Properties {
		return with(func(p *link.Properties) {
			p.Delay, p.Rate, p.Load, p.Ripple, p.Queue = 5*ms, 10e6, load, false, link.Queue{Time: 40 * ms}
		})
	}
	t.Run("below the rate packets wait", func(t *testing.T) {
		delays, _, _ := crossAll(loaded(0.5), fates, 84, time.Second)
		require.Len(t, delays, fates)
		// ρ/(1−ρ) = 1 packet of 1.2 ms, four fifths of it on average, and 67 µs
		// to send at twice the time, because half of the rate is left.
		assert.InDelta(t, 5+0.8*1.2+0.1344, mean(delays), 0.005)
	})
	t.Run("above it what does not fit is dropped", func(t *testing.T) {
		_, all, s := crossAll(loaded(1.25), fates, 84, time.Second)
		require.Len(t, all, fates)
		assert.InDelta(t, 0.2*fates, float64(s.Tally.By[link.Full]), 4*math.Sqrt(fates*0.2*0.8))
	})
	t.Run("and no more than that, whatever the queue", func(t *testing.T) {
		for _, q := range []link.Queue{{Bytes: 50_000}, {Time: 40 * ms, Early: true}} {
			p := loaded(1.25)
			p.Queue = q
			_, _, s := crossAll(p, fates, 1250, time.Second)
			assert.InDelta(t, 0.2*fates, float64(s.Tally.By[link.Full]), 4*math.Sqrt(fates*0.2*0.8))
		}
	})
	t.Run("what is left is what fits", func(t *testing.T) {
		delays, _, _ := crossAll(loaded(0.6), fates, 1250, ms/2)
		assert.InDelta(t, 0.2*fates, len(delays), 100, "40 % of 10 Mbit/s")
	})
	t.Run("it swings", func(t *testing.T) {
		p := loaded(0.8)
		p.Ripple = true
		delays, _, _ := crossAll(p, fates, 84, time.Second)
		assert.Greater(t, slices.Max(delays), 4*slices.Min(delays))
	})
}

func TestACutLinkCarriesNothing(t *testing.T) {
	delays, all, s := crossAll(with(func(p *link.Properties) { p.Up = false }), 5, 84, ms)
	assert.Empty(t, delays)
	assert.Equal(t, link.Down, all[0].Cause)
	assert.Equal(t, "down", link.Down.String())
	s.Refuse(2000)
	assert.Equal(t, uint64(1), s.Tally.By[link.TooBig])
}

func TestTimeThatStartsAgain(t *testing.T) {
	p := with(func(p *link.Properties) { p.Rate = 1e6 })
	var s link.State
	s.Cross(&p, link.Packet{Size: 1500, At: int64(48 * time.Hour)})
	c := s.Cross(&p, link.Packet{Size: 125, At: int64(24 * time.Hour)})
	assert.Equal(t, int64(24*time.Hour+21*ms), c.At, "a day before, the link was free")
}

// TestTheSameOnAnyMachine compares fates with those of the machine on which they
// were first computed.
func TestTheSameOnAnyMachine(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*link.Properties)
		want   uint64
	}{
		"uniform": {func(p *link.Properties) { p.Variation = link.Variation{Kind: link.Uniform, Scale: 5 * ms} }, 0x1260a7e01583d54c},
		"normal":  {func(p *link.Properties) { p.Variation = link.Variation{Kind: link.Gaussian, Scale: 2 * ms} }, 0xad4f844fe432cda7},
		"gamma":   {func(p *link.Properties) { p.Variation = link.Variation{Kind: link.Gamma, Scale: 4 * ms, Shape: 3} }, 0x824274973cfec59f},
		"pareto":  {func(p *link.Properties) { p.Variation = link.Variation{Kind: link.Pareto, Scale: 4 * ms, Shape: 2.5} }, 0x13f6d09160c95334},
		"histogram": {func(p *link.Properties) {
			p.Variation = link.Variation{Kind: link.Histogram, Bins: []link.Bin{{From: 0, To: ms, Weight: 0.7}, {From: ms, To: 9 * ms, Weight: 0.3}}}
		}, 0x3a123c63da18e494},
		"bursts": {func(p *link.Properties) {
			p.Loss = link.Loss{Kind: link.BurstLoss, Enter: 0.01, Leave: 0.2, Inside: 0.9}
		}, 0x235d58470a6bea68},
		"load":    {func(p *link.Properties) { p.Rate, p.Load, p.Ripple = 10e6, 0.95, true }, 0x5ef1f8b1cef1cbce},
		"policer": {func(p *link.Properties) { p.Policer = link.Policer{Rate: 1e6, Burst: 3000} }, 0xf6bad8990a44b37c},
	} {
		_, all, _ := crossAll(with(c.change), 20_000, 500, 700*time.Microsecond)
		h := uint64(0)
		for _, x := range all {
			h = link.Mix(h ^ uint64(x.At)<<8 ^ uint64(x.Cause))
		}
		assert.Equal(t, c.want, h, name)
	}
}
