package store_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
	"woodlark.example/wire"
)

// TestWhatHappenedIsKeptWithItsEpisode, in one transaction, once, and goes as its messages come.
func TestWhatHappenedIsKeptWithItsEpisode(t *testing.T) {
	s := storetest.New(t)
	path, episode := ident.New(), ident.New()
	matter := store.Matter{ID: ident.New(), Subject: episode, PathID: &path, What: "opened", At: noon, MadeAt: noon}
	row := store.Episode{ID: episode, PathID: path, Kind: "lost", FromAt: noon, Excesses: "[]", Matters: []store.Matter{matter}}
	for range 2 {
		require.NoError(t, s.SaveEpisodes(t.Context(), []store.Episode{row}))
	}
	later := store.Matter{ID: ident.New(), Subject: episode, PathID: &path, What: "closed", At: noon.Add(time.Hour), MadeAt: noon.Add(time.Hour)}
	row.Matters = []store.Matter{later}
	require.NoError(t, s.SaveEpisodes(t.Context(), []store.Episode{row}))
	list, err := s.Matters(t.Context(), 10)
	require.NoError(t, err)
	require.Len(t, list, 2, "each once")
	assert.Equal(t, []string{"opened", "closed"}, []string{list[0].What, list[1].What})
	first, err := s.Matters(t.Context(), 1)
	require.NoError(t, err)
	assert.Len(t, first, 1)

	m := store.Message{ID: ident.New(), RuleID: ident.New(), ChannelID: ident.New(), Subject: episode, What: "opened", At: noon, DueAt: noon, State: store.Waiting, Title: strings.Repeat("ö", 600), Body: "{}"}
	for range 2 {
		require.NoError(t, s.Route(t.Context(), []store.Message{m}, []ident.ID{matter.ID}))
	}
	m.State = store.Delivered
	require.NoError(t, s.Route(t.Context(), []store.Message{m}, nil))
	list, err = s.Matters(t.Context(), 10)
	require.NoError(t, err)
	assert.Len(t, list, 1)
	kept, err := s.Messages(t.Context(), store.MessageFilter{})
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.Equal(t, store.Waiting, kept[0].State, "one that is there already stays as it is")
	assert.LessOrEqual(t, len([]rune(kept[0].Title)), 500)
	assert.True(t, strings.HasPrefix(kept[0].Title, "öööö"))
}

// TestWhatWaitsIsGivenUpWithItsChannel, and says why.
func TestWhatWaitsIsGivenUpWithItsChannel(t *testing.T) {
	s := storetest.New(t)
	channel, rule := store.Channel{ID: ident.New(), Name: "desk", Type: "webhook", Settings: "{}", CreatedAt: noon}, store.Rule{ID: ident.New(), Name: "all", Body: "{}", CreatedAt: noon}
	require.NoError(t, s.SaveChannel(t.Context(), channel))
	require.NoError(t, s.SaveRule(t.Context(), rule))
	channel.Settings = `{"url": "x"}`
	require.NoError(t, s.SaveChannel(t.Context(), channel))
	channels, err := s.Channels(t.Context())
	require.NoError(t, err)
	require.Len(t, channels, 1)
	assert.Equal(t, `{"url": "x"}`, channels[0].Settings)
	var list []store.Message
	for i, state := range []string{store.Waiting, store.Held, store.Delivered, store.Summed} {
		list = append(list, store.Message{ID: ident.New(), RuleID: rule.ID, ChannelID: channel.ID, Subject: ident.New(), What: "opened", At: noon.Add(time.Duration(i) * time.Minute), DueAt: noon.Add(time.Duration(i) * time.Minute), State: state, Title: state, Body: "{}"})
	}
	other := list[0]
	other.ID, other.ChannelID, other.RuleID, other.Title = ident.New(), ident.New(), ident.New(), "another's"
	require.NoError(t, s.Route(t.Context(), append(list, other), nil))
	states, err := s.MessageStates(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[string]int{store.Waiting: 2, store.Held: 1}, states)
	for _, f := range []struct {
		store.MessageFilter
		want int
	}{{store.MessageFilter{Rule: rule.ID}, 4}, {store.MessageFilter{Subject: list[1].Subject}, 1}, {store.MessageFilter{Due: noon.Add(30 * time.Second)}, 2}, {store.MessageFilter{Since: noon.Add(2 * time.Minute)}, 2}, {store.MessageFilter{State: store.Waiting, Oldest: true, Page: store.Page{Limit: 1}}, 1}} {
		got, err := s.Messages(t.Context(), f.MessageFilter)
		require.NoError(t, err)
		assert.Len(t, got, f.want, fmt.Sprintf("%+v", f.MessageFilter))
	}
	require.NoError(t, s.DeleteChannel(t.Context(), channel.ID))
	after := map[string]string{}
	all, err := s.Messages(t.Context(), store.MessageFilter{})
	require.NoError(t, err)
	for _, m := range all {
		after[m.Title] = m.State + " " + m.Error
	}
	assert.Equal(t, map[string]string{store.Waiting: "gave up the channel was removed", store.Held: "gave up the channel was removed", store.Delivered: "delivered ", store.Summed: "summed ", "another's": "waiting "}, after)
	require.NoError(t, s.DeleteRule(t.Context(), rule.ID))
	rules, err := s.Rules(t.Context())
	require.NoError(t, err)
	assert.Empty(t, rules)
}

// TestAKeyIsMadeOnce, however many ask for it at the same time.
func TestAKeyIsMadeOnce(t *testing.T) {
	s := storetest.New(t)
	seeds := make([][]byte, 8)
	var all sync.WaitGroup
	for i := range seeds {
		all.Go(func() {
			seed, err := s.SigningSeed(t.Context(), "dossiers")
			assert.NoError(t, err)
			seeds[i] = seed
		})
	}
	all.Wait()
	for _, seed := range seeds {
		assert.Equal(t, seeds[0], seed)
	}
	assert.Len(t, seeds[0], 32)
	other, err := s.SigningSeed(t.Context(), "others")
	require.NoError(t, err)
	assert.NotEqual(t, seeds[0], other)
}

// TestGuestLinksAndWhoCame: lists leave frozen pages out, and know that they are there.
func TestGuestLinksAndWhoCame(t *testing.T) {
	s := storetest.New(t)
	link := func(n int, frozen []byte) store.GuestLink {
		hash := make([]byte, 32)
		hash[0] = byte(n)
		l := store.GuestLink{ID: ident.New(), SecretHash: hash, Title: fmt.Sprint(n), What: "path", Subject: "{}", Frozen: frozen, MadeBy: "mara", MadeAt: noon.Add(time.Duration(n) * time.Minute), EndsAt: noon.Add(time.Hour)}
		require.NoError(t, s.SaveGuestLink(t.Context(), l))
		return l
	}
	a, b := link(1, nil), link(2, []byte("page"))
	twice := b
	twice.ID = ident.New()
	require.Error(t, s.SaveGuestLink(t.Context(), twice), "no secret opens two things")
	list, err := s.GuestLinks(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, []string{"2", "1"}, []string{list[0].Title, list[1].Title})
	assert.Equal(t, []bool{true, false}, []bool{list[0].IsFrozen, list[1].IsFrozen})
	assert.Empty(t, list[0].Frozen)
	whole, err := s.GuestLink(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, []byte("page"), whole.Frozen)
	for range 2 {
		require.NoError(t, s.EndGuestLink(t.Context(), a.ID, noon.Add(30*time.Minute)))
	}
	ended, err := s.GuestLink(t.Context(), a.ID)
	require.NoError(t, err)
	assert.Equal(t, noon.Add(30*time.Minute), ended.EndedAt.UTC())
	_, err = s.GuestLink(t.Context(), ident.New())
	require.ErrorIs(t, err, store.ErrNotFound)
	for i := range 5 {
		require.NoError(t, s.NoteGuest(t.Context(), store.GuestOpening{ID: ident.New(), LinkID: b.ID, At: noon.Add(time.Duration(i) * time.Second), Address: "192.0.2.1", Outcome: fmt.Sprint(i)}))
	}
	came, err := s.GuestOpenings(t.Context(), b.ID, 3)
	require.NoError(t, err)
	require.Len(t, came, 3)
	assert.Equal(t, "4", came[0].Outcome)
	none, err := s.GuestOpenings(t.Context(), a.ID, 3)
	require.NoError(t, err)
	assert.Empty(t, none)
}

// TestAnnotationsThatTouchATime: of a path and of all; a span counts wherever it reaches.
func TestAnnotationsThatTouchATime(t *testing.T) {
	s := storetest.New(t)
	path, other := ident.New(), ident.New()
	add := func(text string, of *ident.ID, from, to int) {
		a := store.Annotation{ID: ident.New(), PathID: of, At: noon.Add(time.Duration(from) * time.Minute), Author: "mara", Text: text, MadeAt: noon}
		if to > 0 {
			until := noon.Add(time.Duration(to) * time.Minute)
			a.Until = &until
		}
		require.NoError(t, s.SaveAnnotation(t.Context(), a))
	}
	add("moment", &path, 10, 0)
	add("span", &path, 0, 30)
	add("all", nil, 20, 0)
	add("other's", &other, 10, 0)
	for _, x := range []struct {
		path     ident.ID
		from, to int
		want     []string
	}{
		{path, 0, 60, []string{"span", "moment", "all"}}, {path, 25, 60, []string{"span"}}, {path, 31, 60, nil}, {path, 10, 11, []string{"span", "moment"}}, {path, 11, 20, []string{"span"}}, {other, 0, 60, []string{"other's", "all"}}, {ident.ID{}, 10, 21, []string{"span", "moment", "other's", "all"}},
	} {
		list, err := s.Annotations(t.Context(), x.path, noon.Add(time.Duration(x.from)*time.Minute), noon.Add(time.Duration(x.to)*time.Minute), 100)
		require.NoError(t, err)
		var texts []string
		for _, a := range list {
			texts = append(texts, a.Text)
		}
		assert.ElementsMatch(t, x.want, texts, "%d to %d", x.from, x.to)
	}
}

// TestWhatWasMeasuredIsSummedUp by path: by hand.
func TestWhatWasMeasuredIsSummedUp(t *testing.T) {
	s := storetest.New(t)
	a, err := s.EnsureAgent(t.Context(), store.Agent{Name: "quay", Kind: "simulated"})
	require.NoError(t, err)
	p, err := ensurePath(t, s, store.Ends{Agent: a.ID, Target: "192.0.2.1", Family: wire.IPv4, Via: "icmp"}, "")
	require.NoError(t, err)
	var list []protocol.Record
	for i := range 10 { // of the last two nothing is answered; the first is of half a minute
		at := noon.Add(time.Duration(i) * time.Minute)
		span, n := time.Minute, 60
		if i == 0 {
			span, n = 30*time.Second, 30
		}
		var probes []reading.Probe
		for k := range n {
			x := reading.Probe{DueAt: at.Add(time.Duration(k) * time.Second)}
			if i < 8 {
				x.Outcome, x.RTT = reading.Answered, time.Duration(10+i)*time.Millisecond
			}
			probes = append(probes, x)
		}
		list = append(list, protocol.Record{Path: p.ID, Reading: reading.Of(at, span, n, time.Second, probes), Packed: reading.Pack(at, probes)})
	}
	_, err = s.TakeReadings(t.Context(), list)
	require.NoError(t, err)
	sums, err := s.MeasuredBetween(t.Context(), noon, noon.Add(time.Hour))
	require.NoError(t, err)
	m := sums[p.ID]
	assert.EqualValues(t, 570_000, m.SpanMs)
	assert.EqualValues(t, 450_000, m.AnsweredMs)
	assert.EqualValues(t, 570, m.Sent)
	assert.EqualValues(t, 450, m.Answered)
	assert.EqualValues(t, 120, m.Lost)
	// 30 of 10 ms, and 60 each of 11 to 17 ms.
	assert.InDelta(t, (30*10+60*(11+12+13+14+15+16+17))/450.0*1e6, m.MeanNs, 1)
	half, err := s.MeasuredBetween(t.Context(), noon.Add(8*time.Minute), noon.Add(9*time.Minute))
	require.NoError(t, err)
	assert.EqualValues(t, 60_000, half[p.ID].SpanMs)
	assert.Zero(t, half[p.ID].AnsweredMs)
	assert.Zero(t, half[p.ID].MeanNs)
	none, err := s.MeasuredBetween(t.Context(), noon.Add(time.Hour), noon.Add(2*time.Hour))
	require.NoError(t, err)
	assert.Empty(t, none)
}

// TestSumsByRollups are those of all readings, wherever the time begins and ends, whether or not
// all is rolled up, and over what was rolled up before it was kept for how long it was measured.
func TestSumsByRollups(t *testing.T) {
	s := storetest.New(t)
	a, err := s.EnsureAgent(t.Context(), store.Agent{Name: "quay", Kind: "simulated"})
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(7, 1))
	begin := noon.AddDate(0, 0, -3).Add(-5 * time.Hour)
	end := noon.Add(7 * time.Hour)
	type one struct {
		at             time.Time
		sent, answered int
		span           time.Duration
		sum            time.Duration
	}
	all := map[ident.ID][]one{}
	fill := func(id ident.ID, from, to time.Time) {
		var list []protocol.Record
		for at := from; at.Before(to); at = at.Add(time.Duration(5+r.IntN(60)) * time.Minute) {
			n := 1 + r.IntN(5)
			var probes []reading.Probe
			x := one{at: at, sent: n, span: time.Minute}
			for k := range n {
				p := reading.Probe{DueAt: at.Add(time.Duration(k) * time.Second)}
				if r.IntN(3) > 0 {
					p.Outcome, p.RTT = reading.Answered, time.Duration(1+r.IntN(50))*time.Millisecond
					x.answered, x.sum = x.answered+1, x.sum+p.RTT
				}
				probes = append(probes, p)
			}
			all[id] = append(all[id], x)
			list = append(list, protocol.Record{Path: id, Reading: reading.Of(at, time.Minute, n, time.Second, probes), Packed: reading.Pack(at, probes)})
		}
		_, err := s.TakeReadings(t.Context(), list)
		require.NoError(t, err)
	}
	var ids []ident.ID
	for i := range 3 {
		p, err := ensurePath(t, s, store.Ends{Agent: a.ID, Target: fmt.Sprintf("192.0.2.%d", 1+i), Family: wire.IPv4, Via: "icmp"}, "")
		require.NoError(t, err)
		ids = append(ids, p.ID)
		fill(p.ID, begin, end)
	}
	check := func(when string) {
		t.Helper()
		for range 60 {
			from := begin.Add(time.Duration(r.Int64N(int64(end.Sub(begin)))))
			to := from.Add(time.Duration(r.Int64N(int64(end.Sub(from)) + 1)))
			if r.IntN(3) == 0 {
				from, to = from.Truncate(time.Hour), to.Truncate(24*time.Hour)
			}
			got, err := s.MeasuredBetween(t.Context(), from, to)
			require.NoError(t, err)
			for _, id := range ids {
				var want store.Measured
				var sum time.Duration
				for _, x := range all[id] {
					if x.at.Before(from) || !x.at.Before(to) {
						continue
					}
					want.SpanMs += x.span.Milliseconds()
					if x.answered > 0 {
						want.AnsweredMs += x.span.Milliseconds()
					}
					want.Sent, want.Answered, want.Lost, sum = want.Sent+int64(x.sent), want.Answered+int64(x.answered), want.Lost+int64(x.sent-x.answered), sum+x.sum
				}
				m := got[id]
				assert.Equal(t, []int64{want.SpanMs, want.AnsweredMs, want.Sent, want.Answered, want.Lost}, []int64{m.SpanMs, m.AnsweredMs, m.Sent, m.Answered, m.Lost}, "%s: %v to %v", when, from, to)
				if want.Answered > 0 {
					assert.InDelta(t, float64(sum)/float64(want.Answered), m.MeanNs, 2, when)
				}
			}
		}
	}
	check("nothing is rolled up")
	require.NoError(t, s.RollDue(t.Context(), end, func(ident.ID, store.Slot) {}))
	check("all is")
	require.NoError(t, s.Exec(t.Context(), "UPDATE rollups SET measured_ms = NULL, answering_ms = NULL WHERE path_id = ? AND at < ?", ids[1][:], noon.AddDate(0, 0, -1)))
	check("some is from before")
	fill(ids[2], begin.Add(90*time.Second), end)
	check("some came later")
	require.NoError(t, s.RollDue(t.Context(), end, func(ident.ID, store.Slot) {}))
	check("that is rolled up, too")
}
