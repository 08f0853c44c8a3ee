package history_test

import (
	"context"
	"errors"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/probe/history"
)

const text = `
world: lane
seed: 11
nodes:
  - {name: a, addresses: [192.0.2.1]}
  - {name: b, addresses: [192.0.2.2]}
  - {name: c, addresses: [192.0.2.3], icmp: prohibit}
links:
  - {between: [a, b], delay: 5ms, variation: gamma 1ms, loss: 1%}
  - {between: [a, c], delay: 5ms}
changes:
  - {node: b, from: "2026-11-23T12:02:00Z", until: "2026-11-23T12:03:30Z", set: {up: false}}
  - {link: [a, b], from: "2026-11-23T12:05:00Z", set: {delay: 1500ms}}
`

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func minutes(t *testing.T, to string, n int) (list []reading.Reading) {
	m, err := world.Read([]byte(text), world.Options{Reference: noon})
	require.NoError(t, err)
	path := history.Path{From: 0, To: netip.MustParseAddr(to), Interval: time.Second, Wait: 2 * time.Second, Phase: 300 * time.Millisecond}
	require.NoError(t, history.Minutes(t.Context(), m, path, noon, noon.Add(time.Duration(n)*time.Minute), func(r reading.Reading, probes []reading.Probe) error {
		assert.Len(t, probes, 60)
		assert.Equal(t, r.At.Add(300*time.Millisecond), probes[0].DueAt, "the phase is kept over the minutes")
		list = append(list, r)
		return nil
	}))
	return list
}

func TestMinutes(t *testing.T) {
	list := minutes(t, "192.0.2.2", 6)
	require.Len(t, list, 6)
	for i, r := range list {
		assert.Equal(t, noon.Add(time.Duration(i)*time.Minute), r.At)
		assert.Equal(t, 60, r.Sent)
		assert.Equal(t, 60, r.Expected)
		if r.Answered > 0 {
			assert.Equal(t, reading.StampWorld, r.Stamp)
		}
	}
	assert.Equal(t, 60, list[2].Lost, "down all the minute")
	assert.GreaterOrEqual(t, list[3].Lost, 30, "down for half of it")
	assert.Greater(t, list[3].Answered, 20)
	assert.Positive(t, list[5].Late, "3 s is past the wait")
	assert.Equal(t, list[5].Lost+list[5].Answered, 60)
	assert.Equal(t, list, minutes(t, "192.0.2.2", 6), "the same again")
	assert.Equal(t, 60, minutes(t, "192.0.2.3", 1)[0].Refused)
}

func TestItStopsWhenAsked(t *testing.T) {
	m, err := world.Read([]byte(text), world.Options{Reference: noon})
	require.NoError(t, err)
	path := history.Path{To: netip.MustParseAddr("192.0.2.2"), Interval: time.Second, Wait: time.Second}
	enough := errors.New("enough")
	require.ErrorIs(t, history.Minutes(t.Context(), m, path, noon, noon.Add(time.Hour), func(reading.Reading, []reading.Probe) error { return enough }), enough)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, history.Minutes(ctx, m, path, noon, noon.Add(time.Hour), func(reading.Reading, []reading.Probe) error { return nil }), context.Canceled)
	path.To = netip.MustParseAddr("192.0.2.99")
	require.ErrorContains(t, history.Minutes(t.Context(), m, path, noon, noon, nil), "has no node")
}
