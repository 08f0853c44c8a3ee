package nearend_test

import (
	"context"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/oneway"
	"woodlark.example/internal/busy"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
)

// farEnd is a responder on loopback.
func farEnd(t *testing.T, change func(*respond.Options)) *respond.Responder {
	t.Helper()
	o := respond.Options{Network: kernel.Host(), Listen: netip.MustParseAddrPort("127.0.0.1:0"), Keys: respond.Shared("gull"), Limits: respond.Usual(), StampOpen: true}
	if change != nil {
		change(&o)
	}
	r, err := respond.New(o)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { assert.NoError(t, r.Run(ctx)) })
	t.Cleanup(func() { cancel(); owned.Wait() })
	return r
}

func options(at netip.AddrPort) nearend.Options {
	return nearend.Options{Network: kernel.Host(), To: at, Key: session.KeyFrom("gull"), Rest: 200 * time.Millisecond}
}

func voice(calls int, d time.Duration) *paced.Shape {
	return &paced.Shape{Format: paced.RTP, Calls: calls, Interval: 20 * time.Millisecond, Sizes: []int{172}, For: d, First: 0x77000000, Type: 0, Clock: 8000}
}

func TestAStreamBothWays(t *testing.T) {
	for _, format := range []paced.Format{paced.RTP, paced.Stamp} {
		t.Run(string(format), func(t *testing.T) {
			far := farEnd(t, nil)
			there := voice(3, 2*time.Second)
			there.Format, there.DSCP = format, 46
			if format == paced.Stamp {
				there.First = 1
			}
			back := *there
			back.DSCP = 0
			busy.Tries(t, func(c *busy.Try) {
				r, err := nearend.Open(t.Context(), options(far.At()), session.Order{There: there, Back: &back})
				require.NoError(c, err)
				heard := 0
				o, err := r.Run(t.Context(), func(nearend.Progress) { heard++ })
				require.NoError(c, err)
				assert.True(c, o.Complete, o.Problem)
				assert.Positive(c, heard)
				for call := range 3 {
					a, b := o.StreamsOf(call)
					for i, x := range []oneway.Stream{a, b} {
						require.Len(c, x.Sent, 100)
						d := oneway.Of(x, oneway.Stepped(0), i == 0)
						assert.Equal(c, 100, d.Loss.Sent)
						assert.LessOrEqual(c, d.Loss.Lost, 1, "a machine that is busy may lose one")
						assert.Equal(c, []map[int]int{{46: 100 - d.Loss.Lost}, {0: 100 - d.Loss.Lost}}[i], d.DSCPs)
						m := d.Delay.Median.Or(-1)
						assert.Positive(c, m)
						assert.Less(c, m, 50*time.Millisecond)
					}
				}
				assert.NotEmpty(c, o.Rest)
				assert.NotEmpty(c, o.Load)
				if format == paced.RTP {
					assert.Positive(c, o.Reports, "RTCP came")
				}
			})
			assert.Eventually(t, func() bool { return far.Sessions() == 0 }, time.Minute, 10*time.Millisecond)
		})
	}
}

func TestBytesBothWays(t *testing.T) {
	far := farEnd(t, nil)
	busy.Tries(t, func(c *busy.Try) {
		r, err := nearend.Open(t.Context(), options(far.At()), session.Order{TCP: &session.TCPOrder{There: 2, Back: 1, For: 2 * time.Second}})
		require.NoError(c, err)
		o, err := r.Run(t.Context(), nil)
		require.NoError(c, err)
		require.True(c, o.Complete, o.Problem)
		for _, x := range []nearend.Transfer{o.TCPThere, o.TCPBack} {
			require.NotNil(c, x.Sent)
			require.NotNil(c, x.Received)
			assert.Positive(c, x.Received.Bytes)
			assert.LessOrEqual(c, x.Received.Bytes, x.Sent.Bytes)
			assert.InDelta(c, 2, x.Received.Seconds, 1)
			assert.GreaterOrEqual(c, len(x.Received.Intervals), 2)
			assert.True(c, x.Sent.Told)
			assert.NotEmpty(c, x.Sent.Congestion)
		}
		assert.NotEmpty(c, o.Load)
	})
}

func TestWhatCannotBe(t *testing.T) {
	far := farEnd(t, func(o *respond.Options) { o.Limits.Time = time.Minute; o.Limits.Rate = 1e6 })
	for _, c := range []struct {
		name   string
		order  session.Order
		key    string
		at     netip.AddrPort
		reason string
	}{
		{"another key", session.Order{There: voice(1, time.Second)}, "tern", far.At(), "does not accept this key"},
		{"nobody there", session.Order{There: voice(1, time.Second)}, "gull", netip.MustParseAddrPort("127.0.0.1:1"), "is 'woodlark respond' running there"},
		{"too long", session.Order{There: voice(1, 2*time.Minute)}, "gull", far.At(), "it takes 2m0s, and this far end allows 1m0s"},
		{"too fast", session.Order{There: voice(50, time.Second)}, "gull", far.At(), "this far end allows 1.00 Mbit/s"},
		{"no streams", session.Order{TCP: &session.TCPOrder{For: time.Second}}, "gull", far.At(), "1 to 128 each way"},
	} {
		t.Run(c.name, func(t *testing.T) {
			o := options(c.at)
			o.Key = session.KeyFrom(c.key)
			_, err := nearend.Open(t.Context(), o, c.order)
			assert.ErrorContains(t, err, c.reason)
		})
	}
	assert.Zero(t, far.Sessions())
}

// TestTheFarEndGoes: the run ends in bounded time, with what was measured.
func TestTheFarEndGoes(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	r, err := respond.New(respond.Options{Network: kernel.Host(), Listen: netip.MustParseAddrPort("127.0.0.1:0"), Keys: respond.Shared("gull"), Limits: respond.Usual()})
	require.NoError(t, err)
	var owned sync.WaitGroup
	owned.Go(func() { _ = r.Run(ctx) })
	run, err := nearend.Open(t.Context(), options(r.At()), session.Order{There: voice(1, time.Minute), Back: voice(1, time.Minute)})
	require.NoError(t, err)
	began := time.Now()
	o, err := run.Run(t.Context(), func(nearend.Progress) { cancel() })
	require.NoError(t, err)
	owned.Wait()
	assert.Less(t, time.Since(began), time.Minute)
	assert.False(t, o.Complete)
	assert.Contains(t, o.Problem, "the far end is gone")
	assert.NotEmpty(t, o.CameBack.Arrivals[0], "what was measured is kept")
	assert.Positive(t, o.LeftThere)
}

// TestTheNearEndGoes: the far end is free again.
func TestTheNearEndGoes(t *testing.T) {
	far := farEnd(t, func(o *respond.Options) { o.Limits.Sessions = 1 })
	run, err := nearend.Open(t.Context(), options(far.At()), session.Order{There: voice(1, time.Minute), Back: voice(1, time.Minute)})
	require.NoError(t, err)
	_, err = nearend.Open(t.Context(), options(far.At()), session.Order{There: voice(1, time.Second)})
	require.ErrorContains(t, err, "as many sessions as it takes")
	ctx, cancel := context.WithCancel(t.Context())
	o, err := run.Run(ctx, func(nearend.Progress) { cancel() })
	require.NoError(t, err)
	assert.Contains(t, o.Problem, "stopped before its end")
	assert.Eventually(t, func() bool { return far.Sessions() == 0 }, time.Minute, 10*time.Millisecond)
}

var _ network.Streams = kernel.Host().(network.Streams)
