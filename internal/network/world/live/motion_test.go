package live_test

import (
	"bytes"
	"io"
	"net/netip"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/wire"
)

const names = `
world: names
nodes:
  - {name: a.example, addresses: [192.0.2.1, "2001:db8::1"], resolvers: [dns1.example, dns2.example]}
  - {name: r, router: true, addresses: [192.0.2.254, "2001:db8::ff"]}
  - {name: b.example, aliases: [www.example], addresses: [192.0.2.2, "2001:db8::2"]}
  - {name: dns1.example, addresses: [192.0.2.53]}
  - {name: dns2.example, addresses: [192.0.2.54], resolver: answer, records: {www.example: [203.0.113.80]}}
links:
  - {between: [a.example, r], delay: 1ms}
  - {between: [b.example, r], delay: 1ms}
  - {between: [dns1.example, r], delay: 4ms}
  - {between: [dns2.example, r], delay: 9ms}
changes:
`

// virtually runs f in virtual time, in a goroutine that counts, and returns how
// long it took there.
func virtually(t *testing.T, text, host string, f func(h *live.Host)) time.Duration {
	t.Helper()
	start := time.Date(2026, 11, 18, 12, 0, 0, 0, time.UTC)
	n := live.Virtual(read(t, text), start)
	h, err := n.At(host)
	require.NoError(t, err)
	var wg sync.WaitGroup
	h.Clock().Go(&wg, func() { f(h) })
	wg.Wait()
	return h.Clock().Now().Sub(start)
}

func TestResolvers(t *testing.T) {
	for _, c := range []struct {
		name, changes, asked, answer string
		says                         string
		took                         time.Duration
	}{
		{"good", "  - {node: dns1.example, set: {resolver: answer}}", "b.example", "192.0.2.2", "", 10 * time.Millisecond},
		{"no such name", "  - {node: dns1.example, set: {resolver: answer}}", "c.example", "", "does not resolve", 10 * time.Millisecond},
		{"slow", "  - {node: dns1.example, set: {resolver: answer, resolver_delay: 800ms}}", "b.example", "192.0.2.2", "", 810 * time.Millisecond},
		{"silent, then the second", "  - {node: dns1.example, set: {resolver: silent}}", "b.example", "192.0.2.2", "", 2*time.Second + 20*time.Millisecond},
		{"fails", "  - {node: dns1.example, set: {resolver: fail}}\n  - {node: dns2.example, set: {resolver: fail}}", "b.example", "", "ServerFailure", 10 * time.Millisecond},
		{"denies all", "  - {node: dns1.example, set: {resolver: unknown}}", "b.example", "", "does not resolve", 10 * time.Millisecond},
		{"tells another address", "  - {node: dns1.example, set: {resolver: answer, records: {b.example: [203.0.113.9]}}}", "b.example", "203.0.113.9", "", 10 * time.Millisecond},
	} {
		t.Run(c.name, func(t *testing.T) {
			took := virtually(t, names+c.changes, "a.example", func(h *live.Host) {
				found, err := h.Lookup(t.Context(), c.asked, wire.IPv4)
				if c.says != "" {
					assert.ErrorContains(t, err, c.says)
					return
				}
				if assert.NoError(t, err) {
					assert.Equal(t, c.answer, found.Addrs[0].String())
				}
			})
			assert.Equal(t, c.took, took)
		})
	}
}

func TestNamesWithoutAResolver(t *testing.T) {
	h, err := live.New(read(t, names+"  - {node: r, set: {up: true}}")).At("b.example")
	require.NoError(t, err)
	found, err := h.Lookup(t.Context(), "a.example", 0)
	require.NoError(t, err)
	assert.Len(t, found.Addrs, 2)
	_, err = h.Lookup(t.Context(), "c.example", 0)
	require.ErrorIs(t, err, network.ErrNoName)
	_, err = live.New(read(t, quay)).At("nowhere")
	require.ErrorContains(t, err, `has no node "nowhere"`)
}

func TestClocksThatAreWrong(t *testing.T) {
	took := virtually(t, "world: w\nnodes:\n  - {name: a, addresses: [192.0.2.1], clock: +350ms, skew: 100ppm}\n", "a", func(h *live.Host) {
		h.Clock().Until(t.Context(), h.Clock().Now().Add(10*time.Second), nil)
		off := h.Wall().Sub(h.Clock().Now())
		// 100 ppm of the time since the reference, which is now, and 350 ms.
		assert.InDelta(t, 350, float64(off)/1e6-1e-4*float64(h.Clock().Now().Sub(time.Now()))/1e6, 5)
	})
	assert.Equal(t, 10*time.Second, took)
}

const tcpLane = `
world: tcp
nodes:
  - {name: a, addresses: [192.0.2.1]}
  - {name: r, router: true, addresses: [192.0.2.254]}
  - {name: b, addresses: [192.0.2.2], tcp: {7: echo, 9: open, 23: filtered}}
links:
  - {between: [a, r], delay: 1ms}
  - {between: [r, b], delay: 9ms, rate: 20Mbit/s, queue: 60kB}
`

func TestTCPIsARealStack(t *testing.T) {
	t.Run("by the kernel, where it lets us", func(t *testing.T) { crossByTCP(t, live.New(read(t, tcpLane)), os.Geteuid() == 0) })
	t.Run("within this process", func(t *testing.T) { crossByTCP(t, live.InProcess(live.New(read(t, tcpLane))), false) })
}

// crossByTCP checks what any TCP of a host does.
func crossByTCP(t *testing.T, n *live.Network, kernel bool) {
	defer n.Close()
	a, err := n.At("a")
	require.NoError(t, err)
	b, err := n.At("b")
	require.NoError(t, err)

	t.Run("an echo", func(t *testing.T) {
		began := time.Now()
		c, err := a.DialTCP(t.Context(), netip.MustParseAddrPort("192.0.2.2:7"), network.StreamOptions{})
		require.NoError(t, err)
		assert.GreaterOrEqual(t, time.Since(began), 20*time.Millisecond, "a handshake takes a round trip")
		defer c.Close()
		sent := bytes.Repeat([]byte("skerry"), 20_000)
		go func() { _, _ = c.Write(sent) }()
		got := make([]byte, len(sent))
		_, err = io.ReadFull(c, got)
		require.NoError(t, err)
		assert.Equal(t, sent, got)
	})
	t.Run("a closed port", func(t *testing.T) {
		_, err := a.DialTCP(t.Context(), netip.MustParseAddrPort("192.0.2.2:80"), network.StreamOptions{})
		require.ErrorContains(t, err, "refused")
	})
	t.Run("as fast as the link", func(t *testing.T) {
		l, err := b.ListenTCP(netip.MustParseAddrPort("192.0.2.2:5001"))
		require.NoError(t, err)
		defer l.Close()
		const size = 4_000_000
		received := make(chan time.Duration, 1)
		go func() {
			c, err := l.Accept()
			if err != nil {
				return
			}
			defer c.Close()
			began := time.Now()
			_, _ = io.CopyN(io.Discard, c, size)
			received <- time.Since(began)
		}()
		c, err := a.DialTCP(t.Context(), netip.MustParseAddrPort("192.0.2.2:5001"), network.StreamOptions{})
		require.NoError(t, err)
		defer c.Close()
		_, err = c.Write(make([]byte, size))
		require.NoError(t, err)
		rate := size * 8 / (<-received).Seconds()
		state, ok := a.Watch(c)
		require.True(t, ok)
		assert.Equal(t, "cubic", state.Congestion)
		assert.Equal(t, kernel, state.LeastRTT > 0, "a kernel tells its round trip")
		// 1460 of 1500 bytes are payload; slow start costs a few round trips, and
		// a machine under load may be late, but never is it faster than the link.
		assert.Less(t, rate, 20e6*1460/1500*1.02)
		assert.Greater(t, rate, 1e6)
		for _, p := range n.Passing() {
			if p.Rate > 0 && n.Model().Nodes()[p.To].Name == "b" {
				assert.Greater(t, p.Bytes, uint64(size), "all of it crossed the link")
			}
		}
	})
}
