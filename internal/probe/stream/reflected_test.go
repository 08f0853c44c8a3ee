package stream_test

import (
	"context"
	"encoding/binary"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"woodlark.example/core/finding"
	"woodlark.example/internal/busy"
	"woodlark.example/internal/host"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/stream"
)

// peer is a reflector as RFC 5357 and RFC 8762 describe it, written by their byte
// positions and with nothing of ours: the n-th packet gets what answer makes of it.
func peer(t *testing.T, address string, answer func(n int, b []byte, now time.Time) []byte) netip.AddrPort {
	t.Helper()
	c, err := net.ListenPacket("udp", address)
	require.NoError(t, err)
	var owned sync.WaitGroup
	owned.Go(func() {
		b := make([]byte, 2000)
		for n := 0; ; n++ {
			size, from, err := c.ReadFrom(b)
			if err != nil {
				return
			}
			if out := answer(n, b[:size], time.Now()); out != nil {
				_, _ = c.WriteTo(out, from)
			}
		}
	})
	t.Cleanup(func() { _ = c.Close(); owned.Wait() })
	return netip.MustParseAddrPort(c.LocalAddr().String())
}

// twampLight answers in 41 bytes: its number, its times, and the sender's 14 bytes and TTL.
func twampLight(number uint32, b []byte, now time.Time) []byte {
	out := make([]byte, 41)
	stamp := func(at int) {
		binary.BigEndian.PutUint32(out[at:], uint32(now.Unix()+2208988800))
		binary.BigEndian.PutUint32(out[at+4:], uint32(float64(now.Nanosecond())/1e9*(1<<32)))
	}
	binary.BigEndian.PutUint32(out, number)
	stamp(4)
	binary.BigEndian.PutUint16(out[12:], 0x0101)
	stamp(16)
	copy(out[24:38], b[:14])
	out[40] = 255
	return out
}

func measureBy(t *testing.T, at netip.AddrPort, change func(*stream.Reflected)) (finding.StreamReport, error) {
	t.Helper()
	r := stream.Reflected{Target: "far", For: time.Second, Interval: 5 * time.Millisecond}
	if change != nil {
		change(&r)
	}
	return stream.Reflect(t.Context(), nearend.Options{Network: kernel.Host(), To: at, End: session.End{Name: "near"}}, r, nil)
}

// TestForeignReflectors: peers that count and those that do not, with packets that they
// drop before or behind their count.
func TestForeignReflectors(t *testing.T) {
	for _, x := range []struct {
		name     string
		answer   func() func(n int, b []byte, now time.Time) []byte
		answered int
		lost     [2]int // -1: not known
		counts   bool
	}{
		{"counts, loses before it", func() func(int, []byte, time.Time) []byte {
			count := uint32(0)
			return func(n int, b []byte, now time.Time) []byte {
				if n%10 == 3 {
					return nil
				}
				count++
				return twampLight(count-1, b, now)
			}
		}, 180, [2]int{20, 0}, true},
		{"counts, loses behind it too", func() func(int, []byte, time.Time) []byte {
			count := uint32(0)
			return func(n int, b []byte, now time.Time) []byte {
				if n%20 == 3 {
					return nil
				}
				count++
				if n%20 == 13 {
					return nil
				}
				return twampLight(count-1, b, now)
			}
		}, 180, [2]int{10, 10}, true},
		{"does not count, loses", func() func(int, []byte, time.Time) []byte {
			return func(n int, b []byte, now time.Time) []byte {
				if n%10 == 3 {
					return nil
				}
				return twampLight(binary.BigEndian.Uint32(b), b, now)
			}
		}, 180, [2]int{-1, -1}, false},
		{"does not count, loses nothing", func() func(int, []byte, time.Time) []byte {
			return func(_ int, b []byte, now time.Time) []byte { return twampLight(binary.BigEndian.Uint32(b), b, now) }
		}, 200, [2]int{0, 0}, false},
		{"answers what nobody asked, too", func() func(int, []byte, time.Time) []byte {
			return func(n int, b []byte, now time.Time) []byte {
				out := twampLight(binary.BigEndian.Uint32(b), b, now)
				if n%2 == 1 {
					out[24] = 0xff // of another sender
				}
				return out
			}
		}, 100, [2]int{-1, -1}, false},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			busy.Tries(t, func(c *busy.Try) {
				r, err := measureBy(t, peer(t, "127.0.0.1:0", x.answer()), nil)
				require.NoError(c, err)
				require.True(c, r.Complete, r.Problem)
				assert.Equal(c, [2]int{200, x.answered}, [2]int{r.Reflector.Sent, r.Reflector.Answered})
				assert.Equal(c, x.counts, r.Reflector.Stateful != nil)
				require.Len(c, r.Directions, 2)
				for i, d := range r.Directions {
					if x.lost[i] < 0 {
						assert.Nil(c, d.Lost)
						assert.Nil(c, d.LossRatio)
						assert.Contains(c, r.Note, "which way they were lost is not known")
						continue
					}
					assert.Equal(c, x.lost[i], *d.Lost, d.Direction)
					assert.Empty(c, r.Note)
				}
				assert.Empty(c, r.Reflector.Extensions)
				assert.Less(c, *r.Directions[0].MedianMs, 20.0)
				assert.Empty(c, r.Directions[0].DSCPs, "a peer without TLVs does not tell")
			})
		})
	}
}

func TestOurOwnReflector(t *testing.T) {
	all := []string{"class of service", "direct measurement", "follow-up telemetry", "location", "timestamp information"}
	for _, x := range []struct {
		name   string
		listen string
		ours   func(*respond.Options)
		change func(*stream.Reflected)
		known  []string
	}{
		{"IPv4", "127.0.0.1:0", nil, nil, all},
		{"IPv6", "[::1]:0", nil, nil, all},
		{"authenticated", "127.0.0.1:0", func(o *respond.Options) { o.StampKey, o.StampOpen = []byte("tern"), false }, func(r *stream.Reflected) { r.Key = []byte("tern") }, all},
		{"plain", "127.0.0.1:0", nil, func(r *stream.Reflected) { r.Plain = true }, []string{}},
		{"no room for TLVs", "127.0.0.1:0", nil, func(r *stream.Reflected) { r.Size = 50 }, []string{}},
		{"room for one", "127.0.0.1:0", nil, func(r *stream.Reflected) { r.Size = 60 }, []string{"direct measurement"}},
		{"stateless", "127.0.0.1:0", func(o *respond.Options) { o.Stateless = true }, nil, []string{"class of service", "location", "timestamp information"}},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			o := respond.Options{Network: kernel.Host(), Listen: netip.MustParseAddrPort(x.listen), Keys: respond.Shared("gull"), Limits: respond.Usual(), StampOpen: true,
				End: func() session.End { return session.End{Clock: host.Clock{Synchronised: true}} }}
			o.Limits.Reflect, o.Limits.ReflectAll = 10_000, 10_000
			if x.ours != nil {
				x.ours(&o)
			}
			far, err := respond.New(o)
			require.NoError(t, err)
			ctx, cancel := context.WithCancel(context.Background())
			var owned sync.WaitGroup
			owned.Go(func() { _ = far.Run(ctx) })
			t.Cleanup(func() { cancel(); owned.Wait() })
			busy.Tries(t, func(c *busy.Try) {
				r, err := measureBy(t, far.At(), func(r *stream.Reflected) {
					r.DSCP = 46
					if x.change != nil {
						x.change(r)
					}
				})
				require.NoError(c, err)
				assert.Equal(c, 200, r.Reflector.Answered)
				assert.Equal(c, x.known, r.Reflector.Extensions)
				for _, d := range r.Directions {
					assert.Equal(c, [2]int{200, 0}, [2]int{d.Sent, *d.Lost})
				}
				there, back := r.Directions[0], r.Directions[1]
				if len(x.known) > 1 {
					assert.Equal(c, []finding.DSCPCount{{DSCP: 46, Packets: 200}}, there.DSCPs, "as the reflector says")
					assert.Equal(c, []finding.DSCPCount{{DSCP: 46, Packets: 200}}, back.DSCPs, "as it was asked for")
					assert.Equal(c, [2]string{"NTP", "software"}, [2]string{r.Reflector.Clock, r.Reflector.Stamps})
					assert.Contains(c, r.Reflector.SeenAs, far.At().Addr().String())
				}
				assert.NotContains(c, codesOf(r), finding.DSCPRemarked)
			})
		})
	}
}

func codesOf(r finding.StreamReport) (list []finding.Code) {
	for _, f := range r.Findings {
		list = append(list, f.Code)
	}
	return list
}

// TestWhatAPeerDoesNotSay: nothing is concluded from the DSCP of answers whose own is not
// known, nor taken for one clock what counts by another.
func TestWhatAPeerDoesNotSay(t *testing.T) {
	t.Parallel()
	c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	raw, err := c.SyscallConn()
	require.NoError(t, err)
	require.NoError(t, raw.Control(func(fd uintptr) { err = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_TOS, 46<<2) }))
	require.NoError(t, err)
	var owned sync.WaitGroup
	owned.Go(func() {
		b := make([]byte, 2000)
		for {
			n, from, err := c.ReadFrom(b)
			if err != nil {
				return
			}
			out := twampLight(binary.BigEndian.Uint32(b), b[:n], time.Now())
			binary.BigEndian.PutUint16(out[12:], 0xc101) // in step, times of PTP
			for _, at := range []int{4, 16} {            // as TAI has them
				binary.BigEndian.PutUint32(out[at:], uint32(time.Now().Unix()+37))
				binary.BigEndian.PutUint32(out[at+4:], uint32(time.Now().Nanosecond()))
			}
			_, _ = c.WriteTo(out, from)
		}
	})
	t.Cleanup(func() { _ = c.Close(); owned.Wait() })
	busy.Tries(t, func(k *busy.Try) {
		r, err := measureBy(t, netip.MustParseAddrPort(c.LocalAddr().String()), func(r *stream.Reflected) { r.Plain = true })
		require.NoError(k, err)
		require.Len(k, r.Directions, 2)
		assert.Equal(k, 46, r.Directions[1].DSCPs[0].DSCP)
		assert.Nil(k, r.Directions[1].DSCPSent)
		assert.NotContains(k, codesOf(r), finding.DSCPRemarked)
		assert.False(k, r.Clock.InStep)
		require.NotNil(k, r.Clock.OffsetMs)
		assert.InDelta(k, 37_000, *r.Clock.OffsetMs, 20)
		assert.Less(k, *r.Directions[0].MedianMs, 50.0)
	})
}

func TestNoReflector(t *testing.T) {
	t.Parallel()
	short := func(r *stream.Reflected) { r.For = 100 * time.Millisecond }
	silent := peer(t, "127.0.0.1:0", func(int, []byte, time.Time) []byte { return nil })
	_, err := measureBy(t, silent, short)
	require.ErrorContains(t, err, "is UDP let through")
	_, err = measureBy(t, silent, func(r *stream.Reflected) { short(r); r.Key = []byte("tern") })
	require.ErrorContains(t, err, "does it have this key")
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	shut := netip.MustParseAddrPort(c.LocalAddr().String())
	require.NoError(t, c.Close())
	_, err = measureBy(t, shut, short)
	require.ErrorContains(t, err, "does a STAMP reflector listen there")
	_, err = measureBy(t, silent, func(r *stream.Reflected) { r.Size = 40 })
	require.ErrorContains(t, err, "44 at least")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = stream.Reflect(ctx, nearend.Options{Network: kernel.Host(), To: silent}, stream.Reflected{For: time.Second}, nil)
	require.Error(t, err)
}
