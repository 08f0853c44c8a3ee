package ping_test

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/wire"
)

// runTargets pings targets, each with a Count, until all are done.
func runTargets(t *testing.T, n network.Network, targets ...ping.Target) [][]reading.Probe {
	t.Helper()
	families := map[wire.Family]bool{}
	for _, target := range targets {
		families[wire.FamilyOf(target.Addr)] = true
	}
	var list []wire.Family
	for f := range families {
		list = append(list, f)
	}
	e, err := ping.NewEngine(n, ping.Options{Families: list})
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- e.Run(ctx) }()
	probes := make([][]reading.Probe, len(targets))
	done := make(chan struct{}, len(targets))
	for i, target := range targets {
		target.Settled = func(p reading.Probe) { probes[i] = append(probes[i], p) }
		target.Done = func() { done <- struct{}{} }
		_, err := e.Add(target)
		require.NoError(t, err)
	}
	for range targets {
		select {
		case <-done:
		case <-ctx.Done():
			t.Fatal("the targets did not finish in time")
		}
	}
	cancel()
	require.NoError(t, <-ended)
	return probes
}

func TestKernelLoopback(t *testing.T) {
	for _, c := range []struct{ name, addr string }{{"IPv4", "127.0.0.1"}, {"other IPv4", "127.5.6.7"}, {"IPv6", "::1"}} {
		t.Run(c.name, func(t *testing.T) {
			probes := runTargets(t, kernel.Host(), ping.Target{Addr: netip.MustParseAddr(c.addr), Interval: 2 * time.Millisecond, Count: 50})[0]
			r := reading.Of(time.Now(), 0, 50, 0, probes)
			assert.Equal(t, 50, r.Answered)
			assert.Zero(t, r.Duplicates)
			stamped := 0
			for _, p := range probes {
				if p.Stamp == reading.StampKernel {
					stamped++
				}
			}
			assert.GreaterOrEqual(t, stamped, 25, "the kernel stamps both ways on loopback; it may miss the first, until it has begun to")
			median, _ := r.RTT.Median.Get()
			assert.Positive(t, median)
			assert.Less(t, median, ping.DefaultWait)
			assert.Equal(t, 64, probes[0].TTL)
		})
	}
}

func TestKernelManyTargetsOneSocket(t *testing.T) {
	var targets []ping.Target
	for i := range 200 {
		targets = append(targets, ping.Target{
			Addr: netip.AddrFrom4([4]byte{127, 1, 0, byte(i + 1)}), Interval: 20 * time.Millisecond,
			Count: 5, Phase: time.Duration(i) * 100 * time.Microsecond,
		})
	}
	steps, exact := 0, 0
	for i, probes := range runTargets(t, kernel.Host(), targets...) {
		require.Len(t, probes, 5)
		for n, p := range probes {
			assert.Equal(t, reading.Answered, p.Outcome, "target %d", i)
			if n > 0 {
				// A machine that sleeps over deadlines leaves them out.
				step := p.DueAt.Sub(probes[n-1].DueAt)
				assert.Positive(t, step.Round(20*time.Millisecond))
				assert.InDelta(t, 0, float64(step-step.Round(20*time.Millisecond)), float64(time.Millisecond), "deadlines are absolute")
				if steps++; step == step.Round(20*time.Millisecond) {
					exact++
				}
			}
		}
	}
	assert.Greater(t, exact, steps/2, "by the time of day as by the steady clock, to the nanosecond, unless this host stood still between reading the two")
}

// contextThatEnds ends once so many probes were heard.
func contextThatEnds(t *testing.T, heard <-chan struct{}, after int) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	go func() {
		for range after {
			select {
			case <-heard:
			case <-ctx.Done():
				return
			}
		}
		cancel()
	}()
	return ctx, cancel
}

func TestUnprivilegedSocket(t *testing.T) {
	n := kernel.Unprivileged()
	if _, err := n.Open(network.ICMP, wire.IPv4, network.SocketOptions{}); err != nil {
		// This group may not use ICMP sockets: then that is what must be said.
		require.ErrorIs(t, err, network.ErrNotPermitted)
		assert.ErrorContains(t, err, "net.ipv4.ping_group_range")
		assert.ErrorContains(t, err, "cap_net_raw")
		return
	}
	probes := runTargets(t, n, ping.Target{Addr: netip.MustParseAddr("127.0.0.1"), Interval: 2 * time.Millisecond, Count: 20})[0]
	assert.Equal(t, 20, reading.Of(time.Now(), 0, 20, 0, probes).Answered)
}
