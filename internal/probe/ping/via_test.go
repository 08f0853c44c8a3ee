package ping_test

import (
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/wire"
)

func measureVia(t *testing.T, request ping.Request) []ping.Result {
	t.Helper()
	results, err := ping.Measure(t.Context(), kernel.Host(), request)
	require.NoError(t, err)
	return results
}

func TestKindsInAWorld(t *testing.T) {
	m, err := world.Read([]byte(`
world: quay
nodes:
  - {name: here, addresses: [192.0.2.1, "2001:db8::1"]}
  - {name: shop, addresses: [192.0.2.2, "2001:db8::2"], tcp: {443: open, 22: filtered, 25: rejected}, udp: {7: echo, 9: filtered, 10: rejected, 862: reflect}}
links:
  - {between: [here, shop], delay: 5ms}
`), world.Options{})
	require.NoError(t, err)
	start := time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		via, as, cause string
		outcome        reading.Outcome
		shut           bool
	}{
		{"icmp", "", "", reading.Answered, false},
		{"tcp:443", "", "", reading.Answered, false},
		{"tcp:80", "", "connection refused by 192.0.2.2", reading.Refused, true},
		{"tcp:22", "", "", reading.Lost, false},
		{"tcp:25", "", "administratively prohibited by 192.0.2.2", reading.Refused, false},
		{"udp:7", "", "", reading.Answered, false},
		{"udp:8", "", "connection refused by 192.0.2.2 (port unreachable)", reading.Refused, true},
		{"udp:9", "", "", reading.Lost, false},
		{"udp:10", "", "administratively prohibited by 192.0.2.2", reading.Refused, false},
		{"stamp", "", "", reading.Answered, false},
	} {
		t.Run(c.via, func(t *testing.T) {
			v, err := reading.ParseVia(c.via)
			require.NoError(t, err)
			for _, to := range []string{"192.0.2.2", "2001:db8::2"} {
				here, err := live.Virtual(m, start).At("here")
				require.NoError(t, err)
				results, err := ping.Measure(t.Context(), here, ping.Request{Addrs: []netip.Addr{netip.MustParseAddr(to)}, Vias: []reading.Via{v}, Probes: 20, Interval: time.Second, Wait: 2 * time.Second})
				require.NoError(t, err)
				require.Len(t, results[0].Probes, 20)
				for _, p := range results[0].Probes {
					require.Equal(t, c.outcome, p.Outcome)
					assert.Equal(t, c.as, p.As)
					assert.Equal(t, c.shut, p.Shut)
					if to == "192.0.2.2" {
						assert.Equal(t, c.cause, p.Cause)
					}
					if p.Outcome != reading.Lost {
						assert.Equal(t, 10*time.Millisecond, p.RTT, "twice 5 ms; what the reflector kept it for is taken out")
					}
				}
			}
		})
	}
}

// listen opens what a kind of probe is answered by on loopback, and returns its
// port.
func listen(t *testing.T, kind reading.Kind, address string) uint16 {
	t.Helper()
	if kind == reading.ByTCP {
		l, err := net.Listen("tcp", net.JoinHostPort(address, "0"))
		require.NoError(t, err)
		t.Cleanup(func() { _ = l.Close() })
		return l.Addr().(*net.TCPAddr).AddrPort().Port()
	}
	return answering(t, address, func(b []byte) []byte {
		if q, err := wire.ParseStampRequest(b); err == nil && kind == reading.ByStamp {
			now := time.Now()
			// It says that it kept the probe for 10 s, which cannot be: that is not
			// taken out.
			return wire.StampReply{Seq: q.Seq, Session: q.Session, Received: now.Add(-10 * time.Second), Sent: now, Request: q}.Marshal(len(b))
		}
		return b
	})
}

// answering is a UDP port that answers each datagram as a function says.
func answering(t *testing.T, address string, answer func(b []byte) []byte) uint16 {
	t.Helper()
	c, err := net.ListenPacket("udp", net.JoinHostPort(address, "0"))
	require.NoError(t, err)
	var wg sync.WaitGroup
	t.Cleanup(func() { _ = c.Close(); wg.Wait() })
	wg.Go(func() {
		b := make([]byte, 2048)
		for {
			n, peer, err := c.ReadFrom(b)
			if err != nil {
				return
			}
			_, _ = c.WriteTo(answer(b[:n]), peer)
		}
	})
	return c.LocalAddr().(*net.UDPAddr).AddrPort().Port()
}

// unused is a port at which nobody listens.
func unused(t *testing.T) uint16 {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, l.Close())
	return l.Addr().(*net.TCPAddr).AddrPort().Port()
}

func TestKindsOnLoopback(t *testing.T) {
	for _, address := range []string{"127.0.0.1", "::1"} {
		shut := unused(t)
		for _, c := range []struct {
			name    string
			via     reading.Via
			outcome reading.Outcome
			stamp   reading.Stamp
			as      string
		}{
			{"TCP open", reading.Via{Kind: reading.ByTCP, Port: listen(t, reading.ByTCP, address)}, reading.Answered, reading.StampKernel, ""},
			{"TCP closed", reading.Via{Kind: reading.ByTCP, Port: shut}, reading.Refused, reading.StampUser, ""},
			{"UDP echo", reading.Via{Kind: reading.ByUDP, Port: listen(t, reading.ByUDP, address)}, reading.Answered, reading.StampKernel, ""},
			{"UDP closed", reading.Via{Kind: reading.ByUDP, Port: shut}, reading.Refused, reading.StampUser, ""},
			{"STAMP", reading.Via{Kind: reading.ByStamp, Port: listen(t, reading.ByStamp, address)}, reading.Answered, reading.StampKernel, ""},
		} {
			t.Run(c.name+" at "+address, func(t *testing.T) {
				r := measureVia(t, ping.Request{Addrs: []netip.Addr{netip.MustParseAddr(address)}, Vias: []reading.Via{c.via}, Probes: 20, Interval: 2 * time.Millisecond, Wait: time.Second})[0]
				require.Len(t, r.Probes, 20)
				for _, p := range r.Probes {
					require.Equal(t, c.outcome, p.Outcome, p.Cause)
					assert.Equal(t, c.as, p.As)
					assert.Positive(t, p.RTT)
					assert.Less(t, p.RTT, time.Second)
				}
				assert.GreaterOrEqual(t, r.Probes[10].Stamp, c.stamp)
				assert.Zero(t, r.Dropped)
			})
		}
	}
}

// TestAServerThatDoesNotEcho answers each datagram with words of its own.
func TestAServerThatDoesNotEcho(t *testing.T) {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer c.Close()
	go func() {
		b := make([]byte, 100)
		for {
			_, peer, err := c.ReadFrom(b)
			if err != nil {
				return
			}
			_, _ = c.WriteTo([]byte("what?"), peer)
		}
	}()
	port := c.LocalAddr().(*net.UDPAddr).AddrPort().Port()
	r := measureVia(t, ping.Request{Addrs: []netip.Addr{netip.MustParseAddr("127.0.0.1")}, Vias: []reading.Via{{Kind: reading.ByUDP, Port: port}}, Probes: 5, Interval: 5 * time.Millisecond, Wait: time.Second})[0]
	assert.Equal(t, 5, r.Reading.Answered)
	assert.Equal(t, "a datagram of its own", r.Reading.As)
}

// TestStampByKey: in authenticated mode only who has the key is there.
func TestStampByKey(t *testing.T) {
	key := []byte("tern")
	via := reading.Via{Kind: reading.ByStamp, Port: answering(t, "127.0.0.1", func(b []byte) []byte {
		q, err := wire.ParseStampRequestAuth(b, key)
		if err != nil { // it answers all the same, with another key
			q, _ = wire.ParseStampRequest(b)
			return wire.StampReply{Seq: q.Seq, Session: q.Session, Request: q}.MarshalAuth(len(b), []byte("gull"))
		}
		return wire.StampReply{Seq: q.Seq, Session: q.Session, Request: q, Received: q.Sent, Sent: q.Sent}.MarshalAuth(len(b), key)
	})}
	for with, want := range map[string]int{"tern": 10, "another": 0} {
		results, err := ping.Measure(t.Context(), kernel.Host(), ping.Request{Addrs: []netip.Addr{netip.MustParseAddr("127.0.0.1")}, Vias: []reading.Via{via}, Probes: 10, Interval: 5 * time.Millisecond, Wait: 300 * time.Millisecond, StampKey: []byte(with)})
		require.NoError(t, err)
		assert.Equal(t, want, results[0].Reading.RTT.Count, "with the key %s", with)
	}
}
