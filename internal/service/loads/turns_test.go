package loads

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
)

// TestLoadRunsAreComparedByTime: a reading of hours ago has nothing to do with a load run
// that goes on now, and something with one that went on then.
func TestLoadRunsAreComparedByTime(t *testing.T) {
	agent, other := ident.New(), ident.New()
	now := time.Now()
	l := New()
	l.turns.going[&Claim{Agents: []ident.ID{agent}, Sites: []string{"Holm"}}] = now.Add(-time.Minute)
	l.turns.remember(span{now.Add(-5 * time.Hour), now.Add(-5*time.Hour + 10*time.Second), Claim{Agents: []ident.ID{agent}}})
	for _, x := range []struct {
		name string
		who  ident.ID
		site string
		ago  time.Duration
		want bool
	}{
		{"now, at the same agent", agent, "", 30 * time.Second, true},
		{"now, at the same site", other, "Holm", 30 * time.Second, true},
		{"now, elsewhere", other, "Pier", 30 * time.Second, false},
		{"three hours ago, told only now", agent, "Holm", 3 * time.Hour, false},
		{"five hours ago, when one went on", agent, "", 5*time.Hour + 30*time.Second, true},
	} {
		t.Run(x.name, func(t *testing.T) {
			from := now.Add(-x.ago)
			assert.Equal(t, x.want, l.Disturbed(x.who, x.site, from, from.Add(time.Minute)))
		})
	}
	l.turns.remember(span{from: now, to: now.Add(kept)})
	assert.Len(t, l.turns.past, 1, "what is long ago is forgotten")
}

// TestLoadRunsTakeTurns: at one agent or one site one after the other, elsewhere beside it.
func TestLoadRunsTakeTurns(t *testing.T) {
	l := New()
	quay, holm, pier := ident.New(), ident.New(), ident.New()
	one := &Claim{Agents: []ident.ID{quay, holm}, Sites: []string{"Quay", "Holm"}}
	waited, err := l.Wait(t.Context(), one)
	require.NoError(t, err)
	assert.False(t, waited)
	waited, err = l.Wait(t.Context(), &Claim{Agents: []ident.ID{pier}, Sites: []string{"Pier"}})
	require.NoError(t, err)
	assert.False(t, waited, "nobody is in its way")
	over, stop := context.WithCancel(t.Context())
	stop()
	waited, err = l.Wait(over, &Claim{Agents: []ident.ID{quay}})
	assert.True(t, waited)
	require.ErrorIs(t, err, context.Canceled, "who is stopped waits no longer")
	turns := make(chan bool)
	next := &Claim{Agents: []ident.ID{ident.New()}, Sites: []string{"Holm"}}
	go func() {
		waited, err := l.Wait(t.Context(), next)
		turns <- waited && err == nil
	}()
	waits := func() bool {
		l.turns.mu.Lock()
		defer l.turns.mu.Unlock()
		return l.turns.free != nil
	}
	require.Eventually(t, waits, time.Minute, time.Millisecond)
	l.Free(&Claim{Agents: []ident.ID{quay}}) // one that never had its turn
	require.Eventually(t, waits, time.Minute, time.Millisecond, "it waits on while another goes on at its site")
	l.Free(one)
	assert.True(t, <-turns)
	assert.Len(t, l.turns.past, 1)
}
