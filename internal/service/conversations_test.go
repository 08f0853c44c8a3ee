package service_test

import (
	"fmt"
	"net/netip"
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

// TestConversationsAreMeasuredWhileTheyLast: what an agent tells is in its plan for as long, of
// the watch and of its parts, and is kept over a restart.
func TestConversationsAreMeasuredWhileTheyLast(t *testing.T) {
	c, _ := harbour(t, map[string]string{"quay": "Northquay"})
	code, _, err := c.Fleet.Invite(t.Context(), "pier", "Holm", "", time.Hour)
	require.NoError(t, err)
	joined, err := c.Fleet.Join(t.Context(), remote.JoinRequest{Code: code, Name: "pier"}, "192.0.2.11")
	require.NoError(t, err)
	pier, worker, ok := c.Fleet.ByKey(joined.Key)
	require.True(t, ok)
	plan := func() protocol.Plan { p, _ := worker.Plan(); return p }
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "calls", watches.Spec{From: []string{"pier"}, To: []string{"program:softphone", "192.0.2.77"}, Also: []watches.Part{{Kind: "trace", Every: 15 * time.Minute}, {Kind: "ping", Every: time.Minute}}}, false)
	require.NoError(t, err)
	require.Len(t, plan().Follow, 1)
	assert.Equal(t, []string{"program:softphone"}, plan().Follow[0].Words)
	assert.Len(t, plan().Tasks, 1, "who has a name is measured anyway")

	began := time.Now().UTC().Add(-time.Second).Truncate(time.Microsecond)
	talk := protocol.Conversation{ID: ident.New(), Watch: w.ID, Program: "softphone", Protocol: "udp", Server: netip.MustParseAddrPort("203.0.113.5:40000"), Began: began, Seen: began}
	tell := func(agent ident.ID, x protocol.Conversation) error {
		return c.Upload(t.Context(), protocol.Upload{Agent: agent, Conversations: []protocol.Conversation{x}})
	}
	require.NoError(t, tell(pier, talk))
	require.NoError(t, tell(pier, talk), "twice is once")
	require.Len(t, plan().Tasks, 2)
	assert.Equal(t, "203.0.113.5", plan().Tasks[1].Target)
	assert.Equal(t, []ident.ID{talk.ID}, plan().Tasks[1].Talks)
	for _, s := range plan().Standing {
		var targets []string
		for _, l := range s.Order.Lanes {
			targets = append(targets, l.Lane.Target)
		}
		assert.Contains(t, targets, "203.0.113.5", s.Order.Kind)
		assert.Contains(t, targets, "192.0.2.77", s.Order.Kind)
	}
	again, err := service.New(t.Context(), service.Options{Store: c.Store, Zone: time.UTC})
	require.NoError(t, err)
	assert.Len(t, again.Watches.OfPaths(), 2, "it goes on behind a restart")

	assert.ErrorIs(t, tell(agentID(t, c, "quay"), talk), kind.ErrInvalid, "nobody tells of another's")
	talk.Seen, talk.Ended = began.Add(time.Minute), began.Add(time.Minute)
	require.NoError(t, tell(pier, talk))
	assert.Len(t, plan().Tasks, 1)
	kept, err := c.Store.Conversation(t.Context(), talk.ID)
	require.NoError(t, err)
	require.NotNil(t, kept.EndedAt)
	assert.Equal(t, began.Add(time.Minute), kept.EndedAt.UTC())
	assert.NotNil(t, kept.PathID)

	// Of many at once some are only kept, with the reason.
	for i := range 53 {
		x := talk
		x.ID, x.Ended, x.Server = ident.New(), time.Time{}, netip.MustParseAddrPort(fmt.Sprintf("203.0.113.%d:443", 10+i))
		x.Seen = x.Began
		require.NoError(t, tell(pier, x))
	}
	list, err := c.Store.Conversations(t.Context(), store.ConversationFilter{Open: true})
	require.NoError(t, err)
	unmeasured := 0
	for _, x := range list {
		if x.PathID == nil {
			unmeasured++
			assert.Contains(t, x.Says, "50 conversations of this agent")
		}
	}
	assert.Equal(t, 3, unmeasured)
	assert.Len(t, plan().Tasks, 51)

	// Those that nobody tells of any more are over, once their agent could have.
	_, _, ok = worker.Connect(t.Context())
	require.True(t, ok)
	require.NoError(t, c.Conversations.Tick(t.Context(), time.Now().Add(10*time.Minute)))
	assert.Len(t, plan().Tasks, 1)

	// What the agent may not tell is said by the watch.
	require.NoError(t, tell(pier, protocol.Conversation{ID: ident.New(), Watch: w.ID, Began: began, Seen: began, Reason: "the owner of this agent does not allow it"}))
	w, err = c.Watches.Find("calls")
	require.NoError(t, err)
	assert.Equal(t, []string{"pier tells of no conversations: the owner of this agent does not allow it"}, c.Watches.Hindrances(&w))

	for _, bad := range []protocol.Conversation{{Watch: w.ID}, {ID: ident.New(), Watch: w.ID, Protocol: "carrier pigeon", Server: talk.Server, Began: began, Seen: began}, {ID: ident.New(), Watch: w.ID, Protocol: "tcp", Server: talk.Server, Began: began, Seen: began.Add(-time.Hour)}} {
		assert.ErrorIs(t, tell(pier, bad), protocol.ErrRefused)
	}
	for _, bad := range []watches.Spec{{From: []string{"pier"}, To: []string{"ports:9-8"}}, {Kind: "stream", Every: time.Hour, From: []string{"pier"}, To: []string{"program:softphone"}}} {
		_, err := c.Watches.Save(t.Context(), ident.ID{}, "bad", bad, false)
		assert.ErrorIs(t, err, kind.ErrInvalid)
	}
}

func agentID(t *testing.T, c *service.Service, name string) ident.ID {
	a, err := c.Fleet.Named(name)
	require.NoError(t, err)
	return a.ID
}
