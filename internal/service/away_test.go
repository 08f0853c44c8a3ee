package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

// TestPlansForWhenTheServiceIsAway: agents on other machines know what they measure with each
// other, and let each other in, as long as the watch is there and no longer.
func TestPlansForWhenTheServiceIsAway(t *testing.T) {
	c, _ := harbour(t, map[string]string{"quay": "Northquay"})
	join := func(name string) remote.JoinAnswer {
		code, _, err := c.Fleet.Invite(t.Context(), name, "", "", time.Hour)
		require.NoError(t, err)
		a, err := c.Fleet.Join(t.Context(), remote.JoinRequest{Code: code, Name: name}, "192.0.2.7")
		require.NoError(t, err)
		return a
	}
	pier, mole := join("pier"), join("mole")
	plan := func(a remote.JoinAnswer) protocol.Plan {
		_, worker, ok := c.Fleet.ByKey(a.Key)
		require.True(t, ok)
		p, _ := worker.Plan()
		return p
	}
	for _, name := range []string{"stream", "throughput"} {
		k, err := kind.Find(name)
		require.NoError(t, err)
		how, err := k.Decode(kind.Standing, []byte(`{"for": "5s"}`))
		require.NoError(t, err)
		_, err = c.Watches.Save(t.Context(), ident.ID{}, name, watches.Spec{Kind: name, From: []string{"pier", "quay"}, To: []string{"mole"}, Every: 10 * time.Minute, How: how}, false)
		require.NoError(t, err)
	}
	assert.Empty(t, plan(pier).Standing, "where the far end answers is not known yet")
	require.NoError(t, c.Fleet.NoteHealth(t.Context(), mole.ID, protocol.Health{Responder: "192.0.2.8:7474"}))
	p, far := plan(pier), plan(mole)
	require.Len(t, p.Standing, 2)
	require.Len(t, far.Tickets, 2, "for pier alone: what quay does ends with the service")
	for i, s := range p.Standing {
		assert.True(t, s.Away)
		assert.Equal(t, "192.0.2.8:7474", s.Order.Far.Address)
		assert.Equal(t, far.Tickets[i].Key, s.Order.Far.Key)
		assert.Equal(t, far.Tickets[i].Name, s.Order.Far.KeyName)
		assert.Len(t, s.Order.Far.Key, 32)
		assert.Equal(t, mole.ID, s.Order.FarID)
		assert.Equal(t, s.Order.Kind == "throughput", far.Tickets[i].TCP)
		assert.Equal(t, s.Order.Kind == "throughput", s.Budget > 0)
	}
	assert.NotEqual(t, p.Standing[0].Order.Far.Key, p.Standing[1].Order.Far.Key)
	assert.GreaterOrEqual(t, p.Standing[1].Phase-p.Standing[0].Phase, 15*time.Second, "one behind the other")

	again, err := service.New(t.Context(), service.Options{Store: c.Store, Zone: time.UTC})
	require.NoError(t, err)
	w, err := again.Watches.Find("stream")
	require.NoError(t, err)
	_, err = again.Watches.SetPaused(t.Context(), w, false) // what brings plans anew
	require.NoError(t, err)
	_, worker, _ := again.Fleet.ByKey(pier.Key)
	kept, _ := worker.Plan()
	assert.Equal(t, p.Standing, kept.Standing, "the same over a restart")

	x := p.Standing[0].Order
	made := protocol.Made{Run: ident.New(), Watch: x.Watch, FarID: x.FarID, Kind: x.Kind, Version: x.Version, Lane: x.Lanes[0].Lane, Started: time.Now().Add(-time.Minute), Ended: time.Now(), Outcome: protocol.Done, Body: []byte(`{"directions": [], "findings": []}`)}
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: pier.ID, Made: []protocol.Made{made}}))
	row, err := c.Store.TwoEndedByID(t.Context(), made.Run)
	require.NoError(t, err)
	assert.Equal(t, protocol.Done, row.Outcome)
	assert.Equal(t, x.Watch, row.WatchID)

	require.NoError(t, c.Fleet.Remove(t.Context(), "mole"))
	assert.Empty(t, plan(pier).Standing, "who is locked out is measured with no more")
}

// TestWhatNobodyMadeWasMissed: the service was not running for an hour, and the agent that was
// to measure meanwhile for a part of it: what it hands over counts, the rest was missed.
func TestWhatNobodyMadeWasMissed(t *testing.T) {
	c, _ := harbour(t, map[string]string{"quay": "Northquay"})
	join := func(name string) remote.JoinAnswer {
		code, _, err := c.Fleet.Invite(t.Context(), name, "", "", time.Hour)
		require.NoError(t, err)
		a, err := c.Fleet.Join(t.Context(), remote.JoinRequest{Code: code, Name: name}, "192.0.2.7")
		require.NoError(t, err)
		return a
	}
	pier, mole := join("pier"), join("mole")
	require.NoError(t, c.Fleet.NoteHealth(t.Context(), mole.ID, protocol.Health{Responder: "192.0.2.8:7474"}))
	k, err := kind.Find("stream")
	require.NoError(t, err)
	how, err := k.Decode(kind.Standing, []byte(`{"for": "5s"}`))
	require.NoError(t, err)
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "calls", watches.Spec{Kind: "stream", From: []string{"pier"}, To: []string{"mole"}, Every: 10 * time.Minute, How: how}, false)
	require.NoError(t, err)
	now := time.Now().Truncate(10 * time.Minute).Add(time.Minute)
	made := func(to *service.Service, ago time.Duration) {
		m := protocol.Made{Run: ident.New(), Watch: w.ID, FarID: mole.ID, Kind: k.Name, Version: k.Version, Lane: kind.Lane{Target: "mole"}, Started: now.Add(-ago), Ended: now.Add(-ago + 5*time.Second), Outcome: protocol.Done, Body: []byte(`{"directions": [], "findings": []}`)}
		require.NoError(t, to.Upload(t.Context(), protocol.Upload{Agent: pier.ID, Made: []protocol.Made{m}}))
	}
	made(c, time.Hour)

	again, err := service.New(t.Context(), service.Options{Store: c.Store, Zone: time.UTC})
	require.NoError(t, err)
	missed := func() (list []store.Run) {
		list, err := c.Store.Runs(t.Context(), store.RunFilter{Watches: []ident.ID{w.ID}, Outcome: protocol.Missed})
		require.NoError(t, err)
		return list
	}
	again.Watches.TakeUp(t.Context(), now)
	again.Watches.Tick(t.Context(), now.Add(5*time.Minute))
	assert.Empty(t, missed(), "its agent is not back yet")
	_, worker, ok := again.Fleet.ByKey(pier.Key)
	require.True(t, ok)
	_, _, ok = worker.Connect(t.Context())
	require.True(t, ok)
	require.NoError(t, again.Fleet.NoteHealth(t.Context(), pier.ID, protocol.Health{HeldBack: 4}))
	again.Watches.Tick(t.Context(), now)
	again.Watches.Tick(t.Context(), now.Add(5*time.Minute))
	assert.Empty(t, missed(), "it has more to hand over")
	for _, ago := range []time.Duration{48, 38, 27, 16} {
		made(again, ago*time.Minute)
	}
	require.NoError(t, again.Fleet.NoteHealth(t.Context(), pier.ID, protocol.Health{}))
	again.Watches.Tick(t.Context(), now.Add(5*time.Minute))
	assert.Empty(t, missed(), "it came back just now")
	again.Watches.Tick(t.Context(), now.Add(8*time.Minute))
	list := missed()
	require.Len(t, list, 1)
	assert.Contains(t, list[0].Reason, `agent "pier" made 4 of the 6 that were due, the last at `+now.Add(-time.Minute).UTC().Format(time.RFC3339))
	again.Watches.Tick(t.Context(), now.Add(8*time.Minute))
	assert.Len(t, missed(), 1, "told once")
}
