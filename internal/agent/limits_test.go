package agent

import (
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/protocol"
	"woodlark.example/wire"
)

func TestLoadHours(t *testing.T) {
	at := func(h, m int) time.Time { return time.Date(2026, 11, 23, h, m, 0, 0, time.Local) }
	for _, c := range []struct {
		hours string
		time  time.Time
		want  bool
	}{
		{"22:00-06:00", at(23, 0), true}, {"22:00-06:00", at(3, 0), true}, {"22:00-06:00", at(6, 0), false}, {"22:00-06:00", at(12, 0), false},
		{"09:00-17:30", at(9, 0), true}, {"09:00-17:30", at(17, 29), true}, {"09:00-17:30", at(17, 30), false}, {"00:00-24:00", at(23, 59), true},
	} {
		h, err := ParseLoadHours(c.hours)
		require.NoError(t, err)
		assert.Equal(t, c.want, h.Allow(c.time), "%s at %s", c.hours, c.time)
		assert.Equal(t, c.hours, h.String())
	}
	assert.True(t, LoadHours{}.Allow(time.Now()))
	for _, text := range []string{"", "22-06", "25:00-26:00", "gulls"} {
		_, err := ParseLoadHours(text)
		assert.ErrorContains(t, err, "are not hours of the day", text)
	}
}

// TestWhatTheOwnerAllows: nothing is sent beyond it, by any kind of connection.
func TestWhatTheOwnerAllows(t *testing.T) {
	n := Guarded(kernel.Host(), []netip.Prefix{netip.MustParsePrefix("127.0.0.0/30")}, 0)
	inside, outside := netip.MustParseAddrPort("127.0.0.1:9"), netip.MustParseAddrPort("127.0.0.9:9")
	for _, k := range []network.Kind{network.ICMP, network.UDP, network.Whole} {
		c, err := n.Open(k, wire.IPv4, network.SocketOptions{})
		require.NoError(t, err)
		if k == network.UDP {
			_, err = c.Send(inside, []byte("x"))
			require.NoError(t, err)
		}
		_, err = c.Send(outside, make([]byte, 40))
		require.ErrorIs(t, err, ErrNotAllowed, "%v", k)
		sent, err := c.SendAll([]network.Outgoing{{To: outside, Message: make([]byte, 40)}})
		assert.Zero(t, sent)
		require.ErrorIs(t, err, ErrNotAllowed)
		if limited, ok := c.(network.Limited); ok {
			_, err = limited.SendTTL(outside, make([]byte, 40), 3)
			require.ErrorIs(t, err, ErrNotAllowed)
		}
		require.NoError(t, c.Close())
	}
	_, err := n.(network.Streams).DialTCP(t.Context(), outside, network.StreamOptions{})
	require.ErrorIs(t, err, ErrNotAllowed)
	assert.Equal(t, kernel.Host(), Guarded(kernel.Host(), nil, 0), "without limits it is the network itself")
}

// TestNoFasterThanTheOwnerAllows: of all that is sent, by whatever connection; and what
// was not used comes back with time.
func TestNoFasterThanTheOwnerAllows(t *testing.T) {
	n := Guarded(kernel.Host(), nil, 80_000) // 10,000 bytes a second
	at := netip.MustParseAddrPort("127.0.0.1:9")
	var conns []network.Conn
	for range 2 {
		c, err := n.Open(network.UDP, wire.IPv4, network.SocketOptions{})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		conns = append(conns, c)
	}
	_, err := conns[0].Send(at, make([]byte, 6000))
	require.NoError(t, err)
	sent, err := conns[1].SendAll([]network.Outgoing{{To: at, Message: make([]byte, 2500)}, {To: at, Message: make([]byte, 9000)}})
	require.ErrorIs(t, err, ErrNotAllowed)
	require.ErrorContains(t, err, "80.0 kbit/s at most")
	assert.Equal(t, 1, sent)
	now := time.Now()
	a := &allowance{most: 8000}
	assert.True(t, a.take(now, 1000))
	assert.False(t, a.take(now, 1))
	assert.True(t, a.take(now.Add(500*time.Millisecond), 500))
	assert.False(t, a.take(now.Add(500*time.Millisecond), 1))
	assert.True(t, a.take(now.Add(time.Hour), 1000))
	assert.False(t, a.take(now.Add(time.Hour), 1), "no more than a second's worth at once")
}

// TestAFullSpoolDropsTheOldest, and says how many.
func TestAFullSpoolDropsTheOldest(t *testing.T) {
	dir := t.TempDir()
	s := newSpool(Options{Dir: dir, Most: 3000}, aside{}, slog.New(slog.DiscardHandler))
	require.NoError(t, os.MkdirAll(s.dir, 0o700))
	for i := range 10 {
		for range 5 {
			s.add(protocol.Record{Packed: make([]byte, 100+i)})
		}
		s.write()
	}
	entries, err := os.ReadDir(s.dir)
	require.NoError(t, err)
	size := int64(0)
	for _, e := range entries {
		i, err := e.Info()
		require.NoError(t, err)
		size += i.Size()
	}
	assert.LessOrEqual(t, size, int64(3000))
	assert.Positive(t, len(entries), "the newest are kept")
	assert.Equal(t, 50-5*len(entries), s.dropped)
	assert.Equal(t, 5*len(entries), s.waiting())
	assert.FileExists(t, filepath.Join(s.dir, entries[len(entries)-1].Name()))
}
