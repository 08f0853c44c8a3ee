package session_test

import (
	"errors"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
)

var key = session.KeyFrom("gull")

// meet lets two ends introduce themselves over a pipe.
func meet(t *testing.T, ours []byte, find func(session.Hello) ([]byte, error)) (near, far *session.Channel, h session.Hello, nearErr, farErr error) {
	t.Helper()
	a, b := net.Pipe()
	t.Cleanup(func() { _ = a.Close(); _ = b.Close() })
	var both sync.WaitGroup
	both.Go(func() {
		near, nearErr = session.Ask(a, ours, session.Hello{Role: session.Control, Name: "quay", Version: "1"})
	})
	far, h, farErr = session.Answer(b, find)
	if farErr != nil {
		_ = b.Close()
	}
	both.Wait()
	return near, far, h, nearErr, farErr
}

func knows(k []byte) func(session.Hello) ([]byte, error) {
	return func(session.Hello) ([]byte, error) { return k, nil }
}

func TestTwoEndsWithOneKey(t *testing.T) {
	near, far, h, err, farErr := meet(t, key, knows(key))
	require.NoError(t, err)
	require.NoError(t, farErr)
	assert.Equal(t, "quay", h.Name)
	assert.Equal(t, near.Secret(), far.Secret())
	assert.NotEqual(t, key, near.Secret(), "each session has a secret of its own")
	other, _, _, _, _ := meet(t, key, knows(key))
	assert.NotEqual(t, near.Secret(), other.Secret())

	var both sync.WaitGroup
	both.Go(func() {
		assert.NoError(t, near.Send(session.Open, session.Refusal{Reason: "why"}, []byte{1, 2, 3}))
		assert.NoError(t, near.Send(session.Go, nil, nil))
	})
	m, err := far.Receive(time.Second)
	require.NoError(t, err)
	assert.Equal(t, session.Open, m.Kind)
	assert.Equal(t, []byte{1, 2, 3}, m.Blob)
	var body session.Refusal
	require.NoError(t, m.Read(&body))
	assert.Equal(t, "why", body.Reason)
	m, err = far.Receive(time.Second)
	require.NoError(t, err)
	assert.Equal(t, session.Go, m.Kind)
	both.Wait()
	assert.Error(t, near.Send(session.Open, nil, make([]byte, 9<<20)), "too large")
	require.NoError(t, near.Close())
	_, err = far.Receive(time.Second)
	require.ErrorIs(t, err, session.ErrGone)
}

func TestWhoIsTurnedAway(t *testing.T) {
	for _, c := range []struct {
		name string
		find func(session.Hello) ([]byte, error)
		says string
	}{
		{"another key", knows(session.KeyFrom("tern")), "does not accept this key"},
		{"nobody knows it", func(session.Hello) ([]byte, error) { return nil, errors.New("no such key") }, "does not accept this key"},
		{"no room", func(session.Hello) ([]byte, error) { return key, session.Busy() }, "as many sessions as it takes"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, _, _, err, farErr := meet(t, key, c.find)
			require.ErrorContains(t, err, c.says)
			require.Error(t, farErr)
		})
	}
}

// TestAFarEndThatOnlyPretends: who accepts any key cannot prove to have it.
func TestAFarEndThatOnlyPretends(t *testing.T) {
	a, b := net.Pipe()
	defer a.Close()
	defer b.Close()
	go func() {
		_, _ = b.Write(append([]byte("WDLK\x01"), make([]byte, 32)...))
		buffer := make([]byte, 4096)
		_, _ = b.Read(buffer)
		_, _ = b.Write(append([]byte{1}, make([]byte, 32)...))
	}()
	_, err := session.Ask(a, key, session.Hello{Role: session.Control})
	require.ErrorIs(t, err, session.ErrKey)
}

func TestSomethingElseListens(t *testing.T) {
	a, b := net.Pipe()
	defer a.Close()
	go func() {
		_, _ = b.Write([]byte("220 mail.northquay.example ready, what do you want of it?\r\n"))
		_ = b.Close()
	}()
	_, err := session.Ask(a, key, session.Hello{Role: session.Control})
	require.ErrorIs(t, err, session.ErrNotOurs)
}

// changed is a connection that changes one byte of what is written.
type changed struct {
	net.Conn
	at int
}

func (c *changed) Write(b []byte) (int, error) {
	if c.at >= 0 && c.at < len(b) {
		b = append([]byte{}, b...)
		b[c.at] ^= 1
	}
	return c.Conn.Write(b)
}

// TestAMessageThatWasChanged: on the way, in its text, its length or its seal.
func TestAMessageThatWasChanged(t *testing.T) {
	for _, at := range []int{5, 20, 60} {
		a, b := net.Pipe()
		wire := &changed{Conn: a, at: -1}
		var near *session.Channel
		var both sync.WaitGroup
		both.Go(func() {
			var err error
			near, err = session.Ask(wire, key, session.Hello{Role: session.Control})
			assert.NoError(t, err)
		})
		far, _, err := session.Answer(b, knows(key))
		require.NoError(t, err)
		both.Wait()
		wire.at = at
		both.Go(func() {
			_ = near.Send(session.Open, session.Refusal{Reason: "a text of some length"}, []byte("blob"))
			_ = a.Close()
		})
		_, err = far.Receive(time.Second)
		assert.Error(t, err, "byte %d", at)
		_ = b.Close()
		both.Wait()
	}
}

func TestDatagrams(t *testing.T) {
	secret := []byte("secret")
	d := session.Datagram{Step: session.Proof, Session: 7, Cookie: session.CookieFor(secret, netip.MustParseAddrPort("192.0.2.7:5000"))}
	b := d.Marshal(secret)
	require.Len(t, b, session.DatagramSize)
	name, is := session.IsDatagram(b)
	assert.True(t, is)
	assert.Equal(t, uint64(7), name)
	got, ok := session.ParseDatagram(b, secret)
	require.True(t, ok)
	assert.Equal(t, d, got)
	for i := range b {
		broken := append([]byte{}, b...)
		broken[i] ^= 1
		_, ok := session.ParseDatagram(broken, secret)
		assert.False(t, ok, "byte %d", i)
	}
	_, ok = session.ParseDatagram(b, []byte("another"))
	assert.False(t, ok)
	assert.NotEqual(t, d.Cookie, session.CookieFor(secret, netip.MustParseAddrPort("192.0.2.7:5001")), "an address has a cookie of its own")
}

func TestOrders(t *testing.T) {
	shape := &paced.Shape{Format: paced.Stamp, Calls: 1, Interval: time.Millisecond, Sizes: []int{125}, For: 2 * time.Second, First: 1}
	o := session.Order{There: shape, TCP: &session.TCPOrder{There: 1, For: 5 * time.Second}}
	require.NoError(t, o.Check())
	assert.Equal(t, 5*time.Second, o.Length())
	assert.InDelta(t, 1e6, o.Rate(), 1e-6)
	for says, bad := range map[string]session.Order{
		"1 to 128 each way": {TCP: &session.TCPOrder{There: 200, For: time.Second}}, "at most 24h": {TCP: &session.TCPOrder{There: 1}},
		"cannot be negative": {TCP: &session.TCPOrder{There: 1, For: time.Second, Bytes: -1}}, "for up to 10s": {Yardstick: &session.YardstickOrder{Streams: 1, For: time.Hour}},
		"no packet format": {Back: &paced.Shape{}},
	} {
		assert.ErrorContains(t, bad.Check(), says)
	}
}

func FuzzAnswer(f *testing.F) {
	f.Add([]byte("WDLK\x01"))
	f.Fuzz(func(t *testing.T, b []byte) {
		near, far := net.Pipe()
		go func() {
			_, _ = near.Read(make([]byte, 64))
			_, _ = near.Write(b)
			_ = near.Close()
		}()
		_, _, err := session.Answer(far, knows(key))
		require.Error(t, err, "nobody gets in without the key")
		_ = far.Close()
	})
}

// FuzzMessages feeds what comes over a connection whose ends have proved themselves, and
// datagrams of a session: nothing that was not sealed is taken.
func FuzzMessages(f *testing.F) {
	secret := []byte("secret")
	f.Add([]byte{0, 0, 0, 40})
	f.Add(session.Datagram{Step: session.Begin, Session: 7}.Marshal(secret))
	f.Fuzz(func(t *testing.T, b []byte) {
		if d, ok := session.ParseDatagram(b, []byte("another")); ok {
			t.Fatal("taken without the secret", d)
		}
		_, _ = session.IsDatagram(b)
		near, far := net.Pipe()
		asked := make(chan *session.Channel, 1)
		go func() {
			c, err := session.Ask(near, key, session.Hello{Role: session.Control})
			if err != nil {
				c = nil
			}
			asked <- c
		}()
		c, _, err := session.Answer(far, knows(key))
		require.NoError(t, err)
		require.NotNil(t, <-asked)
		go func() {
			_, _ = near.Write(b)
			_ = near.Close()
		}()
		_, err = c.Receive(time.Second)
		require.Error(t, err)
		_ = far.Close()
	})
}
