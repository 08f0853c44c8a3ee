package world_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network/world"
	"woodlark.example/wire"
)

// lane is a host, three routers in a row, and another host.
const lane = `
world: lane
seed: 5
nodes:
  - {name: a, addresses: [192.0.2.1, "2001:db8::1"]}
  - {name: r1, router: true, addresses: [192.0.2.11, "2001:db8::11"]}
  - {name: r2, router: true, addresses: [192.0.2.12, "2001:db8::12"], labels: [16004, 24001]}
  - {name: r3, router: true, addresses: [192.0.2.13, "2001:db8::13"], prefixes: [203.0.113.0/24]}
  - name: b
    addresses: [198.51.100.2, "2001:db8:1::2"]
    tcp: {443: open, 8000-8099: filtered, 8080: rejected}
    udp: {7: echo, 161: filtered}
links:
  - {between: [a, r1], delay: 1ms}
  - {between: [r1, r2], delay: 2ms, name: middle}
  - {between: [r2, r3], delay: 4ms}
  - {between: [r3, b], delay: 8ms}
`

// arrival is a packet that came back to a host.
type arrival struct {
	at      time.Duration
	ip      wire.IP
	payload []byte
}

// exchange lets a send packets at the reference time, and returns what comes
// back to it.
func exchange(t *testing.T, m *world.Model, packets ...[]byte) []arrival {
	t.Helper()
	traffic := m.Traffic(reference)
	var back []arrival
	traffic.Attach(0, func(packet []byte, at time.Time) bool {
		h, payload, err := wire.ParseIP(packet)
		require.NoError(t, err)
		back = append(back, arrival{at.Sub(reference), h, append([]byte{}, payload...)})
		return true
	})
	for _, p := range packets {
		require.NoError(t, traffic.Send(0, p, reference))
	}
	for {
		next, ok := traffic.Next()
		if !ok {
			return back
		}
		traffic.Advance(next)
	}
}

func from(f wire.Family) netip.Addr {
	if f == wire.IPv4 {
		return netip.MustParseAddr("192.0.2.1")
	}
	return netip.MustParseAddr("2001:db8::1")
}

func udpTo(to string, ttl uint8, port uint16, size int) []byte {
	dst := netip.MustParseAddr(to)
	src := from(wire.FamilyOf(dst))
	u := wire.UDP{SrcPort: 40000, DstPort: port, Payload: make([]byte, size)}
	return wire.IP{Src: src, Dst: dst, Protocol: wire.ProtocolUDP, TTL: ttl, DontFragment: true, ID: 1}.Marshal(u.Marshal(src, dst))
}

func TestEachRouterSaysThatTheTTLIsSpent(t *testing.T) {
	m := read(t, lane)
	for _, to := range []string{"198.51.100.2", "2001:db8:1::2"} {
		f := wire.FamilyOf(netip.MustParseAddr(to))
		for ttl, want := range []time.Duration{0, 2 * time.Millisecond, 6 * time.Millisecond, 14 * time.Millisecond} {
			if ttl == 0 {
				continue
			}
			back := exchange(t, m, udpTo(to, uint8(ttl), 33434, 20))
			require.Len(t, back, 1)
			node, _ := m.Find(back[0].ip.Src.String())
			assert.Equal(t, []string{"a", "r1", "r2", "r3"}[ttl], m.Nodes()[node].Name)
			assert.Equal(t, want, back[0].at)
			e, err := wire.ParseICMPError(f, back[0].payload)
			require.NoError(t, err)
			assert.True(t, e.Is(f, wire.TimeExpired))
			assert.Equal(t, ttl == 2, len(e.Labels) == 2, "only the second has labels")
			q, _, err := wire.ParseIP(e.Quoted)
			require.NoError(t, err)
			assert.Equal(t, to, q.Dst.String())
			if f == wire.IPv6 {
				assert.Zero(t, wire.TransportChecksum(back[0].ip.Src, back[0].ip.Dst, wire.ProtocolICMPv6, back[0].payload))
			}
		}
	}
}

func TestHostsAnswerByTheirPorts(t *testing.T) {
	m := read(t, lane)
	syn := func(port uint16) []byte {
		dst := netip.MustParseAddr("198.51.100.2")
		s := wire.TCP{SrcPort: 40000, DstPort: port, Seq: 99, Flags: wire.SYN, Window: 1000}
		return wire.IP{Src: from(wire.IPv4), Dst: dst, Protocol: wire.ProtocolTCP, TTL: 64}.Marshal(s.Marshal(from(wire.IPv4), dst))
	}
	for _, c := range []struct {
		name   string
		packet []byte
		says   func(t *testing.T, a arrival)
	}{
		{"TCP open", syn(443), func(t *testing.T, a arrival) {
			s, err := wire.ParseTCP(a.payload)
			require.NoError(t, err)
			assert.Equal(t, wire.SYN|wire.ACK, s.Flags)
			assert.Equal(t, uint32(100), s.Ack)
			assert.Zero(t, wire.TransportChecksum(a.ip.Src, a.ip.Dst, wire.ProtocolTCP, a.payload))
		}},
		{"TCP closed", syn(22), func(t *testing.T, a arrival) {
			s, err := wire.ParseTCP(a.payload)
			require.NoError(t, err)
			assert.True(t, s.Has(wire.RST|wire.ACK))
		}},
		{"TCP filtered", syn(8001), nil},
		{"TCP rejected", syn(8080), func(t *testing.T, a arrival) {
			e, err := wire.ParseICMPError(wire.IPv4, a.payload)
			require.NoError(t, err)
			assert.True(t, e.Is(wire.IPv4, wire.Prohibited))
		}},
		{"UDP echo", udpTo("198.51.100.2", 64, 7, 100), func(t *testing.T, a arrival) {
			u, err := wire.ParseUDP(a.payload)
			require.NoError(t, err)
			assert.Len(t, u.Payload, 100)
			assert.Equal(t, uint16(40000), u.DstPort)
		}},
		{"UDP closed", udpTo("198.51.100.2", 64, 9, 100), func(t *testing.T, a arrival) {
			e, err := wire.ParseICMPError(wire.IPv4, a.payload)
			require.NoError(t, err)
			assert.True(t, e.Is(wire.IPv4, wire.NoPort))
		}},
		{"UDP filtered", udpTo("198.51.100.2", 64, 161, 100), nil},
		{"nobody there", udpTo("203.0.113.7", 64, 7, 100), func(t *testing.T, a arrival) {
			e, err := wire.ParseICMPError(wire.IPv4, a.payload)
			require.NoError(t, err)
			assert.True(t, e.Is(wire.IPv4, wire.NoHost))
			assert.Equal(t, "192.0.2.13", a.ip.Src.String())
			assert.Equal(t, 3*time.Second+14*time.Millisecond, a.at, "the router asks for it first")
		}},
		{"no such prefix", udpTo("203.0.200.7", 64, 7, 100), nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			back := exchange(t, m, c.packet)
			if c.says == nil {
				assert.Empty(t, back)
				return
			}
			require.Len(t, back, 1)
			c.says(t, back[0])
		})
	}
}

func change(t *testing.T, changes string) *world.Model {
	t.Helper()
	return read(t, lane+"changes:\n"+changes)
}

func TestRoutersThatAreNotPlain(t *testing.T) {
	third := udpTo("198.51.100.2", 3, 33434, 20)
	for _, c := range []struct {
		name, changes string
		packet        []byte
		from          string // of what comes back; empty when nothing does
		at            time.Duration
	}{
		{"silent", `  - {node: r3, set: {silent: true}}`, third, "", 0},
		{"slow", `  - {node: r3, set: {answer_delay: 30ms}}`, third, "192.0.2.13", 44 * time.Millisecond},
		{"answers from another address", `  - {node: r3, set: {answer_from: [192.0.2.99]}}`, third, "192.0.2.99", 14 * time.Millisecond},
		{"hidden", `  - {node: r2, set: {hidden: true}}`, third, "198.51.100.2", 30 * time.Millisecond},
		{"refuses", `  - {node: r2, set: {refuse: prohibited}}`, third, "192.0.2.12", 6 * time.Millisecond},
		{"down", `  - {node: r2, set: {up: false}}`, third, "192.0.2.11", 2 * time.Millisecond},
		{"cut, and routers know", `  - {link: [r2, r3], set: {linked: false}}`, third, "192.0.2.11", 2 * time.Millisecond},
		{"a loop on purpose", `  - {node: r2, set: {routes: [{to: b, via: r1}]}}`, udpTo("198.51.100.2", 6, 9, 20), "192.0.2.12", 14 * time.Millisecond},
		{"a fixed route to a prefix", `  - {node: r2, set: {routes: [{to: 198.51.100.0/24, via: r1}, {to: b, via: r3}]}}`, third, "192.0.2.13", 14 * time.Millisecond},
	} {
		t.Run(c.name, func(t *testing.T) {
			back := exchange(t, change(t, c.changes), c.packet)
			if c.from == "" {
				assert.Empty(t, back)
				return
			}
			require.Len(t, back, 1)
			assert.Equal(t, c.from, back[0].ip.Src.String())
			assert.Equal(t, c.at, back[0].at)
		})
	}
}

func TestASparingRouter(t *testing.T) {
	m := change(t, `  - {node: r1, set: {icmp_limit: 10/s burst 3}}`)
	traffic := m.Traffic(reference)
	answers := 0
	traffic.Attach(0, func([]byte, time.Time) bool { answers++; return true })
	for i := range 100 { // one a millisecond
		require.NoError(t, traffic.Send(0, udpTo("198.51.100.2", 1, uint16(i), 20), reference.Add(time.Duration(i)*time.Millisecond)))
	}
	traffic.Advance(reference.Add(time.Second))
	assert.Equal(t, 3, answers, "the burst; less than one more in a tenth of a second")
	for i := range 1000 { // one each 10 ms, for ten seconds
		require.NoError(t, traffic.Send(0, udpTo("198.51.100.2", 1, uint16(i), 20), reference.Add(time.Second+time.Duration(i)*10*time.Millisecond)))
	}
	traffic.Advance(reference.Add(time.Minute))
	assert.InDelta(t, 3+3+100, answers, 2)
}

func TestBigPackets(t *testing.T) {
	small := `  - {link: [r2, r3], set: {mtu: 1400}}`
	t.Run("the sender is told", func(t *testing.T) {
		for _, to := range []string{"198.51.100.2", "2001:db8:1::2"} {
			f := wire.FamilyOf(netip.MustParseAddr(to))
			back := exchange(t, change(t, small), udpTo(to, 64, 7, 1440))
			require.Len(t, back, 1)
			e, err := wire.ParseICMPError(f, back[0].payload)
			require.NoError(t, err)
			assert.True(t, e.Is(f, wire.TooBig))
			assert.Equal(t, 1400, e.MTU)
			assert.Equal(t, 6*time.Millisecond, back[0].at, "by r2, before the link")
		}
	})
	t.Run("or is not", func(t *testing.T) {
		swallow := `  - {link: [r2, r3], set: {mtu: 1400, too_big: swallowed}}`
		assert.Empty(t, exchange(t, change(t, swallow), udpTo("198.51.100.2", 64, 7, 1440)))
		assert.Len(t, exchange(t, change(t, swallow), udpTo("198.51.100.2", 64, 7, 1300)), 1, "what fits passes")
	})
	t.Run("what may be cut is cut", func(t *testing.T) {
		b := udpTo("198.51.100.2", 64, 7, 3000)
		h, payload, err := wire.ParseIP(b)
		require.NoError(t, err)
		h.DontFragment = false
		m := change(t, small)
		traffic := m.Traffic(reference)
		target, err := m.Find("b")
		require.NoError(t, err)
		var parts []int
		traffic.Attach(target, func(packet []byte, _ time.Time) bool {
			part, _, err := wire.ParseIP(packet)
			require.NoError(t, err)
			assert.Equal(t, part.FragmentOffset+len(packet) < 3000, part.MoreFragments)
			parts = append(parts, len(packet))
			return true
		})
		require.NoError(t, traffic.Send(0, h.Marshal(payload), reference))
		traffic.Advance(reference.Add(time.Second))
		assert.Equal(t, []int{1396, 1396, 276}, parts, "1376, 1376 and 256 bytes of 3008")
	})
}

// diamond has two equal ways in the middle, and a slower third.
const diamond = `
world: diamond
nodes:
  - {name: a, addresses: [192.0.2.1]}
  - {name: r1, router: true, addresses: [192.0.2.11]}
  - {name: up, router: true, addresses: [192.0.2.21]}
  - {name: down, router: true, addresses: [192.0.2.22]}
  - {name: far, router: true, addresses: [192.0.2.23]}
  - {name: r2, router: true, addresses: [192.0.2.12]}
  - {name: b, addresses: [198.51.100.2]}
links:
  - {between: [a, r1], delay: 1ms}
  - {between: [r1, up], delay: 1ms}
  - {between: [r1, down], delay: 3ms}
  - {between: [r1, far], delay: 9ms, metric: 11}
  - {between: [up, r2], delay: 1ms}
  - {between: [down, r2], delay: 3ms}
  - {between: [far, r2], delay: 9ms}
  - {between: [r2, b], delay: 1ms}
`

func TestEqualWays(t *testing.T) {
	const flows = 2000
	count := func(m *world.Model, packet func(i int) []byte) map[string]int {
		seen := map[string]int{}
		for i := range flows {
			back := exchange(t, m, packet(i))
			require.Len(t, back, 1)
			seen[back[0].ip.Src.String()]++
		}
		return seen
	}
	byPort := func(i int) []byte { return udpTo("198.51.100.2", 2, uint16(i), 20) }
	seen := count(read(t, diamond), byPort)
	assert.InDelta(t, flows/2, seen["192.0.2.21"], 4*22.4, "half, with a standard error of 22")
	assert.Equal(t, flows, seen["192.0.2.21"]+seen["192.0.2.22"], "never the longer way")

	same := func(i int) []byte {
		b := udpTo("198.51.100.2", 2, 33434, 20)
		h, payload, _ := wire.ParseIP(b)
		h.ID = uint16(i)
		return h.Marshal(payload)
	}
	seen = count(read(t, diamond), same)
	assert.Len(t, seen, 1, "one flow keeps to one way")
	spread := read(t, diamond+"changes: [{node: r1, set: {balance: packet}}]")
	seen = count(spread, same)
	assert.InDelta(t, flows/2, seen["192.0.2.21"], 4*22.4, "packet by packet")
}

func TestRoutesTakeTimeToConverge(t *testing.T) {
	m := read(t, "convergence: 3s"+diamond+`
changes:
  - {node: up, from: start+10s, until: start+60s, set: {up: false}}
  - {node: down, set: {up: false}}
`)
	b := netip.MustParseAddr("198.51.100.2")
	w := m.Walker()
	for _, c := range []struct {
		at       time.Duration
		arrives  bool
		by       string
		comments string
	}{
		{9 * time.Second, true, "up", "before"},
		{11 * time.Second, false, "", "it is down, and r1 does not know"},
		{14 * time.Second, true, "far", "now it does"},
		{61 * time.Second, true, "far", "it is back, and r1 does not know"},
		{64 * time.Second, true, "up", "as before"},
	} {
		p := w.Send(world.Probe{From: 0, To: b, At: reference.Add(c.at)}, true)
		require.Equal(t, c.arrives, p.Arrived, c.comments)
		if c.arrives {
			assert.Equal(t, c.by, m.Nodes()[p.Nodes[2]].Name, c.comments)
		}
	}
}

func TestPacketsMeetInTheQueues(t *testing.T) {
	// 8 Mbit/s: 1000 bytes take 1 ms. Two packets sent at once share the middle.
	m := change(t, `  - {link: [r1, r2], set: {rate: 8Mbit/s}}`)
	traffic := m.Traffic(reference)
	var at []time.Duration
	target, err := m.Find("b")
	require.NoError(t, err)
	traffic.Attach(target, func(_ []byte, when time.Time) bool { at = append(at, when.Sub(reference)); return true })
	for range 3 {
		require.NoError(t, traffic.Send(0, udpTo("198.51.100.2", 64, 5001, 972), reference))
	}
	traffic.Advance(reference.Add(time.Second))
	assert.Equal(t, []time.Duration{16 * time.Millisecond, 17 * time.Millisecond, 18 * time.Millisecond}, at)
	for _, p := range traffic.Passing(reference.Add(time.Second)) {
		if p.Name == "middle" && m.Nodes()[p.To].Name == "r2" {
			assert.Equal(t, uint64(3), p.Packets)
			assert.Equal(t, uint64(3000), p.Bytes)
			assert.Equal(t, 8e6, p.Rate)
		}
	}
}

func TestWhatIsNoPacket(t *testing.T) {
	traffic := read(t, lane).Traffic(reference)
	require.ErrorIs(t, traffic.Send(0, []byte("no packet"), reference), wire.ErrPacket)
	require.NoError(t, traffic.Send(0, wire.IP{Src: from(wire.IPv4), Dst: netip.MustParseAddr("224.0.0.251"), TTL: 1}.Marshal(nil), reference))
	_, ok := traffic.Next()
	assert.False(t, ok, "multicast goes nowhere")
}

func TestTooManyUnderWay(t *testing.T) {
	traffic := change(t, `  - {link: [r1, r2], set: {delay: 30s}}`).Traffic(reference)
	p := udpTo("198.51.100.2", 64, 7, 20)
	for range 200_100 {
		require.NoError(t, traffic.Send(0, p, reference))
	}
	assert.Equal(t, uint64(100), traffic.Overflow(), "it says so, and does not grow without end")
}

func TestTrafficIsTheSameAgain(t *testing.T) {
	run := func() []arrival {
		m := change(t, `  - {link: [r1, r2], set: {loss: 20%, variation: pareto 3ms, duplicates: 5%, reorders: 5% 4ms, rate: 2Mbit/s}}`)
		var packets [][]byte
		for i := range 200 {
			packets = append(packets, udpTo("198.51.100.2", 64, 7, i))
		}
		return exchange(t, m, packets...)
	}
	first := run()
	assert.Equal(t, first, run())
	assert.Greater(t, len(first), 50)
	assert.Less(t, len(first), 200)
}

func FuzzTraffic(f *testing.F) {
	f.Add(udpTo("198.51.100.2", 3, 7, 20))
	f.Add(udpTo("2001:db8:1::2", 64, 53, 60))
	f.Add(wire.IP{Src: from(wire.IPv4), Dst: netip.MustParseAddr("198.51.100.2"), Protocol: 1, TTL: 9}.Marshal(wire.Echo{ID: 1}.Marshal(wire.IPv4)))
	m, err := world.Read([]byte(lane+"changes: [{node: b, set: {resolver: answer}}]"), world.Options{Reference: reference})
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, b []byte) {
		traffic := m.Traffic(reference)
		if err := traffic.Send(0, b, reference); err != nil {
			require.ErrorIs(t, err, wire.ErrPacket)
			return
		}
		for i := 0; ; i++ {
			next, ok := traffic.Next()
			if !ok {
				return
			}
			require.Less(t, i, 2000, "a packet does not go on for ever")
			traffic.Advance(next)
		}
	})
}
