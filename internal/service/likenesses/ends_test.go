package likenesses

import (
	"context"
	"math"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/likeness"
	"woodlark.example/core/loss"
	"woodlark.example/internal/busy"
	streams "woodlark.example/internal/kind/stream"
	throughputs "woodlark.example/internal/kind/throughput"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/stream"
	"woodlark.example/internal/probe/throughput"
	"woodlark.example/wire"
)

// atBothEnds measures a stream and a throughput test between the two hosts of a world.
func atBothEnds(t require.TestingT, text, near, far string) (s *streams.Result, r *throughputs.Result) {
	m, err := world.Read([]byte(text), world.Options{})
	require.NoError(t, err, text)
	n := live.New(m)
	defer n.Close()
	a, err := n.At(near)
	require.NoError(t, err)
	b, err := n.At(far)
	require.NoError(t, err)
	i, err := m.Find(far)
	require.NoError(t, err)
	at := netip.AddrPortFrom(m.Nodes()[i].Addresses[0], 7474)
	end, err := respond.New(respond.Options{Network: b, Listen: at, Keys: respond.Shared("gull"), Limits: respond.Usual(), End: func() session.End { return session.End{Name: "far"} }})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { _ = end.Run(ctx) })
	defer owned.Wait()
	defer cancel()
	options := nearend.Options{Network: a, To: end.At(), Key: session.KeyFrom("gull"), End: session.End{Name: "near"}, Rest: 300 * time.Millisecond}
	x, err := stream.Measure(ctx, options, stream.Request{Interval: 5 * time.Millisecond, For: 6 * time.Second, Direction: stream.Both, Size: 100}, nil)
	require.NoError(t, err)
	y, err := throughput.Measure(ctx, options, throughput.Request{For: 3 * time.Second, WarmUp: time.Second, Direction: throughput.There}, nil)
	require.NoError(t, err)
	return &streams.Result{StreamReport: x}, &throughputs.Result{ThroughputReport: y}
}

// TestThereAndBackByTwoEnds: what differs by direction is measured at both ends, and so it is in the
// network that is made of it.
func TestThereAndBackByTwoEnds(t *testing.T) {
	t.Parallel()
	const text = `
world: two ways
nodes:
  - {name: near, addresses: [192.0.2.1]}
  - {name: far.example, addresses: [198.51.100.1]}
links:
  - between: [near, far.example]
    toward:
      far.example: {delay: 9ms, variation: gamma 1ms, rate: 12Mbit/s, queue: 60ms}
      near: {delay: 21ms, variation: gamma 3ms, order: free, loss: bursts enter 1% leave 30%}
`
	busy.Tries(t, func(t *busy.Try) {
		s, r := atBothEnds(t, text, "near", "far.example")
		var m likeness.Measured
		s.Liken(&m)
		r.Liken(&m)
		l := likeness.Of(m)
		f := file{from: "near", to: "far.example", family: wire.IPv4, via: "icmp", what: "two ways again"}
		made := f.write(&l)
		s2, r2 := atBothEnds(t, made, "near", "far.example")
		for i, d := range s.Directions {
			e := s2.Directions[i]
			assert.InEpsilon(t, *d.MedianMs, *e.MedianMs, 0.06, "median of %s\n%s", d.Direction, made)
			assert.InEpsilon(t, *d.P95Ms, *e.P95Ms, 0.10, "95 %% of %s", d.Direction)
			low, high, _ := loss.Ratio{Lost: *d.Lost, Sent: d.Sent}.Interval()
			low2, high2, _ := loss.Ratio{Lost: *e.Lost, Sent: e.Sent}.Interval()
			assert.True(t, low <= high2 && low2 <= high, "loss of %s: %d, then %d\n%s", d.Direction, *d.Lost, *e.Lost, made)
		}
		for i, d := range r.Directions {
			if d.HeldBy == "held_by_link" {
				assert.LessOrEqual(t, math.Abs(*d.ReceivedBps-*r2.Directions[i].ReceivedBps), 0.03**d.ReceivedBps, "rate of %s\n%s", d.Direction, made)
			}
		}
	})
}
