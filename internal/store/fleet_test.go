package store_test

import (
	"bytes"
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

func TestInvitesAreUsedOnce(t *testing.T) {
	s := storetest.New(t)
	invite := func(code, name string, lasts time.Duration) {
		now := time.Now().UTC()
		require.NoError(t, s.SaveInvite(t.Context(), store.Invite{ID: ident.New(), CodeHash: store.HashOf(code), Name: name, CreatedAt: now, EndsAt: now.Add(lasts)}))
	}
	invite("good", "pier", time.Hour)
	invite("over", "", -time.Minute)
	open, err := s.Invites(t.Context())
	require.NoError(t, err)
	assert.Len(t, open, 1)
	_, err = s.UseInvite(t.Context(), "over", store.Agent{Name: "x"}, store.HashOf("k"))
	require.ErrorIs(t, err, store.ErrInvite)
	require.ErrorContains(t, err, "it ended on")
	_, err = s.UseInvite(t.Context(), "none", store.Agent{Name: "x"}, store.HashOf("k"))
	require.ErrorContains(t, err, "there is none with this code")

	// Of ten who use it at the same moment one gets in.
	got := make(chan error, 10)
	for range 10 {
		go func() {
			_, err := s.UseInvite(t.Context(), "good", store.Agent{Name: "mole", Kind: "remote"}, store.HashOf("key"))
			got <- err
		}()
	}
	in := 0
	for range 10 {
		if err := <-got; err == nil {
			in++
		} else {
			assert.ErrorIs(t, err, store.ErrInvite)
		}
	}
	assert.Equal(t, 1, in)
	// One that signs and has not heard the answer may ask again, and is who it was; others may not.
	invite("unheard", "quay", time.Hour)
	signs := store.Agent{Name: "mole", Kind: "remote", PublicKey: bytes.Repeat([]byte{7}, 32)}
	first, err := s.UseInvite(t.Context(), "unheard", signs, store.HashOf("a"))
	require.NoError(t, err)
	again, err := s.UseInvite(t.Context(), "unheard", signs, store.HashOf("b"))
	require.NoError(t, err)
	assert.Equal(t, first.ID, again.ID)
	assert.Equal(t, "quay", again.Name)
	assert.Equal(t, store.HashOf("a"), again.KeyHash)
	for _, key := range [][]byte{nil, bytes.Repeat([]byte{8}, 32)} {
		_, err = s.UseInvite(t.Context(), "unheard", store.Agent{Name: "mole", Kind: "remote", PublicKey: key}, store.HashOf("c"))
		require.ErrorIs(t, err, store.ErrInvite)
	}
	require.NoError(t, s.LockOut(t.Context(), first.ID))
	_, err = s.UseInvite(t.Context(), "unheard", signs, store.HashOf("d"))
	require.ErrorIs(t, err, store.ErrInvite, "who was removed is")
	a, err := s.AgentByKey(t.Context(), store.HashOf("key"))
	require.NoError(t, err)
	assert.Equal(t, "pier", a.Name, "the invite's name goes before its own")
	at := time.Now().UTC().Truncate(time.Second)
	require.NoError(t, s.NoteHealth(t.Context(), a.ID, at, "9", `{"held_back":4}`))
	agents, err := s.Agents(t.Context())
	require.NoError(t, err)
	of := slices.IndexFunc(agents, func(x store.Agent) bool { return x.ID == a.ID })
	require.GreaterOrEqual(t, of, 0)
	assert.Equal(t, "9", agents[of].Version)
	assert.Equal(t, at, agents[of].SeenAt.UTC())
	assert.JSONEq(t, `{"held_back":4}`, *agents[of].Health)
	require.NoError(t, s.LockOut(t.Context(), a.ID))
	_, err = s.AgentByKey(t.Context(), store.HashOf("key"))
	require.ErrorIs(t, err, store.ErrNotFound)
}

func TestTwoEndedRecords(t *testing.T) {
	s := storetest.New(t)
	near, far := ident.New(), ident.New()
	at := time.Now().UTC().Add(-3 * time.Hour).Truncate(time.Millisecond)
	bps, mos := 8e6, 4.1
	var ids []ident.ID
	for i := range 5 {
		x := protocol.TwoEnded{ID: ident.New(), Far: far, Target: "holm", Kind: "throughput", Started: at.Add(time.Duration(i) * time.Hour / 2), Outcome: protocol.Running}
		if i%2 == 1 {
			x.Kind = "stream"
		}
		row, err := store.TwoEndedOf(near, x)
		require.NoError(t, err)
		require.NoError(t, s.SaveTwoEnded(t.Context(), row))
		x.Outcome, x.Ended, x.ThereBps, x.MOS, x.SentBytes, x.Report = protocol.Done, x.Started.Add(time.Minute), &bps, &mos, 1000, json.RawMessage(`{"findings":[{"code":"held_by_link"}]}`)
		assert.Len(t, x.Findings(), 1)
		row, err = store.TwoEndedOf(near, x)
		require.NoError(t, err)
		require.NoError(t, s.SaveTwoEnded(t.Context(), row), "over what was there of it")
		ids = append(ids, x.ID)
	}
	all, err := s.TwoEndedList(t.Context(), store.TwoEndedFilter{Agent: near})
	require.NoError(t, err)
	require.Len(t, all, 5)
	assert.Equal(t, ids[4], all[0].ID, "newest first")
	assert.Equal(t, protocol.Done, all[0].Outcome)
	assert.InDelta(t, 8e6, *all[0].ThereBps, 1e-6)
	assert.Nil(t, all[0].Body)
	for want, f := range map[int]store.TwoEndedFilter{3: {Kind: "throughput"}, 2: {Kind: "stream", Target: "holm"}, 0: {Target: "quay"}, 1: {From: at.Add(2*time.Hour - time.Minute)}} {
		list, err := s.TwoEndedList(t.Context(), f)
		require.NoError(t, err)
		assert.Len(t, list, want, "%+v", f)
	}
	one, err := s.TwoEndedByID(t.Context(), ids[0])
	require.NoError(t, err)
	report, err := one.Report()
	require.NoError(t, err)
	assert.JSONEq(t, `{"findings":[{"code":"held_by_link"}]}`, string(report))
	for agent, want := range map[ident.ID]int64{near: 5000, far: 5000, ident.New(): 0} {
		sent, err := s.SentSince(t.Context(), agent, at.Add(-time.Hour))
		require.NoError(t, err)
		assert.Equal(t, want, sent)
	}
	// Load runs of a minute each at 0, 1 and 2 h.
	for _, c := range []struct {
		agents   []ident.ID
		from, to time.Duration
		want     []ident.ID
	}{
		{[]ident.ID{near}, 0, 3 * time.Hour, []ident.ID{ids[0], ids[2], ids[4]}},
		{[]ident.ID{ident.New(), far}, 30 * time.Second, 90 * time.Minute, []ident.ID{ids[0], ids[2]}},
		{[]ident.ID{near}, time.Minute, time.Hour, nil},
		{[]ident.ID{ident.New()}, 0, 3 * time.Hour, nil},
	} {
		loads, err := s.LoadsBeside(t.Context(), []string{"throughput"}, c.agents, at.Add(c.from), at.Add(c.to))
		require.NoError(t, err)
		var got []ident.ID
		for _, x := range loads {
			got = append(got, x.ID)
		}
		assert.Equal(t, c.want, got, "%v to %v", c.from, c.to)
	}
	cut, err := store.TwoEndedOf(near, protocol.TwoEnded{ID: ident.New(), Kind: "stream", Started: at, Outcome: protocol.Running})
	require.NoError(t, err)
	require.NoError(t, s.SaveTwoEnded(t.Context(), cut))
	require.NoError(t, s.EndRunning(t.Context()))
	cut, err = s.TwoEndedByID(t.Context(), cut.ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Failed, cut.Outcome)
	assert.NotNil(t, cut.EndedAt)
	require.NoError(t, s.DropOld(t.Context(), time.Now(), at.Add(45*time.Minute)))
	all, err = s.TwoEndedList(t.Context(), store.TwoEndedFilter{})
	require.NoError(t, err)
	assert.Len(t, all, 3)
	_, err = s.TwoEndedByID(t.Context(), ids[0])
	require.ErrorIs(t, err, store.ErrNotFound)
}
