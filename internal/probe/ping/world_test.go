package ping_test

import (
	"math"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/ping"
)

const place = `
world: quay
nodes:
  - {name: here, addresses: [192.0.2.1, "2001:db8::1"]}
  - {name: gw, router: true, addresses: [192.0.2.254]}
  - {name: near, addresses: [192.0.2.2, "2001:db8::2"]}
  - {name: far, addresses: [192.0.2.3]}
  - {name: shut, addresses: [192.0.2.4], icmp: drop}
  - {name: guarded, addresses: [192.0.2.5], icmp: prohibit}
  - {name: lossy, addresses: [192.0.2.6]}
links:
  - {between: [here, gw], delay: 100us}
  - {between: [gw, near], delay: 400us}
  - {between: [gw, far], delay: 74900us}
  - {between: [gw, shut], delay: 1ms}
  - {between: [gw, guarded], delay: 1ms}
  - {between: [gw, lossy], delay: 1ms, loss: 30%}
`

func TestWorldFates(t *testing.T) {
	m, err := world.Read([]byte(place), world.Options{})
	require.NoError(t, err)
	here, err := live.New(m).At("here")
	require.NoError(t, err)
	target := func(addr string) ping.Target {
		return ping.Target{Addr: netip.MustParseAddr(addr), Interval: 4 * time.Millisecond, Count: 50, Wait: 100 * time.Millisecond}
	}
	results := runTargets(t, here, target("192.0.2.2"), target("2001:db8::2"), target("192.0.2.3"), target("192.0.2.4"), target("192.0.2.5"), target("192.0.2.6"), target("203.0.113.99"))
	readings := make([]reading.Reading, len(results))
	for i, probes := range results {
		require.Len(t, probes, 50, "every probe has one fate")
		readings[i] = reading.Of(time.Now(), 0, 50, 0, probes)
	}
	for _, i := range []int{0, 1} {
		assert.Equal(t, 50, readings[i].Answered)
		assert.Equal(t, time.Millisecond, results[i][0].RTT, "a world knows its times exactly")
		assert.Equal(t, reading.StampWorld, readings[i].Stamp)
		assert.Equal(t, 63, results[i][0].TTL)
	}
	assert.Positive(t, readings[2].Late, "150 ms is past the wait of 100 ms")
	assert.Equal(t, 50, readings[2].Lost, "and so lost")
	assert.Equal(t, 50, readings[3].Lost)
	assert.Equal(t, 50, readings[4].Refused)
	assert.Equal(t, "administratively prohibited by 192.0.2.5", readings[4].Cause)
	assert.InDelta(t, 25.5, readings[5].Lost, 15, "1 − 0.7² of 50 are lost")
	assert.Equal(t, readings[5].Sent, readings[5].Answered+readings[5].Lost)
	assert.Equal(t, 50, readings[6].Lost, "an address that nobody has")
}

func TestMeasureEndsEarlyWithWhatItHas(t *testing.T) {
	m, err := world.Read([]byte(place), world.Options{})
	require.NoError(t, err)
	here, err := live.New(m).At("here")
	require.NoError(t, err)
	heard := make(chan struct{}, 1000)
	ctx, stop := contextThatEnds(t, heard, 20)
	defer stop()
	results, err := ping.Measure(ctx, here, ping.Request{Addrs: []netip.Addr{netip.MustParseAddr("192.0.2.2"), netip.MustParseAddr("2001:db8::2")},
		Probes: 100_000, Interval: 2 * time.Millisecond, Heard: func(int, reading.Probe) { heard <- struct{}{} }})
	require.NoError(t, err)
	sent := results[0].Reading.Sent + results[1].Reading.Sent
	assert.GreaterOrEqual(t, sent, 20)
	assert.Zero(t, results[0].Reading.Lost, "probes on their way are not counted as lost")
}

func TestPoissonIntervalsHaveTheirMean(t *testing.T) {
	m, err := world.Read([]byte(place), world.Options{})
	require.NoError(t, err)
	// In virtual time: a busy machine would leave deadlines out.
	here, err := live.Virtual(m, time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)).At("here")
	require.NoError(t, err)
	const count, mean = 4000, 20 * time.Millisecond
	results, err := ping.Measure(t.Context(), here, ping.Request{Addrs: []netip.Addr{netip.MustParseAddr("192.0.2.2")}, Interval: mean, Probes: count, Poisson: true, Seed: 4, Wait: time.Second, Mark: 3})
	require.NoError(t, err)
	probes := results[0].Probes
	require.Len(t, probes, count)
	var sum, squares float64
	for i := range count - 1 {
		step := probes[i+1].DueAt.Sub(probes[i].DueAt).Seconds()
		sum, squares = sum+step, squares+step*step
	}
	average := sum / (count - 1)
	// Of exponential intervals the mean and the standard deviation are the same;
	// the mean of 4,000 lies within 5 % of it (three standard errors).
	assert.InEpsilon(t, mean.Seconds(), average, 0.05)
	assert.InEpsilon(t, mean.Seconds(), math.Sqrt(squares/(count-1)-average*average), 0.1)
}

func TestADayInVirtualTime(t *testing.T) {
	start := time.Date(2026, 11, 18, 0, 0, 0, 0, time.UTC)
	m, err := world.Read([]byte(`
world: day
nodes:
  - {name: here, addresses: [192.0.2.1]}
  - {name: there, addresses: [192.0.2.2]}
links:
  - {between: [here, there], delay: 5ms, variation: gamma 1ms, loss: 1%}
changes:
  - {node: there, from: "2026-11-18T06:00:00Z", until: "2026-11-18T06:10:00Z", set: {up: false}}
`), world.Options{Reference: start})
	require.NoError(t, err)
	day := func() ping.Result {
		here, err := live.Virtual(m, start).At("here")
		require.NoError(t, err)
		results, err := ping.Measure(t.Context(), here, ping.Request{Addrs: []netip.Addr{netip.MustParseAddr("192.0.2.2")}, Probes: 86_400, Interval: time.Second, Wait: 2 * time.Second, Mark: 7})
		require.NoError(t, err)
		return results[0]
	}
	r := day()
	require.Equal(t, 86_400, r.Reading.Sent)
	assert.Equal(t, start.Add(86_399*time.Second), r.Probes[86_399].DueAt.UTC())
	// 600 probes while it was down, and 1 − 0.99² of the others.
	expected := 600 + (86_400-600)*0.0199
	assert.InDelta(t, expected, r.Reading.Lost, 4*41)
	again := day()
	require.Len(t, again.Probes, len(r.Probes))
	for i := range r.Probes {
		require.Equal(t, r.Probes[i], again.Probes[i], "the same again")
	}
}
