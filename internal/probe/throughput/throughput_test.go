package throughput_test

import (
	"context"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/capacity"
	"woodlark.example/internal/busy"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/throughput"
)

// between puts a far end at an address of a network, and returns how to reach it.
func between(t *testing.T, near_, far network.Network, at string) nearend.Options {
	t.Helper()
	r, err := respond.New(respond.Options{Network: far, Listen: netip.MustParseAddrPort(at), Keys: respond.Shared("gull"), Limits: respond.Usual(), End: func() session.End { return session.End{Name: "far"} }})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { _ = r.Run(ctx) })
	t.Cleanup(func() { cancel(); owned.Wait() })
	return nearend.Options{Network: near_, To: r.At(), Key: session.KeyFrom("gull"), End: session.End{Name: "near"}, Rest: 300 * time.Millisecond}
}

const slope = `
world: slope
nodes:
  - {name: near.example, addresses: [192.0.2.2]}
  - {name: far.example, addresses: [203.0.113.2]}
links:
  - {between: [near.example, far.example], delay: 10ms, rate: 5Mbit/s, queue: 100ms}
`

func inWorld(t *testing.T, file string) nearend.Options {
	t.Helper()
	m, err := world.Read([]byte(file), world.Options{})
	require.NoError(t, err)
	n := live.New(m)
	t.Cleanup(func() { _ = n.Close() })
	a, err := n.At("near.example")
	require.NoError(t, err)
	b, err := n.At("far.example")
	require.NoError(t, err)
	return between(t, a, b, "203.0.113.2:7474")
}

// TestALinkOfAWorld: 5 Mbit/s of IP packets, 100 ms of queue.
func TestALinkOfAWorld(t *testing.T) {
	t.Parallel()
	o := inWorld(t, slope)
	busy.Tries(t, func(c *busy.Try) {
		r, err := throughput.Measure(t.Context(), o, throughput.Request{Direction: throughput.There, For: 4 * time.Second, WarmUp: time.Second, Explain: true}, nil)
		require.NoError(c, err)
		require.True(c, r.Complete, r.Problem)
		d := r.Directions[0]
		assert.InEpsilon(c, 5e6*1448/1500, *d.ReceivedBps, 0.04)
		assert.Equal(c, "held_by_link", r.HeldBy)
		assert.Greater(c, *d.RTTLoadMs, *d.RTTRestMs+20, "its queue stands")
		assert.InDelta(c, 20, *d.RTTRestMs, 3)
		assert.GreaterOrEqual(c, len(d.Spans), 4)
		assert.True(c, d.Spans[0].WarmUp)
	})
}

// TestTheRateOfALinkIsSearched: by datagrams.
func TestTheRateOfALinkIsSearched(t *testing.T) {
	t.Parallel()
	o := inWorld(t, slope)
	busy.Tries(t, func(c *busy.Try) {
		search, err := throughput.Measure(t.Context(), o, throughput.Request{Protocol: capacity.UDP, Direction: throughput.There, For: 2 * time.Second, Search: true, Rate: 20e6}, nil)
		require.NoError(c, err)
		found := search.Directions[0]
		assert.InEpsilon(c, 5e6*1400/1428, *found.ReceivedBps, 0.12, "what its queue takes for a second passes, too")
		assert.Greater(c, len(found.Tried), 4)
		assert.LessOrEqual(c, *found.LossRatio, 0.12)
	})
}

func TestRequestsThatCannotBe(t *testing.T) {
	for says, r := range map[string]throughput.Request{
		"no protocol": {Protocol: "sctp"}, "no direction": {Direction: "sideways"}, "leaves nothing": {For: time.Second, WarmUp: 2 * time.Second}, "at most 100": {Repeats: 1000},
		"are of TCP": {Protocol: capacity.UDP, Window: 1}, "are of UDP": {Rate: 5}, "is not a ratio": {Protocol: capacity.UDP, LossLimit: 2}, "bytes of payload": {Protocol: capacity.UDP, Size: 10},
	} {
		_, err := throughput.Measure(t.Context(), nearend.Options{Network: kernel.Host()}, r, nil)
		assert.ErrorContains(t, err, says)
	}
	took, bytes, err := throughput.Request{Protocol: capacity.UDP, Rate: 8e6, For: 10 * time.Second, Repeats: 3}.Estimate()
	require.NoError(t, err)
	assert.Equal(t, int64(60e6), bytes, "six runs of ten seconds")
	assert.Greater(t, took, time.Minute)
}

// TestRepeats: both ways at once, three times.
func TestRepeats(t *testing.T) {
	t.Parallel()
	o := between(t, kernel.Host(), kernel.Host(), "127.0.0.1:0")
	busy.Tries(t, func(c *busy.Try) {
		var steps []string
		r, err := throughput.Measure(t.Context(), o, throughput.Request{Protocol: capacity.UDP, Direction: throughput.Both, Rate: 4e6, For: time.Second, Repeats: 3}, func(step string, _ nearend.Progress) { steps = append(steps, step) })
		require.NoError(c, err)
		assert.Len(c, r.Repeats, 6)
		assert.Contains(c, steps, "both, 3 of 3")
		require.Len(c, r.Directions, 2)
		for _, d := range r.Directions {
			assert.InEpsilon(c, 4e6, *d.Trimmed, 0.03)
			assert.InEpsilon(c, 4e6*1428/1400, *d.IPBps, 0.03)
			assert.NotNil(c, d.JitterMs)
		}
		assert.Equal(c, "near → far", r.Directions[0].Direction)
		assert.Equal(c, "far → near", r.Directions[1].Direction)
	})
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := throughput.Measure(ctx, o, throughput.Request{For: time.Second}, nil)
	assert.Error(t, err)
}

// TestStoppedKeepsBothEnds: what both ends noted until a test was stopped is there.
func TestStoppedKeepsBothEnds(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		r    throughput.Request
	}{
		{"tcp", throughput.Request{Direction: throughput.Both, For: 20 * time.Second}},
		{"udp", throughput.Request{Protocol: capacity.UDP, Direction: throughput.Both, Rate: 1e6, For: 20 * time.Second}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			here := kernel.Host()
			o := between(t, here, here, "127.0.0.1:0")
			ctx, stop := context.WithCancel(t.Context())
			defer stop()
			report, err := throughput.Measure(ctx, o, c.r, func(_ string, p nearend.Progress) {
				if p.Elapsed > 1500*time.Millisecond {
					stop()
				}
			})
			require.NoError(t, err)
			assert.False(t, report.Complete)
			assert.Equal(t, nearend.Stopped, report.Problem)
			require.Len(t, report.Directions, 2)
			for _, d := range report.Directions {
				require.NotNil(t, d.ReceivedBps, d.Direction)
				assert.Positive(t, *d.ReceivedBps, d.Direction)
				require.NotNil(t, d.SentBps, d.Direction)
				assert.Less(t, d.Span, 10.0)
			}
		})
	}
}

// TestWhatDatagramsLose: what fits, what is lost, and what does it.
func TestWhatDatagramsLose(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, link, want string }{
		{"a queue", "rate: 5Mbit/s, queue: 60ms", "held_by_link"},
		{"a policer", "rate: 50Mbit/s, policer: 5Mbit/s 30kB", "policed"},
		{"loss at any rate", "rate: 50Mbit/s, queue: 60ms, loss: 8%", "held_by_loss"},
		{"nothing", "rate: 50Mbit/s, queue: 60ms", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			o := inWorld(t, "world: line\nnodes:\n  - {name: near.example, addresses: [192.0.2.2]}\n  - {name: far.example, addresses: [203.0.113.2]}\nlinks:\n  - {between: [near.example, far.example], delay: 10ms, toward: {far.example: {"+c.link+"}}}\n")
			busy.Tries(t, func(t *busy.Try) {
				report, err := throughput.Measure(context.Background(), o, throughput.Request{Protocol: capacity.UDP, Direction: throughput.There, Rate: 10e6, For: 2 * time.Second, Explain: true}, nil)
				require.NoError(t, err)
				require.Len(t, report.Directions, 1)
				assert.Equal(t, c.want, report.HeldBy, "%+v", report.Directions[0].Tried)
				assert.Equal(t, c.want != "", len(report.Findings) > 0)
			})
		})
	}
}
