package ping_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network/world"
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
	here, err := m.At("here")
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
	here, err := m.At("here")
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
	here, err := m.At("here")
	require.NoError(t, err)
	target := ping.Target{Addr: netip.MustParseAddr("192.0.2.2"), Interval: 2 * time.Millisecond, Count: 400, Poisson: true, Seed: 4}
	probes := runTargets(t, here, target)[0]
	span := probes[len(probes)-1].DueAt.Sub(probes[0].DueAt)
	assert.InEpsilon(t, float64(399*2*time.Millisecond), float64(span), 0.2)
}
