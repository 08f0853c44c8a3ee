package agent

import (
	"errors"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/host"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

// looks is whom programs talk to, as a test says.
type looks struct {
	list []host.Talk
	err  error
}

func (l *looks) Look() ([]host.Talk, error) { return l.list, l.err }

func talkTo(program, server string) host.Talk {
	return host.Talk{Program: program, Protocol: "udp", Server: netip.MustParseAddrPort(server)}
}

// told is what the agent has told since it was last asked.
func (a *Agent) told() (list []protocol.Conversation) {
	a.spool.mu.Lock()
	defer a.spool.mu.Unlock()
	list, a.spool.talks = a.spool.talks, nil
	return list
}

// TestConversationsBeginGoOnAndEnd: in time of its own, as programs come and go.
func TestConversationsBeginGoOnAndEnd(t *testing.T) {
	l := &looks{}
	a, err := New(Options{ID: ident.New(), Dir: t.TempDir(), Conversations: []string{"softphone", "meetings"}, Talks: l})
	require.NoError(t, err)
	watch := ident.New()
	wanted := []protocol.Follow{{Watch: watch, Words: []string{"program:softphone", "ports:5004-5010"}}}
	now := time.Date(2026, 11, 29, 10, 0, 0, 0, time.UTC)
	look := func(after time.Duration, list ...host.Talk) []protocol.Conversation {
		now, l.list = now.Add(after), list
		a.lookAt(wanted, now)
		return a.told()
	}
	call, other, own := talkTo("softphone", "203.0.113.5:40000"), talkTo("browser", "203.0.113.6:5004"), talkTo("woodlark", "203.0.113.7:5004")
	began := look(0, call, other, own, talkTo("meetings", "203.0.113.8:443"))
	require.Len(t, began, 1, "what the owner does not allow, or nobody asked for, is not told")
	assert.Equal(t, [3]any{"softphone", "udp", call.Server}, [3]any{began[0].Program, began[0].Protocol, began[0].Server})
	assert.True(t, began[0].Ended.IsZero())
	assert.True(t, a.talks.goesOn([]ident.ID{began[0].ID}))
	assert.False(t, a.talks.goesOn([]ident.ID{ident.New()}))
	assert.True(t, a.talks.goesOn(nil), "what is of no conversation always goes on")
	assert.Empty(t, look(2*time.Second, call, call), "one, by however many sockets")
	assert.Empty(t, look(8*time.Second), "for a moment it may have none")
	assert.Empty(t, look(time.Second, call))
	still := look(stillEvery, call)
	require.Len(t, still, 1, "that it goes on is told")
	assert.Equal(t, began[0].ID, still[0].ID)
	last := now
	over := look(silence)
	require.Len(t, over, 1)
	assert.Equal(t, last, over[0].Ended, "it ended when it was last seen")
	assert.False(t, a.talks.goesOn([]ident.ID{began[0].ID}))
	again := look(time.Second, call)
	require.Len(t, again, 1)
	assert.NotEqual(t, began[0].ID, again[0].ID)

	// A watch that is gone ends them; so does the agent's own end.
	wanted = nil
	require.Len(t, look(time.Second, call), 1)
	wanted = []protocol.Follow{{Watch: watch, Words: []string{"program:meetings"}}}
	require.Len(t, look(time.Second, talkTo("meetings", "203.0.113.8:443")), 1)
	a.endTalks(now)
	ended := a.told()
	require.Len(t, ended, 1)
	assert.False(t, ended[0].Ended.IsZero())
}

// TestWhyNoConversationsAreTold: said once, and taken back.
func TestWhyNoConversationsAreTold(t *testing.T) {
	now := time.Now()
	wanted := []protocol.Follow{{Watch: ident.New(), Words: []string{"program:softphone"}}}
	for _, c := range []struct {
		o    Options
		says string
	}{
		{Options{}, "simulated host"},
		{Options{Talks: &looks{}}, "does not allow looking"},
		{Options{Talks: &looks{}, Conversations: []string{"meetings"}}, "allows conversations of meetings only"},
		{Options{Talks: &looks{err: errors.New("no such thing")}, Conversations: []string{AnyProgram}}, "no such thing"},
	} {
		c.o.ID, c.o.Dir = ident.New(), t.TempDir()
		a, err := New(c.o)
		require.NoError(t, err)
		a.lookAt(wanted, now)
		told := a.told()
		require.Len(t, told, 1, c.says)
		assert.Contains(t, told[0].Reason, c.says)
		assert.False(t, told[0].Server.IsValid())
		a.lookAt(wanted, now.Add(time.Second))
		assert.Empty(t, a.told(), "once")
		if l, is := c.o.Talks.(*looks); is && l.err != nil {
			l.err = nil
			a.lookAt(wanted, now.Add(2*time.Second))
			assert.Empty(t, a.told()[0].Reason, "it does now")
		}
	}
}
