package delay_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
)

const ms = time.Millisecond

func samples(rtts ...time.Duration) []delay.Sample {
	var list []delay.Sample
	for i, r := range rtts {
		if r > 0 { // 0 stands for a lost probe
			list = append(list, delay.Sample{Number: i, RTT: r})
		}
	}
	return list
}

func TestQuantileInterpolatesBetweenOrderStatistics(t *testing.T) {
	sorted := []time.Duration{10 * ms, 20 * ms, 30 * ms, 40 * ms}
	for _, c := range []struct {
		q    float64
		want time.Duration
	}{{0, 10 * ms}, {1, 40 * ms}, {0.5, 25 * ms}, {0.25, 17500 * time.Microsecond}, {0.95, 38500 * time.Microsecond}} {
		assert.Equal(t, c.want, delay.Quantile(sorted, c.q), "q=%v", c.q)
	}
	assert.Equal(t, 7*ms, delay.Quantile([]time.Duration{7 * ms}, 0.99))
}

func TestSummariseWorkedByHand(t *testing.T) {
	s := delay.Summarise(samples(10*ms, 14*ms, 12*ms, 20*ms))
	for name, c := range map[string]struct {
		got  figure.Duration
		want time.Duration
	}{
		"min":    {s.Min, 10 * ms},
		"mean":   {s.Mean, 14 * ms},
		"median": {s.Median, 13 * ms},
		"max":    {s.Max, 20 * ms},
		// Order statistics 10 12 14 20: position 0.95·3 = 2.85, so 14 + 0.85·6.
		"p95": {s.P95, 19100 * time.Microsecond},
		"p99": {s.P99, 19820 * time.Microsecond},
		// Squares of −4, 0, −2, 6 sum to 56; 56/3 has the root 4.320494.
		"sd": {s.SD, 4320494 * time.Nanosecond},
		// |4| |−2| |8| in the mean.
		"jitter": {s.Jitter, 4666667 * time.Nanosecond},
		// J: 4/16 = 0.25; +(2−0.25)/16 = 0.359375; +(8−0.359375)/16 = 0.836914…
		"rfc3550": {s.JitterRFC3550, 836914 * time.Nanosecond},
		"pdv":     {s.PDV, 9820 * time.Microsecond},
		"spread":  {s.Spread, 4 * ms},
	} {
		v, ok := c.got.Get()
		assert.True(t, ok, name)
		assert.InDelta(t, float64(c.want), float64(v), 1, name)
	}
}

func TestJitterSkipsWhatALossSeparates(t *testing.T) {
	// 10 and 30 are no neighbours: a probe between them was lost.
	s := delay.Summarise(samples(10*ms, 0, 30*ms, 31*ms))
	v, _ := s.Jitter.Get()
	assert.Equal(t, 1*ms, v)
	alone := delay.Summarise(samples(10*ms, 0, 30*ms))
	assert.False(t, alone.Jitter.IsSet(), "no two neighbours, no jitter")
	assert.True(t, alone.JitterRFC3550.IsSet(), "RFC 3550 runs over the packets that arrived")
}

func TestTooFewAnswersLeaveFiguresAbsent(t *testing.T) {
	none := delay.Summarise(nil)
	assert.Equal(t, delay.Summary{}, none)
	one := delay.Summarise(samples(5 * ms))
	assert.True(t, one.Median.IsSet())
	assert.False(t, one.SD.IsSet())
	assert.False(t, one.Jitter.IsSet())
	assert.False(t, one.JitterRFC3550.IsSet())
}
