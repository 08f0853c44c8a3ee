package stream_test

import (
	"context"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/voice"
	"woodlark.example/internal/busy"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/stream"
)

const slope = `
world: slope
nodes:
  - {name: near.example, addresses: [192.0.2.2, "2001:db8::2"]}
  - {name: far.example, addresses: [203.0.113.2, "2001:db8:1::2"], clock: 250ms}
links:
  - {between: [near.example, far.example], delay: 12ms, loss: 3%}
`

// across is how near.example reaches far.example, whose clock is off.
func across(t *testing.T, at string) nearend.Options {
	t.Helper()
	m, err := world.Read([]byte(slope), world.Options{})
	require.NoError(t, err)
	n := live.New(m)
	t.Cleanup(func() { _ = n.Close() })
	a, err := n.At("near.example")
	require.NoError(t, err)
	b, err := n.At("far.example")
	require.NoError(t, err)
	r, err := respond.New(respond.Options{Network: b, Listen: netip.MustParseAddrPort(at), Keys: respond.Shared("gull"), Limits: respond.Usual(),
		Wall: func(t time.Time) time.Time { return b.WallAt(t).Round(0) }, End: func() session.End { return session.End{Name: "far"} }})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { _ = r.Run(ctx) })
	t.Cleanup(func() { cancel(); owned.Wait() })
	return nearend.Options{Network: a, To: r.At(), Key: session.KeyFrom("gull"), End: session.End{Name: "near"}, Rest: 200 * time.Millisecond}
}

func TestAStreamAcrossAWorld(t *testing.T) {
	for _, at := range []string{"203.0.113.2:7474", "[2001:db8:1::2]:7474"} {
		t.Run(at, func(t *testing.T) {
			o := across(t, at)
			busy.Tries(t, func(c *busy.Try) {
				r, err := stream.Measure(t.Context(), o, stream.Request{Target: "far.example", For: 4 * time.Second, Interval: 5 * time.Millisecond}, nil)
				require.NoError(c, err)
				require.True(c, r.Complete, r.Problem)
				assert.False(c, r.Clock.InStep)
				assert.InDelta(c, 250, *r.Clock.OffsetMs, 2)
				assert.InDelta(c, 12, *r.Clock.ErrorMs, 2)
				require.Len(c, r.Directions, 2)
				for _, d := range r.Directions {
					assert.Equal(c, 800, d.Sent)
					assert.InDelta(c, 0.03, *d.LossRatio, 0.025, "four standard deviations")
					assert.InDelta(c, 12, *d.MedianMs, 2)
				}
				assert.Equal(c, "near → far", r.Directions[0].Direction)
			})
		})
	}
}

func TestShapesOfCodecs(t *testing.T) {
	for _, c := range voice.Codecs() {
		s, err := stream.Request{Codec: &c, For: 2 * time.Second, Calls: 2}.Shape()
		require.NoError(t, err, c.Name)
		assert.Equal(t, paced.RTP, s.Format)
		assert.Equal(t, c.Sizes[0]+12, s.Sizes[0])
		assert.Equal(t, 2, s.Calls)
	}
	g711, err := stream.Request{Codec: &voice.G711, For: time.Second}.Shape()
	require.NoError(t, err)
	assert.InDelta(t, 172*8*50, g711.Rate(), 1e-6, "50 packets of 160 bytes and 12 of header a second")
	video, err := stream.Request{Codec: &voice.Video720, For: 10 * time.Second}.Shape()
	require.NoError(t, err)
	assert.InEpsilon(t, 30*(3*1212+912)*8, video.Rate(), 0.01, "30 frames of four packets")
	rated, err := stream.Request{Rate: 1e6, Size: 125, For: time.Second}.Shape()
	require.NoError(t, err)
	assert.Equal(t, time.Millisecond, rated.Interval)
	for says, r := range map[string]stream.Request{
		"leave out interval": {Codec: &voice.Opus, Interval: time.Second, For: time.Second}, "say the same": {Rate: 5, Interval: time.Second, For: time.Second},
		"no direction": {Direction: "sideways", For: time.Second}, "at most 24h": {}, "bytes of payload": {Size: 10, For: time.Second},
	} {
		_, err := r.Order()
		assert.ErrorContains(t, err, says)
	}
	o, err := stream.Request{Direction: stream.Back, For: time.Second}.Order()
	require.NoError(t, err)
	assert.Nil(t, o.There)
	assert.NotNil(t, o.Back)
}
