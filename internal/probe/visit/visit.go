// Package visit is the service's end of packets to and from a browser: an unordered data channel
// that sends nothing anew (RFC 8831, RFC 8832), over DTLS on one UDP port for all visitors.
//
//	door, err := visit.Open(netip.MustParseAddrPort("192.0.2.1:7420"))
//	call, answer, err := door.Answer(ctx, offer, plan)
//	… call.Seen() …
package visit

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pion/ice/v4"
	"github.com/pion/webrtc/v4"

	"woodlark.example/core/visitor"
)

// The first byte of a message says what it is; four bytes of a number follow, the most significant
// first. All else fills it up.
const (
	packet = 1 // of the stream, either way
	echo   = 2 // is sent back at once, as an answer
	answer = 3
	start  = 4 // the visitor is ready for packets
)

const (
	headBytes = 5
	mostOffer = 20 << 10
	gathering = 5 * time.Second
	// full is how much may wait in this host before a packet counts as not sent.
	full = 64 << 10
)

// Errors of Answer.
var ErrOffer = errors.New("that is no offer of a data channel")

// Door is the UDP port of all visitors. It never sends first: only to who has shown by an exchange
// of keys told over HTTP that it is there (ICE lite, RFC 8445 §2.5).
type Door struct {
	api *webrtc.API
	mux ice.UDPMux
}

// Open listens.
func Open(listen netip.AddrPort) (*Door, error) {
	var mux ice.UDPMux
	if listen.Addr().IsUnspecified() {
		m, err := ice.NewMultiUDPMuxFromPort(int(listen.Port()), ice.UDPMuxFromPortWithLoopback(), ice.UDPMuxFromPortWithNetworks(ice.NetworkTypeUDP4, ice.NetworkTypeUDP6))
		if err != nil {
			return nil, fmt.Errorf("listen for visitors' packets: %w", err)
		}
		mux = m
	} else {
		conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(listen))
		if err != nil {
			return nil, fmt.Errorf("listen for visitors' packets: %w", err)
		}
		mux = ice.NewUDPMuxDefault(ice.UDPMuxParams{UDPConn: conn})
	}
	var s webrtc.SettingEngine
	s.SetICEUDPMux(mux)
	s.SetLite(true)
	s.SetIncludeLoopbackCandidate(true)
	s.SetICEMulticastDNSMode(ice.MulticastDNSModeDisabled)
	s.SetNetworkTypes([]webrtc.NetworkType{webrtc.NetworkTypeUDP4, webrtc.NetworkTypeUDP6})
	s.SetICETimeouts(5*time.Second, 10*time.Second, 2*time.Second)
	s.SetSCTPMaxReceiveBufferSize(1 << 20)
	return &Door{api: webrtc.NewAPI(webrtc.WithSettingEngine(s)), mux: mux}, nil
}

// Close ends it.
func (d *Door) Close() error { return d.mux.Close() }

// Call is one visitor's packets. It is safe for concurrent use.
type Call struct {
	plan  visitor.Plan
	began time.Time
	pc    *webrtc.PeerConnection
	end   context.CancelFunc
	over  chan struct{} // closed when pc is

	mu       sync.Mutex
	came     []visitor.Came
	sent     []float64
	messages int
	started  bool
	sending  sync.WaitGroup
}

// Answer takes an offer up, until ctx ends. at is the address of ours that the visitor reached, and the
// only one that it is told; all are where that is loopback, as behind a proxy on this machine, or not
// known. began is when the visit did.
func (d *Door) Answer(ctx context.Context, offer string, at netip.Addr, plan visitor.Plan, began time.Time) (*Call, string, error) {
	if len(offer) > mostOffer || !strings.Contains(offer, "m=application") || strings.Contains(offer, "m=audio") || strings.Contains(offer, "m=video") {
		return nil, "", ErrOffer
	}
	pc, err := d.api.NewPeerConnection(webrtc.Configuration{})
	if err != nil {
		return nil, "", err
	}
	ctx, end := context.WithCancel(ctx)
	c := &Call{plan: plan, began: began, pc: pc, end: end, over: make(chan struct{})}
	context.AfterFunc(ctx, func() {
		_ = pc.Close()
		close(c.over)
	})
	if err := c.channels(ctx); err != nil {
		end()
		return nil, "", err
	}
	pc.OnConnectionStateChange(func(s webrtc.PeerConnectionState) {
		if s == webrtc.PeerConnectionStateFailed || s == webrtc.PeerConnectionStateClosed {
			end()
		}
	})
	text, err := c.describe(offer)
	if err != nil {
		end()
		return nil, "", err
	}
	return c, Only(text, at), nil
}

// Only leaves of the addresses in a description the one that is named; all where none is that, or it
// is loopback.
func Only(description string, at netip.Addr) string {
	at = at.Unmap()
	if !at.IsValid() || at.IsLoopback() {
		return description
	}
	lines := strings.SplitAfter(description, "\n")
	is := func(line string) (candidate, ours bool) {
		f := strings.Fields(line)
		if !strings.HasPrefix(line, "a=candidate:") || len(f) < 5 {
			return false, false
		}
		a, err := netip.ParseAddr(f[4])
		return true, err == nil && a.Unmap() == at
	}
	if !slices.ContainsFunc(lines, func(l string) bool { _, ours := is(l); return ours }) {
		return description
	}
	return strings.Join(slices.DeleteFunc(lines, func(l string) bool {
		candidate, ours := is(l)
		return candidate && !ours
	}), "")
}

// channels are two: the visitor sends by the one that it opens, and we by our own, so that each says
// how it sends. Were ours to send nothing anew, this library would give each packet up as soon as it
// left, and those that were overtaken on the way would be skipped: they would count as lost. As it is,
// what is found to be missing is sent once more, and arrives over a round trip late, by which those who
// count know it.
func (c *Call) channels(ctx context.Context) error {
	ordered, life := false, uint16(1)
	out, err := c.pc.CreateDataChannel("back", &webrtc.DataChannelInit{Ordered: &ordered, MaxPacketLifeTime: &life})
	if err != nil {
		return err
	}
	c.pc.OnDataChannel(func(in *webrtc.DataChannel) { c.serve(ctx, in, out) })
	return nil
}

func (c *Call) describe(offer string) (string, error) {
	if err := c.pc.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeOffer, SDP: offer}); err != nil {
		return "", fmt.Errorf("%w: %w", ErrOffer, err)
	}
	a, err := c.pc.CreateAnswer(nil)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrOffer, err)
	}
	gathered := webrtc.GatheringCompletePromise(c.pc)
	if err := c.pc.SetLocalDescription(a); err != nil {
		return "", err
	}
	select {
	case <-gathered:
	case <-time.After(gathering):
		return "", errors.New("this host's own addresses were not found in time")
	}
	return c.pc.LocalDescription().SDP, nil
}

// serve answers what comes by the visitor's channel.
func (c *Call) serve(ctx context.Context, in, out *webrtc.DataChannel) {
	in.OnMessage(func(m webrtc.DataChannelMessage) {
		at := c.now()
		if len(m.Data) < headBytes {
			return
		}
		n := int(binary.BigEndian.Uint32(m.Data[1:]))
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.messages++; c.messages > visitor.MostMessages {
			c.end()
			return
		}
		switch m.Data[0] {
		case packet:
			if n < c.plan.Packets && len(c.came) < 2*c.plan.Packets {
				c.came = append(c.came, visitor.Came{Number: n, At: at})
			}
		case echo:
			back := [headBytes]byte{answer}
			binary.BigEndian.PutUint32(back[1:], uint32(n))
			_ = out.Send(back[:])
		case start:
			if !c.started {
				c.started = true
				c.sending.Go(func() { c.stream(ctx, out) })
			}
		}
	})
}

// now is the time of the visit, in milliseconds.
func (c *Call) now() float64 { return float64(time.Since(c.began)) / 1e6 }

// stream sends the packets of all seats, each at its time.
func (c *Call) stream(ctx context.Context, ch *webrtc.DataChannel) {
	every := time.Duration(c.plan.EveryMs * 1e6)
	began := time.Now()
	for n := 0; n < c.plan.Packets; n++ {
		if n%c.plan.Seats == 0 {
			select {
			case <-ctx.Done():
				return
			case <-time.After(time.Until(began.Add(time.Duration(n/c.plan.Seats) * every))):
			}
		}
		b := make([]byte, max(headBytes, c.plan.Bytes))
		b[0] = packet
		binary.BigEndian.PutUint32(b[1:], uint32(n))
		at := c.now()
		if ch.BufferedAmount() > full || ch.Send(b) != nil {
			at = -1 // it did not leave
		}
		c.mu.Lock()
		c.sent = append(c.sent, at)
		c.mu.Unlock()
	}
}

// Seen is what came and what was sent so far.
func (c *Call) Seen() visitor.Seen {
	c.mu.Lock()
	defer c.mu.Unlock()
	return visitor.Seen{Came: append([]visitor.Came(nil), c.came...), Sent: append([]float64(nil), c.sent...)}
}

// Over is closed once nothing more is taken from the visitor or sent to it, whatever ended it. The
// visitor may learn of it later, or never: that it is told may be lost.
func (c *Call) Over() <-chan struct{} { return c.over }

// Close ends it.
func (c *Call) Close() {
	c.end()
	c.sending.Wait()
}
