package respond_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"io"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/host"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/wire"
)

func start(t testing.TB, change func(*respond.Options)) *respond.Responder {
	t.Helper()
	o := respond.Options{Network: kernel.Host(), Listen: netip.MustParseAddrPort("127.0.0.1:0"), Keys: respond.Shared("gull"), Limits: respond.Usual(), StampOpen: true,
		End: func() session.End { return session.End{Clock: host.Clock{Synchronised: true}} }}
	if change != nil {
		change(&o)
	}
	r, err := respond.New(o)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { _ = r.Run(ctx) })
	t.Cleanup(func() { cancel(); owned.Wait() })
	return r
}

func udp(t testing.TB, r *respond.Responder) *net.UDPConn {
	t.Helper()
	c, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(r.At()))
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

// ask sends a datagram and returns what comes back until it is silent.
func ask(t testing.TB, c *net.UDPConn, b []byte) (answers [][]byte) {
	t.Helper()
	_, err := c.Write(b)
	require.NoError(t, err)
	for {
		require.NoError(t, c.SetReadDeadline(time.Now().Add(150*time.Millisecond)))
		answer := make([]byte, 2000)
		n, err := c.Read(answer)
		if err != nil {
			return answers
		}
		answers = append(answers, answer[:n])
	}
}

func TestItReflectsStamp(t *testing.T) {
	now := time.Now().UTC()
	q := wire.StampRequest{Seq: 77, Sent: now, Error: wire.StampInStep, Session: 5}
	t.Run("stateful", func(t *testing.T) {
		c := udp(t, start(t, nil))
		for n := range uint32(3) {
			got := ask(t, c, q.Marshal(100))
			require.Len(t, got, 1)
			require.Len(t, got[0], 100, "as long as what came")
			r, err := wire.ParseStampReply(got[0])
			require.NoError(t, err)
			assert.Equal(t, n, r.Seq, "its own numbers")
			assert.Equal(t, q.Seq, r.Request.Seq)
			assert.Equal(t, q.Sent, r.Request.Sent)
			assert.Equal(t, uint16(5), r.Session)
			assert.Equal(t, uint8(64), r.SenderTTL)
			assert.Equal(t, wire.StampInStep, r.Error)
			assert.False(t, r.Sent.Before(r.Received))
			assert.WithinDuration(t, now, r.Received, time.Minute)
		}
	})
	t.Run("stateless", func(t *testing.T) {
		got := ask(t, udp(t, start(t, func(o *respond.Options) { o.Stateless = true })), q.Marshal(0))
		require.Len(t, got, 1)
		r, err := wire.ParseStampReply(got[0])
		require.NoError(t, err)
		assert.Equal(t, q.Seq, r.Seq)
	})
	t.Run("a TWAMP-Light sender's, of 41 bytes", func(t *testing.T) {
		got := ask(t, udp(t, start(t, nil)), q.Marshal(0)[:41])
		require.Len(t, got, 1)
		assert.Len(t, got[0], 41)
	})
	t.Run("authenticated", func(t *testing.T) {
		key := []byte("tern")
		c := udp(t, start(t, func(o *respond.Options) { o.StampKey, o.StampOpen = key, false }))
		got := ask(t, c, q.MarshalAuth(0, key))
		require.Len(t, got, 1)
		r, err := wire.ParseStampReplyAuth(got[0], key)
		require.NoError(t, err)
		assert.Equal(t, q.Seq, r.Request.Seq)
		assert.Empty(t, ask(t, c, q.MarshalAuth(0, []byte("another"))))
		assert.Empty(t, ask(t, c, q.Marshal(0)), "no packet without the key")
	})
	t.Run("none when it is not allowed", func(t *testing.T) {
		assert.Empty(t, ask(t, udp(t, start(t, func(o *respond.Options) { o.Limits.Reflect = 0 })), q.Marshal(0)))
	})
}

func TestItFillsInTLVs(t *testing.T) {
	r := start(t, nil)
	c := udp(t, r)
	q := wire.StampRequest{Seq: 1, Sent: time.Now(), Session: 9}
	request := wire.AppendTLVs(q.Marshal(0), wire.TimestampInfo{}.TLV(), wire.Class{Asked: 46}.TLV(), wire.DirectMeasurement{SenderSent: 4}.TLV(), wire.FollowUp{}.TLV(),
		wire.Location{Source: netip.MustParseAddrPort("0.0.0.0:0"), Destination: netip.MustParseAddrPort("0.0.0.0:0")}.TLV(), wire.TLV{Type: 200, Value: []byte{1, 2}})
	ask(t, c, request)
	got := ask(t, c, request)
	require.Len(t, got, 1)
	require.Len(t, got[0], len(request))
	list, err := wire.ParseTLVs(got[0][wire.StampSize:])
	require.NoError(t, err)
	require.Len(t, list, 6)
	info, err := wire.ParseTimestampInfo(list[0])
	require.NoError(t, err)
	assert.Equal(t, wire.TimestampInfo{SyncIn: wire.SyncNTP, MethodIn: wire.StampSoft, SyncOut: wire.SyncNTP, MethodOut: wire.StampSoft}, info)
	class, err := wire.ParseClass(list[1])
	require.NoError(t, err)
	assert.Equal(t, wire.Class{Asked: 46, Received: 0}, class, "the answer leaves with what was asked for")
	direct, err := wire.ParseDirect(list[2])
	require.NoError(t, err)
	assert.Equal(t, wire.DirectMeasurement{SenderSent: 4, ReflectorReceived: 2, ReflectorSent: 2}, direct)
	follow, err := wire.ParseFollowUp(list[3])
	require.NoError(t, err)
	assert.Equal(t, uint32(0), follow.Seq)
	assert.WithinDuration(t, time.Now(), follow.Sent, time.Minute, "when the answer before really left")
	at, err := wire.ParseLocation(list[4])
	require.NoError(t, err)
	assert.Equal(t, r.At(), at.Destination)
	assert.Equal(t, c.LocalAddr().String(), at.Source.String())
	assert.Equal(t, wire.TLVUnrecognised, list[5].Flags)
}

// TestItSealsTLVs: in authenticated mode TLVs are answered only when their HMAC fits, and
// the answer's have one of their own (RFC 8972 §4.8).
func TestItSealsTLVs(t *testing.T) {
	key := []byte("tern")
	c := udp(t, start(t, func(o *respond.Options) { o.StampKey = key }))
	q := wire.StampRequest{Seq: 3, Sent: time.Now(), Session: 9}
	tlvs := wire.AppendTLVs(nil, wire.DirectMeasurement{SenderSent: 4}.TLV(), wire.TimestampInfo{}.TLV())
	for i, by := range [][]byte{key, []byte("gull")} {
		got := ask(t, c, wire.AppendTLVs(append(q.MarshalAuth(0, key), tlvs...), wire.SealTLVs(3, tlvs, by), wire.TLV{Type: wire.TLVPadding, Value: make([]byte, 8)}))
		require.Len(t, got, 1)
		r, err := wire.ParseStampReplyAuth(got[0], key)
		require.NoError(t, err)
		behind := got[0][wire.StampAuthSize:]
		assert.True(t, wire.TLVsSealed(r.Seq, behind, key))
		list, err := wire.ParseTLVs(behind)
		require.NoError(t, err)
		require.Len(t, list, 4)
		direct, err := wire.ParseDirect(list[0])
		require.NoError(t, err)
		if i == 0 {
			assert.Equal(t, byte(0), list[0].Flags|list[1].Flags|list[2].Flags|list[3].Flags)
			assert.Equal(t, wire.DirectMeasurement{SenderSent: 4, ReflectorReceived: 1, ReflectorSent: 1}, direct)
		} else {
			assert.Equal(t, wire.TLVUnverified, list[0].Flags&list[1].Flags&list[2].Flags)
			assert.Zero(t, direct.ReflectorReceived, "nothing is answered to who cannot seal")
		}
	}
}

// TestNobodyGetsMoreThanTheySent counts bytes: whatever an attacker who may spoof its
// source sends, no more goes back to that source than came from it.
func TestNobodyGetsMoreThanTheySent(t *testing.T) {
	r := start(t, func(o *respond.Options) { o.Limits.Reflect = 50 })
	noise := func(n int) []byte {
		b := make([]byte, n)
		_, _ = rand.Read(b)
		return b
	}
	forged := session.Datagram{Step: session.Begin, Session: 1}.Marshal([]byte("not the secret"))
	kinds := map[string][]byte{
		"noise": noise(600), "empty": {}, "one byte": {1}, "STAMP": wire.StampRequest{Seq: 1, Sent: time.Now()}.Marshal(0), "large STAMP": wire.StampRequest{Seq: 1, Sent: time.Now()}.Marshal(1400),
		"STAMP with TLVs cut off": append(wire.StampRequest{}.Marshal(0), 0, 3, 0, 200, 1), "a session's beginning, forged": forged,
		"RTP": wire.RTP{Type: 0}.Append(nil), "RTCP": wire.SenderReport{Sent: time.Now()}.Marshal("x"),
	}
	for name, b := range kinds {
		t.Run(name, func(t *testing.T) {
			c := udp(t, r)
			sent, came := 0, 0
			for range 4 {
				for _, answer := range ask(t, c, b) {
					came += len(answer)
				}
				sent += len(b)
			}
			assert.LessOrEqual(t, came, sent)
		})
	}
	// One source at a rate: it is answered up to its limit, and no further.
	c := udp(t, r)
	b := wire.StampRequest{Seq: 1, Sent: time.Now()}.Marshal(0)
	for range 1000 {
		_, _ = c.Write(b)
	}
	answers := len(ask(t, c, b))
	assert.Less(t, answers, 300)
}

// TestTCPBeforeTheKey: who does not prove to have the key gets a challenge of a fixed
// size, and one refusal of a fixed size.
func TestTCPBeforeTheKey(t *testing.T) {
	r := start(t, nil)
	for name, b := range map[string][]byte{"nothing": nil, "noise": bytes.Repeat([]byte{7}, 3000), "HTTP": []byte("GET / HTTP/1.1\r\nHost: x\r\n\r\n"),
		"the right beginning": append(append([]byte("WDLK\x01"), make([]byte, 32)...), 0, 2, '{', '}', 0, 0)} {
		t.Run(name, func(t *testing.T) {
			c, err := net.Dial("tcp", r.At().String())
			require.NoError(t, err)
			defer c.Close()
			_, _ = c.Write(b)
			if half, ok := c.(*net.TCPConn); ok {
				_ = half.CloseWrite()
			}
			require.NoError(t, c.SetReadDeadline(time.Now().Add(10*time.Second)))
			got, _ := io.ReadAll(c)
			assert.LessOrEqual(t, len(got), 37+33)
		})
	}
	assert.Zero(t, r.Sessions())
}

// TestNobodyKeepsTheOthersOut: who holds connections open without showing a key gets a
// part of the places only.
func TestNobodyKeepsTheOthersOut(t *testing.T) {
	r := start(t, func(o *respond.Options) { o.Limits.Unproved = 8 })
	for range 20 {
		c, err := net.Dial("tcp", r.At().String())
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
	}
	other := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 2)}}
	for range 5 { // each gives its place back
		c, err := other.Dial("tcp", r.At().String())
		require.NoError(t, err)
		channel, err := session.Ask(c, session.KeyFrom("gull"), session.Hello{Role: session.Control})
		require.NoError(t, err)
		require.NoError(t, channel.Close())
	}
}

// TestDatagramsNeedProof: the far end sends no stream to an address that has shown only
// the session's key and not the cookie that was sent there.
func TestDatagramsNeedProof(t *testing.T) {
	r := start(t, nil)
	c, err := net.Dial("tcp", r.At().String())
	require.NoError(t, err)
	channel, err := session.Ask(c, session.KeyFrom("gull"), session.Hello{Role: session.Control})
	require.NoError(t, err)
	defer channel.Close()
	shape := &paced.Shape{Format: paced.Stamp, Calls: 1, Interval: time.Millisecond, Sizes: []int{1000}, For: time.Second, First: 1}
	require.NoError(t, channel.Send(session.Open, session.Order{Back: shape}, nil))
	m, err := channel.Receive(5 * time.Second)
	require.NoError(t, err)
	var accepted session.Accepted
	require.NoError(t, m.Read(&accepted))
	begin := session.Datagram{Step: session.Begin, Session: accepted.Session}.Marshal(channel.Secret())
	u := udp(t, r)
	got := ask(t, u, begin)
	require.Len(t, got, 1)
	assert.Len(t, got[0], len(begin))
	// It begins all the same, without the proof.
	require.NoError(t, channel.Send(session.Go, struct{}{}, nil))
	m, err = channel.Receive(5 * time.Second)
	require.NoError(t, err)
	assert.Equal(t, session.Refused, m.Kind)
	var refusal session.Refusal
	require.NoError(t, m.Read(&refusal))
	assert.Contains(t, refusal.Reason, "did not prove its address")
	wrong := session.Datagram{Step: session.Proof, Session: accepted.Session, Cookie: [16]byte{1}}.Marshal(channel.Secret())
	assert.Empty(t, ask(t, u, wrong))
}

// TestTheLastWordsComeOver: a near end that is slow to take what the far end noted, as over
// a way that loses packets, and says something meanwhile, gets all of it; the far end's
// place is free before that.
func TestTheLastWordsComeOver(t *testing.T) {
	r := start(t, nil)
	narrow := net.Dialer{Control: func(_, _ string, c syscall.RawConn) error {
		return c.Control(func(fd uintptr) {
			assert.NoError(t, syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_RCVBUF, 4096))
		})
	}}
	c, err := narrow.Dial("tcp", r.At().String())
	require.NoError(t, err)
	channel, err := session.Ask(c, session.KeyFrom("gull"), session.Hello{Role: session.Control})
	require.NoError(t, err)
	defer channel.Close()
	shape := &paced.Shape{Format: paced.Stamp, Calls: 1, Interval: 100 * time.Microsecond, Sizes: []int{60}, For: 2 * time.Second, First: 1}
	require.NoError(t, channel.Send(session.Open, session.Order{Back: shape}, nil))
	m, err := channel.Receive(5 * time.Second)
	require.NoError(t, err)
	var accepted session.Accepted
	require.NoError(t, m.Read(&accepted))
	u := udp(t, r)
	require.Len(t, ask(t, u, session.Datagram{Step: session.Begin, Session: accepted.Session}.Marshal(channel.Secret())), 1)
	here := netip.MustParseAddrPort(u.LocalAddr().String())
	proof := session.Datagram{Step: session.Proof, Session: accepted.Session, Cookie: session.CookieFor(channel.Secret(), here)}
	require.Len(t, ask(t, u, proof.Marshal(channel.Secret())), 1)
	require.NoError(t, channel.Send(session.Go, struct{}{}, nil))
	for range 2 { // seconds
		m, err = channel.Receive(5 * time.Second)
		require.NoError(t, err)
		require.Equal(t, session.Tick, m.Kind)
	}
	require.NoError(t, channel.Send(session.Finish, session.Finished{}, nil))
	require.Eventually(t, func() bool { return r.Sessions() == 0 }, time.Minute, 5*time.Millisecond)
	require.NoError(t, channel.Send(session.Tick, struct{}{}, nil))
	var blob int
	for m.Kind != session.Done {
		m, err = channel.Receive(5 * time.Second)
		require.NoError(t, err, "after %d bytes", blob)
		blob += len(m.Blob)
	}
	var x session.Result
	require.NoError(t, m.Read(&x))
	assert.Greater(t, x.Sent, int64(5000))
	assert.Greater(t, blob, 8192, "all would have found room at once")
}

func FuzzReflector(f *testing.F) {
	r := start(f, nil)
	c := udp(f, r)
	f.Add(wire.AppendTLVs(wire.StampRequest{}.Marshal(0), wire.DirectMeasurement{}.TLV(), wire.FollowUp{}.TLV()))
	f.Add(session.Datagram{Step: session.Begin}.Marshal(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 1400 {
			return
		}
		_, _ = c.Write(b)
	})
}

// TestSilentConnectionsDoNotKeepTheOwnerOut: 96 of six sources say nothing.
func TestSilentConnectionsDoNotKeepTheOwnerOut(t *testing.T) {
	r := start(t, nil)
	for i := range 96 {
		from := net.TCPAddr{IP: net.IPv4(127, 0, 0, byte(2+i%6))}
		c, err := (&net.Dialer{LocalAddr: &from}).Dial("tcp", r.At().String())
		require.NoError(t, err)
		defer c.Close()
	}
	for range 8 {
		c, err := net.Dial("tcp", r.At().String())
		require.NoError(t, err)
		_, err = session.Ask(c, session.KeyFrom("gull"), session.Hello{Role: session.Control, Name: "owner"})
		require.NoError(t, err)
		defer c.Close()
	}
	assert.NoError(t, func() error {
		c, err := net.Dial("tcp", r.At().String())
		require.NoError(t, err)
		defer c.Close()
		_, err = session.Ask(c, session.KeyFrom("gull"), session.Hello{Role: session.Control})
		return err
	}())
}

// TestWhoIsPutOutIsToldThatItIsBusy, in words.
func TestWhoIsPutOutIsToldThatItIsBusy(t *testing.T) {
	r := start(t, func(o *respond.Options) { o.Limits.Unproved = 1 })
	slow, err := net.Dial("tcp", r.At().String())
	require.NoError(t, err)
	defer slow.Close()
	head := make([]byte, 1)
	_, err = io.ReadFull(slow, head) // it is in
	require.NoError(t, err)
	other, err := net.Dial("tcp", r.At().String())
	require.NoError(t, err)
	defer other.Close()
	_, err = io.ReadFull(other, make([]byte, 1)) // it is in, and the first one out
	require.NoError(t, err)
	_, err = session.Ask(&begun{slow, head}, session.KeyFrom("gull"), session.Hello{Role: session.Control})
	require.ErrorContains(t, err, "busy")
}

// begun is a connection of which something was read already.
type begun struct {
	net.Conn
	head []byte
}

func (b *begun) Read(p []byte) (int, error) {
	if len(b.head) > 0 {
		n := copy(p, b.head)
		b.head = b.head[n:]
		return n, nil
	}
	return b.Conn.Read(p)
}

// TestTwoReflectorsDoNotAnswerEachOther: nothing that could be an answer is answered.
func TestTwoReflectorsDoNotAnswerEachOther(t *testing.T) {
	key := []byte("tern")
	now := time.Now().UTC()
	request := wire.StampRequest{Seq: 1, Sent: now, Session: 5}
	reply := wire.StampReply{Seq: 3, Sent: now, Received: now.Add(-40 * time.Microsecond), Request: request, SenderTTL: 64, Session: 5}
	for name, clock := range map[string]time.Duration{"": 0, ", by a clock of another month": 40 * 24 * time.Hour} {
		shifted := reply
		shifted.Sent, shifted.Received = shifted.Sent.Add(clock), shifted.Received.Add(clock)
		t.Run("an answer"+name, func(t *testing.T) { assert.Empty(t, ask(t, udp(t, start(t, nil)), shifted.Marshal(100))) })
		t.Run("an authenticated one"+name, func(t *testing.T) {
			c := udp(t, start(t, func(o *respond.Options) { o.StampKey, o.StampOpen = key, false }))
			assert.Empty(t, ask(t, c, shifted.MarshalAuth(0, key)))
		})
	}
	t.Run("from the port of reflectors", func(t *testing.T) {
		r := start(t, nil)
		c, err := net.DialUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 9), Port: wire.StampPort}, net.UDPAddrFromAddrPort(r.At()))
		require.NoError(t, err)
		defer c.Close()
		assert.Empty(t, ask(t, c, request.Marshal(0)))
	})
	t.Run("from our own port", func(t *testing.T) {
		r := start(t, nil)
		c, err := net.DialUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 9), Port: int(r.At().Port())}, net.UDPAddrFromAddrPort(r.At()))
		require.NoError(t, err)
		defer c.Close()
		assert.Empty(t, ask(t, c, request.Marshal(0)))
	})
	t.Run("a request with padding at random", func(t *testing.T) {
		b := request.Marshal(100)
		_, _ = rand.Read(b[16:])
		assert.Len(t, ask(t, udp(t, start(t, nil)), b), 1)
	})
}
