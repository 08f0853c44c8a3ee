package service_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/geo"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/boards"
	"woodlark.example/internal/service/guests"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/sites"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// onABoard is a service with an agent at a quay, one path of 10 ms without loss, one that loses all
// for ten minutes now, and one of which nothing was measured; the first two at places that are
// known.
func onABoard(t *testing.T, s *store.Store) (*service.Service, []ident.ID) {
	t.Helper()
	c, _ := open(t, s)
	require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: "pier", Site: "Quay", Kind: "simulated"}, nil))
	w := addWatch(t, c, "w", watches.Spec{From: []string{"pier"}, To: []string{"192.0.2.1", "192.0.2.2", "192.0.2.3"}, Tags: []string{"islands"}})
	a, err := c.Fleet.Named("pier")
	require.NoError(t, err)
	end := time.Now().Truncate(time.Minute)
	up := func(from, to, lost int, paths ...ident.ID) {
		u := protocol.Upload{Agent: a.ID}
		for ago := from; ago > to; ago-- {
			for _, id := range paths {
				u.Readings = append(u.Readings, minute(id, end.Add(-time.Duration(ago)*time.Minute), 10*time.Millisecond, lost))
			}
		}
		require.NoError(t, c.Upload(t.Context(), u))
	}
	up(150, 10, 0, w.Paths[:2]...)
	for _, id := range w.Paths[:2] {
		_, err := c.Paths.TakeBaseline(t.Context(), id, 2*time.Hour, true)
		require.NoError(t, err)
	}
	up(10, 0, 0, w.Paths[0])
	up(10, 0, 60, w.Paths[1])
	require.NoError(t, c.Sites.Save(t.Context(), sites.Site{Name: "Quay", At: &geo.Place{Lat: 58.6, Lon: -3.5}}, sites.Site{Name: "Holm", At: &geo.Place{Lat: 58.8, Lon: -2.9}, Targets: []string{"192.0.2.1"}},
		sites.Site{Name: "Tern Point", At: &geo.Place{Lat: 59.2, Lon: -2.5}, Targets: []string{"192.0.2.2/31", "198.51.100.0/24"}}))
	return c, w.Paths
}

// TestWhatStandsOnABoard: each kind of part, with figures by hand.
func TestWhatStandsOnABoard(t *testing.T) {
	c, paths := onABoard(t, storetest.New(t))
	require.NoError(t, c.Store.RollDue(t.Context(), time.Now(), func(ident.ID, store.Slot) {}))
	shown, err := c.Boards.Show(t.Context(), []boards.Part{{Kind: boards.States}, {Kind: boards.Worst}, {Kind: boards.Matrix, Measure: "loss"}, {Kind: boards.Voice}, {Kind: boards.Map},
		{Kind: boards.Trend, Measure: "loss", Last: "3h"}, {Kind: boards.Trend, Last: "3h", Targets: []string{"192.0.2.1"}}, {Kind: boards.Plot, From: "pier", To: "192.0.2.2"}, {Kind: boards.Plot, From: "pier", To: "nowhere.example"}, {Kind: boards.Incidents}, {Kind: boards.Text, Text: "call"}, {Kind: boards.States, Tags: []string{"ships"}}})
	require.NoError(t, err)
	p := shown.Parts
	assert.Equal(t, boards.StatesShown{Steady: 1, Lost: 1, Unmeasured: 1}, *p[0].States)
	require.Len(t, p[1].Worst, 2)
	assert.Equal(t, []string{"192.0.2.2", "lost"}, []string{p[1].Worst[0].To, p[1].Worst[0].State})
	assert.Equal(t, "unmeasured", p[1].Worst[1].State)

	m := p[2].Matrix
	assert.Equal(t, []string{"pier"}, m.Agents)
	assert.Equal(t, []string{"192.0.2.1", "192.0.2.2", "192.0.2.3"}, m.Sought)
	require.Len(t, m.Cells, 3)
	assert.InDelta(t, 0, *m.Cells[0].Value, 0)
	assert.InDelta(t, 1, *m.Cells[1].Value, 0)
	assert.Nil(t, m.Cells[2].Value, "unknown is absent")

	require.Len(t, p[3].Voice, 3)
	assert.Equal(t, "192.0.2.2", p[3].Voice[0].To, "where nobody is heard stands first")
	assert.InDelta(t, 4.409, *p[3].Voice[1].MOS, 0.001)
	assert.Equal(t, "satisfied", p[3].Voice[1].Word)
	assert.Nil(t, p[3].Voice[2].MOS)
	assert.Contains(t, p[3].Says, "1 satisfied, 1 nobody is heard, 1 unknown.")

	x := p[4].Map
	state := map[string]string{}
	for _, s := range x.Places {
		state[s.Name] = s.State
		assert.True(t, s.X > 0 && s.X < x.Width && s.Y > 0 && s.Y < x.Height)
	}
	assert.Equal(t, map[string]string{"Holm": "steady", "Tern Point": "lost", "Quay": "steady"}, state, "where no path ends, the best of those that begin there counts, which is steady")
	require.Len(t, x.Lines, 2)
	assert.Equal(t, []string{"Quay", "Tern Point", "lost"}, []string{x.Lines[1].From, x.Lines[1].To, x.Lines[1].State})
	assert.Equal(t, boards.StatesShown{Lost: 1, Unmeasured: 1}, x.Lines[1].Count, "192.0.2.3 is within the prefix, too")
	assert.Equal(t, paths[1].String(), x.Lines[1].Path)
	assert.Empty(t, x.Unplaced)
	assert.Empty(t, x.Outline, "the program was built without the land")

	steps := p[5].Trend.Steps
	require.NotEmpty(t, steps)
	last := steps[len(steps)-1]
	assert.Equal(t, 2, last.Paths)
	assert.InDelta(t, last.Value, last.High/2, 1e-9, "as many packets were sent on both paths, and one of them lost none")
	assert.InDelta(t, 0, steps[0].High, 0)
	for _, s := range p[6].Trend.Steps {
		assert.Equal(t, 1, s.Paths)
		assert.InDelta(t, 10.02, s.Value, 0.05)
		assert.InDelta(t, s.Low, s.High, 1e-9, "of one path there is one figure")
	}
	assert.Equal(t, "RTT, pier → 192.0.2.1", p[6].Heading)
	assert.Equal(t, paths[1].String(), p[7].Plot.Path)
	assert.Equal(t, "No path from pier to nowhere.example is watched.", p[8].Says)
	assert.Equal(t, "No incident goes on.", p[9].Says)
	assert.Equal(t, "No watched path is of this choice.", p[11].Says)

	doc, err := c.Boards.Print(t.Context(), []boards.Part{{Kind: boards.Map}, {Kind: boards.Plot, From: "pier", To: "192.0.2.1"}, {Kind: boards.Trend, Last: "3h"}, {Kind: boards.Voice}, {Kind: boards.Matrix}})
	require.NoError(t, err)
	text := document.String(document.Ink{}, doc)
	for _, says := range []string{"Tern Point  ⊖ lost", "Quay → Tern Point: lost, the worst of 2 paths", "Voice quality", "RTT from agents to targets", "satisfied"} {
		assert.Contains(t, text, says)
	}
	for format := range boards.Formats() {
		var out strings.Builder
		require.NoError(t, c.Boards.Write(t.Context(), &out, boards.Board{Name: "b", Parts: []boards.Part{{Kind: boards.Map}, {Kind: boards.States}}}, format), format)
		assert.NotEmpty(t, out.String())
	}
	require.ErrorIs(t, c.Boards.Write(t.Context(), &strings.Builder{}, boards.Board{}, "xls"), kind.ErrInvalid)
}

// TestBoardsAreKept: the two that come ready-made too; a change over another's is refused.
func TestBoardsAreKept(t *testing.T) {
	db := storetest.New(t)
	c, _ := open(t, db)
	ready := c.Boards.All()
	require.Len(t, ready, 2)
	for i, name := range []string{"Sites", "Voice"} {
		assert.Equal(t, name, ready[i].Name)
		require.NoError(t, boards.Check(ready[i].Parts))
		_, err := c.Boards.Show(t.Context(), ready[i].Parts)
		require.NoError(t, err)
	}
	b, err := c.Boards.Add(t.Context(), boards.Board{Name: " Bridge ", Parts: []boards.Part{{Kind: boards.States}, {Kind: boards.Trend}}})
	require.NoError(t, err)
	assert.Equal(t, "Bridge", b.Name)
	assert.Equal(t, []int{4, 1}, []int{b.Parts[0].Width, b.Parts[0].Height}, "what is usual is filled in")
	assert.Equal(t, "rtt", b.Parts[1].Measure)
	mine, others := b, b
	others.Name = "Bridge of Holm"
	ctx := notices.WithActor(t.Context(), "Ada")
	others, err = c.Boards.Change(ctx, others)
	require.NoError(t, err)
	assert.Equal(t, 2, others.Revision)
	mine.Parts = nil
	_, err = c.Boards.Change(t.Context(), mine)
	require.ErrorIs(t, err, store.ErrChanged)
	assert.ErrorContains(t, err, "by Ada")
	_, err = c.Boards.Add(t.Context(), boards.Board{Name: "bridge OF Holm"})
	require.ErrorIs(t, err, store.ErrTaken)

	again, _ := open(t, db)
	kept, err := again.Boards.Find("BRIDGE of Holm")
	require.NoError(t, err)
	assert.Equal(t, others.Parts, kept.Parts)
	assert.Equal(t, "Ada", kept.ChangedBy)
	require.NoError(t, again.Boards.Remove(t.Context(), ready[0].ID), "ready-made ones are one's own, too")
	third, _ := open(t, db)
	assert.Len(t, third.Boards.All(), 2)
	_, err = third.Boards.Find("Sites")
	require.ErrorIs(t, err, store.ErrNotFound)
	assert.ErrorContains(t, err, "Bridge of Holm, Voice")
}

func TestBoardsThatCannotBe(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	part := func(p boards.Part) boards.Board {
		return boards.Board{Name: "b", Parts: []boards.Part{{Kind: boards.Map}, p}}
	}
	for says, b := range map[string]boards.Board{
		"needs a name":                             {Name: " "},
		"looks like an identifier":                 {Name: ident.New().String()},
		"41 parts are more than 40":                {Name: "b", Parts: make([]boards.Part, 41)},
		`part 2: "gauge" is none of states, worst`: part(boards.Part{Kind: "gauge"}),
		"map has no use for measure":               part(boards.Part{Kind: boards.Map, Measure: "rtt"}),
		"plot has no use for a choice of paths":    part(boards.Part{Kind: boards.Plot, From: "a", To: "b", Tags: []string{"x"}}),
		"from and to are missing":                  part(boards.Part{Kind: boards.Plot, From: "a"}),
		"family 5 is neither 4 nor 6":              part(boards.Part{Kind: boards.Plot, From: "a", To: "b", Family: 5}),
		"width of 13 is not within 1 and 12":       part(boards.Part{Kind: boards.Map, Width: 13}),
		"height of 7 is not within":                part(boards.Part{Kind: boards.Map, Height: 7}),
		"says nothing":                             part(boards.Part{Kind: boards.Text, Text: " \n"}),
		"the text has 10001 bytes":                 part(boards.Part{Kind: boards.Text, Text: strings.Repeat("x", 10_001)}),
		`trend shows rtt, loss or mos`:             part(boards.Part{Kind: boards.Trend, Measure: "jitter"}),
		"is not a span of time":                    part(boards.Part{Kind: boards.Trend, Last: "a day"}),
		"last 9000h is not within 10m":             part(boards.Part{Kind: boards.Trend, Last: "9000h"}),
		"101 lines are not within":                 part(boards.Part{Kind: boards.Worst, Most: 101}),
		"201 tags are more than 200":               part(boards.Part{Kind: boards.Map, Tags: make([]string, 201)}),
	} {
		_, err := c.Boards.Add(t.Context(), b)
		require.ErrorIs(t, err, kind.ErrInvalid, says)
		assert.ErrorContains(t, err, says)
	}
	assert.Len(t, c.Boards.All(), 2)
}

// TestAGuestSeesOneBoard: as it is, or as it was; whatever it is called by now, and nothing when
// it is gone.
func TestAGuestSeesOneBoard(t *testing.T) {
	db := storetest.New(t)
	c, _ := onABoard(t, db)
	b, err := c.Boards.Add(t.Context(), boards.Board{Name: "Bridge", Parts: []boards.Part{{Kind: boards.Text, Text: "first <words>"}, {Kind: boards.Map}}})
	require.NoError(t, err)
	link := func(frozen bool) string {
		_, secret, err := c.Guests.Add(t.Context(), guests.Spec{What: "board", Subject: guests.Subject{ID: "bridge"}, Title: "For Kelpnet", EndsAt: time.Now().Add(time.Hour), Frozen: frozen})
		require.NoError(t, err)
		return secret
	}
	live, frozen := link(false), link(true)
	b.Name, b.Parts = "Deck", []boards.Part{{Kind: boards.Text, Text: "second words"}}
	b, err = c.Boards.Change(t.Context(), b)
	require.NoError(t, err)
	assert.Contains(t, opened(t, c, live), "second words")
	was := opened(t, c, frozen)
	assert.Contains(t, was, "first &lt;words&gt;")
	assert.Contains(t, was, `<svg`)
	require.NoError(t, c.Boards.Remove(t.Context(), b.ID))
	again, _ := open(t, db) // which has no page of a moment ago
	_, _, err = again.Guests.Open(t.Context(), live, "", func(ident.ID) bool { return false }, "192.0.2.9")
	require.ErrorIs(t, err, store.ErrNotFound)
	assert.Contains(t, opened(t, again, frozen), "first &lt;words&gt;", "what was frozen stays")
	_, _, err = again.Guests.Add(t.Context(), guests.Spec{What: "board", Subject: guests.Subject{ID: "deck"}, Title: "t", EndsAt: time.Now().Add(time.Hour)})
	require.ErrorIs(t, err, store.ErrNotFound)
}

// TestWhereTargetsAre: by name, address and the longest prefix; agents say it themselves; what
// changes moves the paths that are there already, and is kept.
func TestWhereTargetsAre(t *testing.T) {
	db := storetest.New(t)
	c, _ := open(t, db)
	require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: "pier", Site: "Quay", Kind: "simulated"}, nil))
	addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "192.0.2.9", "2001:db8::7", "terminal.holm.example", "pier"}})
	at := func(c *service.Service) map[string]string {
		out := map[string]string{}
		for _, v := range c.Views(service.Filter{}) {
			out[v.Target] = v.Site
		}
		return out
	}
	assert.Equal(t, map[string]string{"192.0.2.1": "", "192.0.2.9": "", "2001:db8::7": "", "terminal.holm.example": "", "pier": "Quay"}, at(c))
	require.NoError(t, c.Sites.Save(t.Context(), sites.Site{Name: "Holm", Targets: []string{"Terminal.Holm.Example", "192.0.2.0/28"}}, sites.Site{Name: "Stack", Targets: []string{"192.0.2.8/30", "2001:db8::7"}}, sites.Site{Name: "Elsewhere", Targets: []string{"pier"}}))
	want := map[string]string{"192.0.2.1": "Holm", "192.0.2.9": "Stack", "2001:db8::7": "Stack", "terminal.holm.example": "Holm", "pier": "Quay"}
	assert.Equal(t, want, at(c))
	assert.Len(t, c.Views(service.Filter{Site: "Holm"}), 2)
	again, _ := open(t, db)
	got := at(again)
	assert.Equal(t, want, got, "after a restart, too")

	require.NoError(t, c.Sites.Remove(t.Context(), "Stack"))
	assert.Equal(t, "Holm", at(c)["192.0.2.9"])
	assert.Empty(t, at(c)["2001:db8::7"])
	require.ErrorIs(t, c.Sites.Remove(t.Context(), "Stack"), store.ErrNotFound)
	require.ErrorIs(t, c.Sites.Remove(t.Context(), "Quay"), store.ErrNotFound, "nobody said anything of it")
	var names []string
	for _, s := range c.Sites.All() {
		names = append(names, fmt.Sprintf("%s %d %d", s.Name, s.Agents, s.Paths))
	}
	assert.Equal(t, []string{"Elsewhere 0 0", "Holm 0 3", "Quay 1 1"}, names)

	for says, list := range map[string][]sites.Site{
		"needs a name":                        {{Name: " "}},
		"is given twice":                      {{Name: "A"}, {Name: "A"}},
		"latitude 91 is not within":           {{Name: "A", At: &geo.Place{Lat: 91}}},
		"has bits behind its length":          {{Name: "A", Targets: []string{"192.0.2.1/24"}}},
		"is an IPv4 prefix in IPv6's clothes": {{Name: "A", Targets: []string{"::ffff:192.0.2.0/120"}}},
		"is no name, address or prefix":       {{Name: "A", Targets: []string{"a b"}}},
		`192.0.2.77 is at site "A" already`:   {{Name: "A", Targets: []string{"192.0.2.77"}}, {Name: "B", Targets: []string{"::ffff:192.0.2.77"}}},
		`192.0.2.0/28 is at site "Holm"`:      {{Name: "A", Targets: []string{"192.0.2.0/28"}}},
		"a name is of up to 100 bytes":        {{Name: strings.Repeat("x", 101)}},
		"a note is of up to 500 bytes":        {{Name: "A", Note: strings.Repeat("x", 501)}},
		"2001 targets are more than 2000":     {{Name: "A", Targets: make([]string, 2001)}},
		"that makes 5003 sites; 5000 at most": make5001(),
	} {
		err := c.Sites.Save(t.Context(), list...)
		require.ErrorIs(t, err, kind.ErrInvalid, says)
		assert.ErrorContains(t, err, says)
	}
	assert.Len(t, c.Sites.All(), 3, "all or none")
}

func make5001() (list []sites.Site) {
	for i := range 5001 {
		list = append(list, sites.Site{Name: fmt.Sprintf("S%d", i)})
	}
	return list
}

func TestSitesAsAFile(t *testing.T) {
	list, err := sites.ReadCSV(strings.NewReader("\ufeffSite, Latitude ,longitude,note,targets,paths\r\nHolm,60.15N,1.14 W,\"a, b\",192.0.2.0/28 terminal.holm.example,7\r\nFar,,,,,\r\n"))
	require.NoError(t, err)
	assert.Equal(t, []sites.Site{{Name: "Holm", At: &geo.Place{Lat: 60.15, Lon: -1.14}, Note: "a, b", Targets: []string{"192.0.2.0/28", "terminal.holm.example"}}, {Name: "Far", Targets: []string{}}}, list)
	var out strings.Builder
	require.NoError(t, sites.WriteCSV(&out, list))
	again, err := sites.ReadCSV(strings.NewReader(out.String()))
	require.NoError(t, err)
	assert.Equal(t, list, again)
	for text, says := range map[string]string{
		"":                                 "a line of headings",
		"name,height\nA,1\n":               `there is no column "height"`,
		"latitude,longitude\n1,2\n":        "the column name is missing",
		"name,site\nA,B\n":                 "is there twice",
		"name,lat,lon\nA,1\n":              "line 2: 2 fields instead of 3",
		"name,lat,lon\nA,1,\nB,x,2\n":      "line 3: site \"B\": latitude",
		"name,lat,lon\nA,1,\n":             "belong together",
		"name,targets\nA,192.0.2.1/8\n":    "has bits behind",
		"name\n\"A\n":                      "on line 2",
		"name,lat,lon\n,60,1\nB,60,1000\n": "a site needs a name",
	} {
		_, err := sites.ReadCSV(strings.NewReader(text))
		require.ErrorIs(t, err, kind.ErrInvalid, text)
		assert.ErrorContains(t, err, says, text)
	}
}

// TestABoardOfManyPaths is drawn for many walls at once without harm; see script/bench for its
// speed.
func TestABoardOfManyPaths(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	spec := watches.Spec{From: []string{"quay"}}
	for i := range 300 {
		spec.To = append(spec.To, fmt.Sprintf("192.0.%d.%d", 2+i/250, i%250))
	}
	addWatch(t, c, "many", spec)
	errs := make(chan error)
	for range 8 {
		go func() {
			_, err := c.Boards.Show(context.Background(), []boards.Part{{Kind: boards.Matrix}, {Kind: boards.Voice}, {Kind: boards.Trend}, {Kind: boards.Map}, {Kind: boards.Worst, Most: 3}})
			errs <- err
		}()
	}
	for range 8 {
		require.NoError(t, <-errs)
	}
	shown, err := c.Boards.Show(t.Context(), []boards.Part{{Kind: boards.Matrix}, {Kind: boards.Worst, Most: 3}, {Kind: boards.Map}})
	require.NoError(t, err)
	assert.Len(t, shown.Parts[0].Matrix.Sought, 40)
	assert.Equal(t, "260 paths are beyond the first 60 agents and 40 targets.", shown.Parts[0].Says)
	assert.Equal(t, "297 more are not steady.", shown.Parts[1].Says)
	assert.Contains(t, shown.Parts[2].Says, "No site is known")
}
