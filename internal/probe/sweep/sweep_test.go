package sweep_test

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	space "woodlark.example/core/sweep"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/sweep"
)

func of(t *testing.T, entries ...string) space.Space {
	t.Helper()
	s, err := space.Parse(entries, nil, space.Options{Low: true})
	require.NoError(t, err)
	return s
}

const harbour = `
world: harbour
seed: 4
nodes:
  - {name: here, addresses: [192.0.2.1, "2001:db8::1"]}
  - {name: gw, router: true, addresses: [192.0.2.254, "2001:db8::fe"]}
  - {name: near, addresses: [192.0.2.10, "2001:db8::10"], tcp: {443: open}}
  - {name: far, addresses: [192.0.2.20, "2001:db8::443"]}
  - {name: mute, addresses: [192.0.2.30], icmp: drop, tcp: {443: open, 22: filtered}}
  - {name: lossy, addresses: [192.0.2.40]}
  - {name: guarded, addresses: [192.0.2.50], icmp: prohibit}
links:
  - {between: [here, gw], delay: 100us}
  - {between: [gw, near], delay: 400us}
  - {between: [gw, far], delay: 9900us}
  - {between: [gw, mute], delay: 1ms}
  - {between: [gw, lossy], delay: 1ms, loss: 40%}
  - {between: [gw, guarded], delay: 1ms}
`

func virtual(t *testing.T) *live.Host {
	m, err := world.Read([]byte(harbour), world.Options{})
	require.NoError(t, err)
	h, err := live.Virtual(m, time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)).At("here")
	require.NoError(t, err)
	return h
}

func addresses(r sweep.Result) (list []string) {
	for _, h := range r.Hosts {
		list = append(list, h.Addr.String())
	}
	return list
}

func TestInAWorld(t *testing.T) {
	for _, c := range []struct {
		name    string
		request sweep.Request
		want    []string
		refused int
	}{
		{"by ICMP", sweep.Request{Space: of(t, "192.0.2.0/24"), Rate: 5000, Rounds: 6}, []string{"192.0.2.1", "192.0.2.10", "192.0.2.20", "192.0.2.40", "192.0.2.254"}, 6},
		{"in another order", sweep.Request{Space: of(t, "192.0.2.0/24"), Rate: 5000, Rounds: 6, Random: true, Seed: 9}, []string{"192.0.2.1", "192.0.2.10", "192.0.2.20", "192.0.2.40", "192.0.2.254"}, 6},
		{"as fast as it goes", sweep.Request{Space: of(t, "192.0.2.0/24"), Rounds: 6}, []string{"192.0.2.1", "192.0.2.10", "192.0.2.20", "192.0.2.40", "192.0.2.254"}, 6},
		{"by a port", sweep.Request{Space: of(t, "192.0.2.0/24"), Rate: 5000, Rounds: 6, Vias: []reading.Via{{Kind: reading.ByTCP, Port: 443}}},
			[]string{"192.0.2.1", "192.0.2.10", "192.0.2.20", "192.0.2.30", "192.0.2.40", "192.0.2.50", "192.0.2.254"}, 0},
		{"IPv6, the addresses given by hand", sweep.Request{Space: of(t, "2001:db8::/64"), Rate: 5000}, []string{"2001:db8::1", "2001:db8::10", "2001:db8::fe", "2001:db8::443"}, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.request.Mark = 77
			r, err := sweep.Go(t.Context(), virtual(t), c.request)
			require.NoError(t, err)
			assert.Subset(t, addresses(r), c.want[1:])
			for _, a := range addresses(r) {
				assert.Contains(t, c.want, a)
			}
			assert.Equal(t, c.request.Space.Len(), r.Probed)
			assert.Equal(t, c.request.Space.Len(), r.Addresses)
			assert.GreaterOrEqual(t, r.Sent, r.Probed)
			total := 0
			for cause, n := range r.Refused {
				assert.Contains(t, cause, "prohibited by 192.0.2.50")
				total += int(n)
			}
			assert.Equal(t, c.refused, total, "one a round: a refusal is no answer")
			for _, h := range r.Hosts {
				switch h.Addr.String() {
				case "192.0.2.10":
					assert.Equal(t, time.Millisecond, h.RTT)
				case "192.0.2.20":
					assert.Equal(t, 20*time.Millisecond, h.RTT)
				}
				if h.Addr.String() != "192.0.2.1" {
					assert.Equal(t, reading.StampWorld, h.Stamp)
				}
			}
		})
	}
}

func TestPortsThatAreOpenAndShut(t *testing.T) {
	r, err := sweep.Go(t.Context(), virtual(t), sweep.Request{Space: of(t, "192.0.2.10", "192.0.2.20", "192.0.2.30"), Rate: 1000,
		Vias: []reading.Via{{}, {Kind: reading.ByTCP, Port: 443}, {Kind: reading.ByTCP, Port: 22}}})
	require.NoError(t, err)
	require.Len(t, r.Hosts, 3)
	assert.Equal(t, []uint16{443}, r.Hosts[0].Open)
	assert.Equal(t, []uint16{22}, r.Hosts[0].Shut)
	assert.Equal(t, []uint16{22, 443}, r.Hosts[1].Shut)
	assert.Equal(t, []uint16{443}, r.Hosts[2].Open, "it drops ICMP and one port, the other tells that it is there")
	assert.Empty(t, r.Hosts[2].Shut)
}

func TestTheRateIsKept(t *testing.T) {
	h := virtual(t)
	r, err := sweep.Go(t.Context(), h, sweep.Request{Space: of(t, "192.0.2.0/24", "198.51.100.0/24"), Rate: 1000, Rounds: 1, Wait: time.Second})
	require.NoError(t, err)
	assert.InDelta(t, 0.511+1, r.Elapsed.Seconds(), 0.005, "512 packets at 1,000/s, then the wait")
	assert.InDelta(t, 1000, r.Rate(), 1)
}

func TestWhatLooksSlowerIsAskedAgain(t *testing.T) {
	before := map[string]time.Duration{"192.0.2.20": 2 * time.Millisecond, "192.0.2.10": time.Millisecond}
	r, err := sweep.Go(t.Context(), virtual(t), sweep.Request{Space: of(t, "192.0.2.10", "192.0.2.20"), Rate: 1000,
		Before: func(a netip.Addr) time.Duration { return before[a.String()] }})
	require.NoError(t, err)
	assert.Equal(t, 1, r.Hosts[0].Times)
	assert.Equal(t, 5, r.Hosts[1].Times)
}

func TestOnLoopback(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	open := uint16(l.Addr().(*net.TCPAddr).Port)
	for _, c := range []struct {
		name  string
		rate  float64
		vias  []reading.Via
		space space.Space
		least reading.Stamp
	}{
		{"as fast as it goes", 0, nil, of(t, "127.1.0.0/20"), reading.StampUser},
		{"at a rate, with the kernel's stamps", 10000, nil, of(t, "127.1.0.0/23"), reading.StampUser},
		{"IPv6", 1000, nil, of(t, "::1"), reading.StampUser},
		{"by a port that all refuse", 5000, []reading.Via{{Kind: reading.ByTCP, Port: open}}, of(t, "127.0.0.1-127.0.0.99"), reading.StampUser},
	} {
		t.Run(c.name, func(t *testing.T) {
			var heard int
			r, err := sweep.Go(t.Context(), kernel.Host(), sweep.Request{Space: c.space, Rate: c.rate, Vias: c.vias, Wait: 5 * time.Second, Heard: func(sweep.Host) { heard++ }})
			require.NoError(t, err)
			assert.Len(t, r.Hosts, int(c.space.Len()), "each answers (%d sent, %d unsent, %d dropped: %s)", r.Sent, r.Unsent, r.Dropped, r.Why)
			assert.Equal(t, len(r.Hosts), heard)
			assert.Zero(t, r.Dropped)
			for i, h := range r.Hosts {
				require.Equal(t, c.space.At(uint64(i)), h.Addr)
				require.GreaterOrEqual(t, h.Stamp, c.least, fmt.Sprint(h))
				require.Less(t, h.RTT, 5*time.Second)
				require.Positive(t, h.Times)
			}
		})
	}
}

func TestItEndsEarlyWithWhatItHas(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	heard := 0
	r, err := sweep.Go(ctx, kernel.Host(), sweep.Request{Space: of(t, "127.2.0.0/16"), Rate: 2000, Heard: func(sweep.Host) {
		if heard++; heard == 50 {
			cancel()
		}
	}})
	require.NoError(t, err)
	assert.True(t, r.Cut)
	assert.GreaterOrEqual(t, len(r.Hosts), 50)
	assert.Less(t, r.Probed, uint64(65536))
}
