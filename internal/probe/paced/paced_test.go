package paced_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/oneway"
	"woodlark.example/internal/busy"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/wire"
)

func shape(f paced.Format) paced.Shape {
	return paced.Shape{Format: f, Calls: 2, Interval: 10 * time.Millisecond, Sizes: []int{80, 60}, For: 500 * time.Millisecond, First: 7, Type: 18, Clock: 8000, Frame: 1}
}

func TestShapes(t *testing.T) {
	s := shape(paced.RTP)
	require.NoError(t, s.Check())
	assert.Equal(t, 50, s.PerCall())
	assert.Equal(t, 100, s.Packets())
	assert.Equal(t, int64(7000), s.Bytes())
	assert.InDelta(t, 112_000, s.Rate(), 1e-6)
	for name, change := range map[string]func(*paced.Shape){
		"no packet format": func(s *paced.Shape) { s.Format = "gulls" }, "streams at once": func(s *paced.Shape) { s.Calls = 0 }, "more often than can be sent": func(s *paced.Shape) { s.Interval = 1 },
		"at most 24h": func(s *paced.Shape) { s.For = 0 }, "a stream needs sizes": func(s *paced.Shape) { s.Sizes = nil }, "bytes of payload are possible": func(s *paced.Shape) { s.Sizes = []int{5} },
		"more than can be noted": func(s *paced.Shape) { s.For, s.Interval = 24*time.Hour, time.Microsecond },
	} {
		x := s
		change(&x)
		assert.ErrorContains(t, x.Check(), name)
	}
}

func TestLogsThereAndBack(t *testing.T) {
	s := shape(paced.Stamp)
	at := time.Date(2026, 11, 23, 12, 0, 0, 123, time.UTC)
	l := paced.Log{Sent: [][]time.Time{{at, {}, at.Add(20 * time.Millisecond)}, {at.Add(time.Millisecond)}},
		Arrivals: [][]oneway.Arrival{{{Number: 2, At: at.Add(time.Second), TTL: 60, DSCP: 46, Size: 80}, {Number: 0, At: at, DSCP: -1, Size: 60}}, nil}}
	for _, size := range []int{1, 1 << 20} { // one entry a part, all in one
		var got paced.Log
		for _, part := range l.Pack(size) {
			require.NoError(t, got.Unpack(part, s))
		}
		for call, list := range l.Sent {
			require.Len(t, got.Sent[call], len(list))
			for i, want := range list {
				assert.True(t, want.Equal(got.Sent[call][i]), "%v %v", want, got.Sent[call][i])
			}
		}
		require.Len(t, got.Arrivals[0], 2)
		for i, want := range l.Arrivals[0] {
			have := got.Arrivals[0][i]
			assert.True(t, want.At.Equal(have.At))
			have.At = want.At
			assert.Equal(t, want, have)
		}
	}
	var got paced.Log
	for _, bad := range [][]byte{nil, {'s'}, {'a', 9}, {'s', 0, 200}, {'x', 0, 1, 1}, {'s', 0, 0xff, 0xff, 0xff, 0xff, 0x7f, 1}} {
		assert.Error(t, got.Unpack(bad, s), "%v", bad)
	}
}

func FuzzUnpack(f *testing.F) {
	s := shape(paced.Stamp)
	for _, part := range (paced.Log{Sent: [][]time.Time{{time.Unix(1, 2)}}, Arrivals: [][]oneway.Arrival{{{Number: 1, At: time.Unix(3, 4)}}}}).Pack(100) {
		f.Add(part)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		var l paced.Log
		_ = l.Unpack(b, s)
	})
}

// TestOverLoopback: what is sent arrives, numbered, of the sizes and at the pace that
// were asked for.
func TestOverLoopback(t *testing.T) {
	for _, format := range []paced.Format{paced.RTP, paced.Stamp} {
		t.Run(string(format), func(t *testing.T) {
			busy.Tries(t, func(c *busy.Try) {
				n, s := kernel.Host(), shape(format)
				here := netip.MustParseAddr("127.0.0.1")
				in, err := n.Open(network.UDP, wire.IPv4, network.SocketOptions{Source: here, Port: 47474})
				require.NoError(c, err)
				defer in.Close()
				out, err := n.Open(network.UDP, wire.IPv4, network.SocketOptions{Source: here})
				require.NoError(c, err)
				defer out.Close()
				to := netip.AddrPortFrom(here, 47474)
				receiver := paced.NewDuplex(in, netip.AddrPort{}, n.Clock(), paced.Plain, nil, &s)
				sender := paced.NewDuplex(out, to, n.Clock(), paced.Plain, &s, nil)
				receiver.Listen()
				sender.Listen()
				sender.Start(t.Context(), time.Now())
				receiver.Start(t.Context(), time.Now())
				<-sender.Sending()
				assert.Eventually(c, func() bool { return receiver.Count().Packets >= 98 }, time.Minute, 5*time.Millisecond)
				sent, _, err := sender.Close()
				require.NoError(c, err)
				_, came, err := receiver.Close()
				require.NoError(c, err)
				for call := range 2 {
					x := paced.Stream(s, sent, came, call)
					require.Len(c, x.Sent, 50)
					for i, a := range x.Arrivals {
						assert.Equal(c, s.Sizes[a.Number%2], a.Size)
						assert.Equal(c, 64, a.TTL)
						_ = i
					}
					span := x.Sent[49].Sub(x.Sent[0])
					assert.InDelta(c, 490, float64(span)/1e6, 30, "ms")
				}
			})
		})
	}
}

// TestWhatOneEndKnowsAlone: as far as the last packet that came; STAMP's tell when they
// left, RTP's are taken to have left at an even pace.
func TestWhatOneEndKnowsAlone(t *testing.T) {
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	ms := func(n int) time.Time { return at.Add(time.Duration(n) * time.Millisecond) }
	l := paced.Log{Arrivals: [][]oneway.Arrival{{{Number: 1, At: ms(30)}, {Number: 4, At: ms(61)}, {Number: 3, At: ms(62)}}, nil}, Said: [][]time.Time{{{}, ms(11), {}, ms(30), ms(42)}, nil}}
	x, timed := paced.Told(shape(paced.Stamp), l, 0)
	assert.True(t, timed)
	assert.Equal(t, []time.Time{ms(1), ms(11), ms(21), ms(30), ms(42)}, x.Sent)
	d := oneway.Of(x, oneway.Stepped(0), false)
	assert.Equal(t, [3]int{5, 2, 1}, [3]int{d.Loss.Sent, d.Loss.Lost, d.Order.Reordered})
	assert.Equal(t, 19*time.Millisecond, d.Delay.Min.Or(0))
	x, timed = paced.Told(shape(paced.RTP), l, 0)
	assert.False(t, timed)
	assert.Equal(t, []time.Time{ms(20), ms(30), ms(40), ms(50), ms(60)}, x.Sent)
	for _, call := range []int{1, 2} {
		x, _ = paced.Told(shape(paced.RTP), l, call)
		assert.Empty(t, x.Sent)
	}
}
