package visit_test

import (
	"context"
	"encoding/binary"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/pion/webrtc/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/visitor"
	"woodlark.example/internal/probe/visit"
)

var plan = visitor.Plan{EveryMs: 5, Bytes: 120, Seats: 2, Packets: 100}

// browser is a browser's end, of a library.
type browser struct {
	pc    *webrtc.PeerConnection
	there *webrtc.DataChannel
	mu    sync.Mutex
	came  map[byte][]uint32
	sizes map[int]int
}

func message(kind byte, n uint32, bytes int) []byte {
	b := make([]byte, max(5, bytes))
	b[0] = kind
	binary.BigEndian.PutUint32(b[1:], n)
	return b
}

// offered is a browser whose offer is made.
func offered(t *testing.T) (*browser, string) {
	t.Helper()
	var s webrtc.SettingEngine
	s.SetIncludeLoopbackCandidate(true)
	s.SetIPFilter(func(ip net.IP) bool { return ip.IsLoopback() })
	pc, err := webrtc.NewAPI(webrtc.WithSettingEngine(s)).NewPeerConnection(webrtc.Configuration{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = pc.Close() })
	ordered, again := false, uint16(0)
	there, err := pc.CreateDataChannel("there", &webrtc.DataChannelInit{Ordered: &ordered, MaxRetransmits: &again})
	require.NoError(t, err)
	b := &browser{pc: pc, there: there, came: map[byte][]uint32{}, sizes: map[int]int{}}
	pc.OnDataChannel(func(back *webrtc.DataChannel) {
		back.OnMessage(func(m webrtc.DataChannelMessage) {
			b.mu.Lock()
			defer b.mu.Unlock()
			b.came[m.Data[0]] = append(b.came[m.Data[0]], binary.BigEndian.Uint32(m.Data[1:]))
			b.sizes[len(m.Data)]++
		})
	})
	o, err := pc.CreateOffer(nil)
	require.NoError(t, err)
	gathered := webrtc.GatheringCompletePromise(pc)
	require.NoError(t, pc.SetLocalDescription(o))
	<-gathered
	return b, pc.LocalDescription().SDP
}

// open has it connect by an answer.
func (b *browser) open(t *testing.T, answer string) {
	t.Helper()
	open := make(chan struct{})
	b.there.OnOpen(func() { close(open) })
	require.NoError(t, b.pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeAnswer, SDP: answer}))
	select {
	case <-open:
	case <-time.After(20 * time.Second):
		t.Fatal("the channel did not open")
	}
}

func (b *browser) count(kind byte) int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.came[kind])
}

func door(t *testing.T) *visit.Door {
	t.Helper()
	d, err := visit.Open(netip.MustParseAddrPort("127.0.0.1:0"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return d
}

func TestPacketsEachWay(t *testing.T) {
	d := door(t)
	b, offer := offered(t)
	call, answer, err := d.Answer(t.Context(), offer, netip.Addr{}, plan, time.Now())
	require.NoError(t, err)
	defer call.Close()
	b.open(t, answer)
	assert.Eventually(t, func() bool { // the way back opens a moment later
		require.NoError(t, b.there.Send(message(2, 7, 5)))
		return b.count(3) > 0
	}, time.Minute, 50*time.Millisecond, "an echo is answered")
	require.NoError(t, b.there.Send(message(4, 0, 5)))
	require.NoError(t, b.there.Send(message(4, 0, 5)), "asked for twice it is sent once")
	for n := range plan.Packets {
		if n%10 != 3 { // as if lost
			require.NoError(t, b.there.Send(message(1, uint32(n), plan.Bytes)))
		}
	}
	require.NoError(t, b.there.Send(message(1, 1_000_000, plan.Bytes)), "a number that is none")
	assert.Eventually(t, func() bool { return b.count(1) == plan.Packets }, time.Minute, 10*time.Millisecond)
	assert.Eventually(t, func() bool { return len(call.Seen().Came) == 90 }, time.Minute, 10*time.Millisecond)
	seen := call.Seen()
	require.Len(t, seen.Sent, plan.Packets)
	for i := 2; i < len(seen.Sent); i += 2 {
		assert.GreaterOrEqual(t, seen.Sent[i]-seen.Sent[0], float64(i/2)*plan.EveryMs-1, "packet %d is not sent before its time", i)
	}
	assert.Equal(t, plan.Packets, b.sizes[plan.Bytes], "each of the size that was planned")
}

// TestAFloodEndsTheCall: whoever sends without end is cut off.
func TestAFloodEndsTheCall(t *testing.T) {
	d := door(t)
	b, offer := offered(t)
	call, answer, err := d.Answer(t.Context(), offer, netip.Addr{}, plan, time.Now())
	require.NoError(t, err)
	defer call.Close()
	b.open(t, answer)
	go func() { // as many as leave, of which any may be lost, until it is cut off
		for n := uint32(0); ; n++ {
			for b.there.BufferedAmount() > 1<<20 {
				select {
				case <-call.Over():
					return
				case <-time.After(time.Millisecond):
				}
			}
			if b.there.Send(message(1, n, 5)) != nil {
				return
			}
		}
	}()
	select {
	case <-call.Over():
	case <-time.After(60 * time.Second):
		t.Fatal("it goes on")
	}
	assert.LessOrEqual(t, len(call.Seen().Came), 2*plan.Packets, "what is kept is bounded")
}

func TestWhatIsNoOffer(t *testing.T) {
	d := door(t)
	_, offer := offered(t)
	for name, text := range map[string]string{"nothing": "", "noise": "m=application \x00\xff", "a picture": offer + "m=video 9 UDP/TLS/RTP/SAVPF 96\r\n", "a sound": offer + "m=audio 9 UDP/TLS/RTP/SAVPF 0\r\n",
		"without end": offer + string(make([]byte, 1<<20))} {
		t.Run(name, func(t *testing.T) {
			_, _, err := d.Answer(t.Context(), text, netip.Addr{}, plan, time.Now())
			assert.ErrorIs(t, err, visit.ErrOffer)
		})
	}
	ctx, cancel := context.WithCancel(t.Context())
	call, _, err := d.Answer(ctx, offer, netip.MustParseAddr("127.0.0.1"), plan, time.Now())
	require.NoError(t, err, "and after all that an offer is answered")
	cancel()
	call.Close()
}

// TestAVisitorIsToldOneAddress: that which it reached, and not those that this machine has beside.
func TestAVisitorIsToldOneAddress(t *testing.T) {
	const first, ours, last = "v=0\r\n", "a=candidate:2 1 udp 2130706431 192.0.2.7 7420 typ host\r\n", "a=end-of-candidates\r\n"
	whole := first + "a=candidate:1 1 udp 2130706431 198.51.100.4 7420 typ host\r\n" + ours + "a=candidate:3 1 udp 2130706431 2001:db8::4 7420 typ host\r\n" + last
	assert.Equal(t, first+ours+last, visit.Only(whole, netip.MustParseAddr("192.0.2.7")))
	assert.Equal(t, first+ours+last, visit.Only(whole, netip.MustParseAddr("::ffff:192.0.2.7")))
	assert.Equal(t, whole, visit.Only(whole, netip.MustParseAddr("127.0.0.1")), "a proxy on this machine")
	assert.Equal(t, whole, visit.Only(whole, netip.MustParseAddr("203.0.113.9")), "none of ours")
	assert.Equal(t, whole, visit.Only(whole, netip.Addr{}))
}
