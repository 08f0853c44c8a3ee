package trace

import (
	"bytes"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// started is an engine with one trace and some probes on their way, without sockets.
func started(t testing.TB, via reading.Via, to netip.Addr) (*Engine, *raw, *tracer) {
	t.Helper()
	e := &Engine{mark: 0x1122334455667788, random: rand.New(rand.NewPCG(1, 1)), traces: map[uint16]*tracer{}, byFlow: map[flowKey][]*tracer{}, clock: network.SystemClock{}}
	s := &raw{nowhere{}}
	x := newTracer(Request{Addr: to, Via: via}, network.Hop{Source: source(to), MTU: 1500}, time.Now())
	x.e, x.way, x.onDone, x.id, x.secret, x.index = e, s, func() {}, 0x4242, 0xdeadbeef, -1
	e.traces[x.id] = x
	for ttl := 1; ttl <= 8; ttl++ {
		x.fire(wish{ttl: ttl, flow: ttl % 3}, time.Now())
	}
	return e, s, x
}

func source(to netip.Addr) netip.Addr {
	if to.Is4() {
		return netip.MustParseAddr("192.0.2.2")
	}
	return netip.MustParseAddr("2001:db8::2")
}

type nowhere struct{ network.Conn }

func (nowhere) Send(netip.AddrPort, []byte) (time.Time, error) { return time.Now(), nil }
func (nowhere) Exact() bool                                    { return false }

var (
	hopAddr = netip.MustParseAddr("198.51.100.7")
	farAddr = netip.MustParseAddr("203.0.113.9")
)

// quoted is a time-exceeded message about a packet, of which so many bytes are
// quoted.
func quoted(about []byte, bytes int) *network.Packet {
	b := wire.NewICMPError(wire.IPv4, wire.TimeExpired, about[:min(bytes, len(about))]).Marshal(hopAddr, source(farAddr))
	return &network.Packet{Event: network.Answer, Peer: hopAddr, TTL: 60, Seen: time.Now(), Protocol: wire.ProtocolICMP, Data: b}
}

func TestQuotes(t *testing.T) {
	for _, via := range []reading.Via{{}, {Kind: reading.ByUDP, Port: 33434}, {Kind: reading.ByTCP, Port: 443}} {
		t.Run(via.String(), func(t *testing.T) {
			e, s, x := started(t, via, farAddr)
			for n, shot := range x.shots {
				whole := x.packet(shot)
				for _, size := range []int{28, 32, len(whole)} { // RFC 792 asks for eight bytes only
					a, ours := s.read(e, nil, quoted(whole, size))
					require.True(t, ours)
					assert.Same(t, shot, a.shot, "probe %d, %d bytes quoted", n, size)
				}
				_, ours := s.read(e, nil, quoted(whole, 27))
				assert.False(t, ours, "less than eight bytes tell nothing")
			}
			shot := x.shots[3]
			forged := func(change func(b []byte)) *shotOrNot {
				b := x.packet(shot)
				change(b)
				a, ours := s.read(e, nil, quoted(b, len(b)))
				return &shotOrNot{a.shot, ours}
			}
			for name, change := range map[string]func(b []byte){
				"another source":     func(b []byte) { b[15]++ },
				"another port or id": func(b []byte) { b[22] ^= 0x55; b[24] ^= 0x55; b[32] ^= 1 },
				"another number":     func(b []byte) { b[26] ^= 0x55; b[27] ^= 0x0f; b[28] ^= 0x33; b[24] ^= 0x11; b[30] ^= 0x44 },
				"another protocol":   func(b []byte) { b[9] = 47 },
				"a later fragment":   func(b []byte) { b[7] = 9 },
				"a mark that is not ours": func(b []byte) {
					b[27]++ // of TCP, what balances the number
					if via.Kind != reading.ByTCP {
						b[27]--
						b[34]++
					}
				},
			} {
				assert.Nil(t, forged(change).shot, name)
			}
		})
	}
}

type shotOrNot struct {
	shot *shot
	ours bool
}

func TestRewrittenOnTheWay(t *testing.T) {
	e, s, x := started(t, reading.Via{Kind: reading.ByUDP, Port: 33434}, farAddr)
	b := x.packet(x.shots[4])
	copy(b[16:20], []byte{192, 0, 2, 77}) // the target, and another class of service
	b[1] = 8 << 2
	a, ours := s.read(e, nil, quoted(b, len(b)))
	require.True(t, ours)
	assert.Same(t, x.shots[4], a.shot, "known by its mark")
	assert.Equal(t, netip.MustParseAddr("192.0.2.77"), a.probe.Quoted.To)
	assert.Equal(t, 8, a.probe.Quoted.DSCP, "changed on the way")
}

func TestAnswersOfTheTarget(t *testing.T) {
	e, s, x := started(t, reading.Via{Kind: reading.ByTCP, Port: 443}, farAddr)
	shot := x.shots[2]
	seq := uint32(shot.number)<<16 | uint32(^shot.number)
	answer := func(port uint16, ack uint32, flags wire.TCPFlags) *network.Packet {
		b := wire.TCP{SrcPort: 443, DstPort: port, Ack: ack, Flags: flags}.Marshal(farAddr, source(farAddr))
		return &network.Packet{Event: network.Answer, Peer: farAddr, Protocol: wire.ProtocolTCP, Data: b, Seen: time.Now()}
	}
	for _, flags := range []wire.TCPFlags{wire.SYN | wire.ACK, wire.RST | wire.ACK} {
		a, ours := s.read(e, nil, answer(x.port(shot.flow), seq+1, flags))
		require.True(t, ours)
		assert.Same(t, shot, a.shot)
	}
	for _, p := range []*network.Packet{answer(x.port(shot.flow), seq, wire.SYN|wire.ACK), answer(x.port(shot.flow)+1, seq+1, wire.SYN|wire.ACK), answer(x.port(shot.flow), seq+1, wire.SYN)} {
		a, _ := s.read(e, nil, p)
		assert.Nil(t, a.shot)
	}
}

// FuzzQuotes feeds arbitrary messages: they match no probe, unless they quote it as
// it was sent.
func FuzzQuotes(f *testing.F) {
	_, _, x := started(f, reading.Via{}, farAddr)
	f.Add(quoted(x.packet(x.shots[1]), 60).Data)
	f.Add(quoted(x.packet(x.shots[2]), 28).Data)
	f.Add([]byte{11, 0, 0, 0})
	_, _, u := started(f, reading.Via{Kind: reading.ByUDP, Port: 33434}, farAddr)
	f.Add(quoted(u.packet(u.shots[1]), 60).Data)
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 4 {
			b[2], b[3] = 0, 0
			sum := wire.Checksum(b)
			b[2], b[3] = byte(sum>>8), byte(sum)
		}
		for _, via := range []reading.Via{{}, {Kind: reading.ByUDP, Port: 33434}, {Kind: reading.ByTCP, Port: 443}} {
			e, s, x := started(t, via, farAddr)
			a, _ := s.read(e, nil, &network.Packet{Event: network.Answer, Peer: hopAddr, Protocol: wire.ProtocolICMP, Data: b, Seen: time.Now()})
			if a.shot == nil {
				continue
			}
			sent := x.packet(a.shot)
			problem, err := wire.ParseICMPError(wire.IPv4, b)
			require.NoError(t, err)
			q, _, err := wire.ParseQuoted(problem.Quoted)
			require.NoError(t, err)
			if a.probe.Quoted.To.IsValid() { // who changes an address may change the port, but not what is carried
				require.Equal(t, sent[28:40], problem.Quoted[q.HeaderSize+8:q.HeaderSize+20], "number and mark")
				continue
			}
			require.Equal(t, farAddr, q.Dst)
			require.Equal(t, source(farAddr), q.Src)
			if ports := problem.Quoted[q.HeaderSize : q.HeaderSize+2]; via.Kind == reading.ByUDP && !bytes.Equal(sent[20:22], ports) {
				// Who changes the port alone leaves what is carried, too.
				require.GreaterOrEqual(t, len(problem.Quoted), q.HeaderSize+20)
				require.Equal(t, sent[28:40], problem.Quoted[q.HeaderSize+8:q.HeaderSize+20], "number and mark")
				continue
			}
			require.Equal(t, sent[20:22], problem.Quoted[q.HeaderSize:q.HeaderSize+2], "type and code, or the port")
		}
	})
}
