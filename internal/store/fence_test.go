package store_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// TestWhoSleptWritesNothing: a service that was stopped in the middle of a transaction, or just before a
// statement, and another took over meanwhile. Whoever takes over waits for what was begun; what comes
// after is refused by the database itself, whatever the sleeper believes.
func TestWhoSleptWritesNothing(t *testing.T) {
	ctx := t.Context()
	dsn := storetest.DSN()
	first, err := store.Open(ctx, store.Options{DSN: dsn, Holder: holder("first")})
	require.NoError(t, err)
	defer first.Close()
	first.StopRenewing() // it sleeps
	agent, err := first.EnsureAgent(ctx, store.Agent{Name: "quay", Kind: "simulated"})
	require.NoError(t, err, "it holds the database still")

	// A transaction that began before it slept is waited for.
	inside, goOn := make(chan struct{}), make(chan struct{})
	done := make(chan error, 1)
	go func() {
		done <- first.Transact(ctx, func(write func(string) error) error {
			close(inside)
			<-goOn
			return write("UPDATE agents SET version = 'x'")
		})
	}()
	<-inside
	require.NoError(t, first.Expire(ctx, store.HoldTime+time.Second))
	took := make(chan *store.Store, 1)
	go func() {
		second, err := store.Open(ctx, store.Options{DSN: dsn, Holder: holder("second")})
		assert.NoError(t, err)
		took <- second
	}()
	select {
	case <-took:
		t.Fatal("it took over while another wrote")
	case <-time.After(500 * time.Millisecond):
	}
	close(goOn)
	require.NoError(t, <-done)
	second := <-took
	require.NotNil(t, second)
	defer second.Close()

	first.Slept(0)
	// What it writes from now on is refused, though it has not asked whether it holds the database.
	for name, write := range map[string]func() error{
		"a transaction": func() error { return first.SaveNotice(ctx, store.Notice{ID: ident.New(), At: noon}) },
		"an upload": func() error {
			return first.SaveUpload(ctx, protocol.Upload{Agent: agent.ID, Readings: []protocol.Record{}, Runs: []protocol.Run{{ID: ident.New(), Started: noon, Ended: noon, Outcome: protocol.Failed}}})
		},
		"a single change": func() error { return first.SeenPerson(ctx, ident.New(), noon) },
		"a removal":       func() error { return first.DeleteBoard(ctx, ident.New()) },
		"a new row": func() error {
			return first.SaveInvite(ctx, store.Invite{ID: ident.New(), CodeHash: make([]byte, 32), EndsAt: noon})
		},
	} {
		assert.ErrorIs(t, write(), store.ErrHeld, name)
	}
	require.NoError(t, second.SaveNotice(ctx, store.Notice{ID: ident.New(), At: noon}))
	notices, err := second.Notices(ctx, noon.Add(-time.Hour))
	require.NoError(t, err)
	assert.Len(t, notices, 1)

	// One that slept for longer than a hold lasts does not even ask the database for more.
	first.Slept(store.HoldTime)
	_, err = first.Notices(ctx, noon)
	require.ErrorIs(t, err, store.ErrAway)
	assert.ErrorContains(t, err, "was stopped for a while")
}

// TestWhoIsStoppedWithinATransaction holds nobody up for longer than a hold lasts.
func TestWhoIsStoppedWithinATransaction(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	dsn := storetest.DSN()
	first, err := store.Open(ctx, store.Options{DSN: dsn, Holder: holder("first")})
	require.NoError(t, err)
	defer first.Close()
	first.StopRenewing()
	inside, goOn := make(chan struct{}), make(chan struct{})
	done := make(chan error, 1)
	go func() {
		done <- first.Transact(ctx, func(write func(string) error) error {
			close(inside)
			<-goOn
			return write("UPDATE agents SET version = 'x'")
		})
	}()
	<-inside
	began := time.Now()
	require.NoError(t, first.Expire(ctx, store.HoldTime+time.Second))
	limited, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	second, err := store.Open(limited, store.Options{DSN: dsn, Holder: holder("second")})
	require.NoError(t, err)
	defer second.Close()
	assert.Less(t, time.Since(began), 30*time.Second)
	close(goOn)
	assert.Error(t, <-done, "what it had begun is not there")
}

// TestLookout sees who holds a database, and which services are there.
func TestLookout(t *testing.T) {
	ctx := t.Context()
	dsn := storetest.DSN()
	l, err := store.OpenLookout(dsn)
	require.NoError(t, err)
	defer l.Close()
	held, err := l.Look(ctx)
	require.NoError(t, err)
	assert.True(t, held.Free, "there is not even a table")
	who := holder("northquay")
	who.Address, who.Pin = "https://192.0.2.7:7373", "sha256:00"
	s, err := store.Open(ctx, store.Options{DSN: dsn, Holder: who})
	require.NoError(t, err)
	held, err = l.Look(ctx)
	require.NoError(t, err)
	assert.Equal(t, []any{who.Owner, "northquay", who.Address, who.Pin, s.Secret(), false}, []any{held.Owner, held.Says, held.Address, held.Pin, held.Secret, held.Free})
	assert.False(t, held.Over(0))
	assert.False(t, held.Over(store.HoldTime), "it has not expired by the database's clock")
	assert.True(t, held.Over(store.HoldTime+5*time.Second), "a clock that is behind is not waited for")
	s.StopRenewing()
	require.NoError(t, s.Expire(ctx, store.HoldTime+time.Second))
	old, err := l.Look(ctx)
	require.NoError(t, err)
	assert.False(t, old.Same(held))
	assert.False(t, old.Over(time.Second), "a clock that is ahead takes it from nobody who keeps it up")
	assert.True(t, old.Over(store.HoldTime))
	require.NoError(t, s.Expire(ctx, 2*time.Minute))
	old, err = l.Look(ctx)
	require.NoError(t, err)
	assert.True(t, old.Over(0), "long ago")
	// By what was seen, it is taken by whoever saw it so, and by nobody who saw it otherwise.
	require.NoError(t, s.Expire(ctx, -time.Hour))
	seen, err := l.Look(ctx)
	require.NoError(t, err)
	other := holder("other")
	other.Over = &old
	limited, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	_, err = store.Open(limited, store.Options{DSN: dsn, Holder: other})
	require.Error(t, err)
	other.Over = &seen
	taken, err := store.Open(ctx, store.Options{DSN: dsn, Holder: other})
	require.NoError(t, err)
	require.NoError(t, s.Close())
	s = taken
	assert.Len(t, held.Secret, 32)
	for _, address := range []string{"https://192.0.2.8:7373", "https://192.0.2.7:7373"} {
		require.NoError(t, l.Show(ctx, store.Member{Owner: ident.New(), Address: address, TokenMark: []byte{1}, BeganAt: noon}))
	}
	list, err := l.Members(ctx)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "https://192.0.2.7:7373", list[0].Address)
	assert.Equal(t, noon, list[0].BeganAt)
	require.NoError(t, s.Exec(ctx, "UPDATE services SET seen_at = seen_at - INTERVAL 2 HOUR WHERE address = ?", list[0].Address))
	list, err = l.Members(ctx)
	require.NoError(t, err)
	assert.Len(t, list, 1, "who is gone for long is none of them")
	require.NoError(t, s.Close())
	held, err = l.Look(ctx)
	require.NoError(t, err)
	assert.True(t, held.Free, "given up on closing")
}

// TestSeveralHosts: the next one is spoken to when one is not there, or takes no writes any more.
func TestSeveralHosts(t *testing.T) {
	ctx := t.Context()
	dsn := storetest.DSN()
	for given, want := range map[string]struct {
		first string
		hosts []string
	}{
		"u:p@tcp(a:3306)/w":                {"u:p@tcp(a:3306)/w", nil},
		"u:p@tcp(a:3306, b,[::1]:3307)/w":  {"u:p@tcp(a:3306)/w", []string{"a:3306", "b", "[::1]:3307"}},
		"u@unix(/run/a,b.sock)/w":          {"u@unix(/run/a,b.sock)/w", nil},
		"u:@tcp(,)@tcp(a:1,b:2)/w?x=(y,z)": {"u:@tcp(,)@tcp(a:1)/w?x=(y,z)", []string{"a:1", "b:2"}},
	} {
		first, hosts := store.HostsIn(given)
		assert.Equal(t, want.first, first, given)
		assert.Equal(t, want.hosts, hosts, given)
	}
	gone, there, again := storetest.Behind(t, dsn), storetest.Behind(t, dsn), storetest.Behind(t, dsn)
	gone.Stop()
	s, err := store.Open(ctx, store.Options{DSN: storetest.Through(dsn, gone, there, again), Holder: holder("one")})
	require.NoError(t, err)
	defer s.Close()
	save := func() error { return s.SaveNotice(ctx, store.Notice{ID: ident.New(), At: noon}) }
	require.NoError(t, save())
	assert.Positive(t, there.Connections())
	assert.Zero(t, again.Connections())
	there.Stop()
	require.Eventually(t, func() bool { return save() == nil }, time.Minute, 10*time.Millisecond)
	assert.Positive(t, again.Connections())
	require.True(t, s.Renew(ctx), "it holds the database still")
	notices, err := s.Notices(ctx, noon.Add(-time.Hour))
	require.NoError(t, err)
	assert.Len(t, notices, 2, "none is there twice")
}
