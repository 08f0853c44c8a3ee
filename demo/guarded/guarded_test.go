package guarded_test

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/demo/guarded"
	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/busy"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/schedule"
	"woodlark.example/internal/probe/history"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
	"woodlark.example/wire"
)

func TestMain(m *testing.M) { os.Exit(storetest.Main(m)) }

// reference is noon on a Wednesday.
var reference = time.Date(2026, 11, 18, 12, 0, 0, 0, time.UTC)

// probed is how often: twelve times a minute are enough to tell by, and what is simulated costs time.
const probed = 5 * time.Second

// TestWhatGetsWorseIsToldAsItIs runs worlds over weeks, in virtual time, through agents'
// readings and traces, the service's judging, its database and its report: all that is true is
// told, and nothing else.
func TestWhatGetsWorseIsToldAsItIs(t *testing.T) {
	list, err := guarded.List()
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(list), 12)
	for _, x := range list {
		t.Run(x.Name, func(t *testing.T) {
			t.Parallel()
			busy.AsItIs(t, func() string { return tell(t, x) })
		})
	}
}

// tell says what is wrong of what is told of a world. What chance does to the probes is another thing
// each time, as paths have other identifiers, so what chance alone does is not wrong each time.
func tell(t *testing.T, x guarded.Exercise) string {
	g := &guardedWorld{x: x, m: must(x.World(reference, time.UTC))(t)}
	d := g.report(t)
	found := &findings{T: t}
	g.episodes(found, d)
	g.properties(found, d)
	g.incidents(found, d)
	if found.wrong != nil {
		told, _ := json.MarshalIndent(d, "", " ")
		t.Log(string(told))
	}
	return strings.Join(found.wrong, "\n")
}

// findings gathers what is wrong in one try.
type findings struct {
	*testing.T
	wrong []string
}

// Errorf notes what is wrong.
func (f *findings) Errorf(format string, args ...any) {
	f.wrong = append(f.wrong, fmt.Sprintf(format, args...))
}

func must[T any](v T, err error) func(*testing.T) T {
	return func(t *testing.T) T {
		t.Helper()
		require.NoError(t, err)
		return v
	}
}

type guardedWorld struct {
	x guarded.Exercise
	m *world.Model
}

func (g *guardedWorld) at(t *testing.T, text string) time.Time {
	t.Helper()
	return must(schedule.Instant(text, reference, time.UTC))(t)
}

// address is that of a node; an agent, and nobody, stay what they are.
func (g *guardedWorld) address(t *testing.T, node string) string {
	t.Helper()
	if node == "" || guarded.Agents[node] != "" {
		return node
	}
	i := must(g.m.Find(node))(t)
	a, ok := g.m.Nodes()[i].Addr(wire.IPv4)
	require.True(t, ok)
	return a.String()
}

// report has the world measured and judged, and asks what is told.
func (g *guardedWorld) report(t *testing.T) (d apitype.Degraded) {
	t.Helper()
	s := storetest.New(t)
	c, err := service.New(t.Context(), service.Options{Store: s, Zone: time.UTC})
	require.NoError(t, err)
	start := reference.AddDate(0, 0, -g.x.Days)
	require.NoError(t, s.CoverDays(t.Context(), start, reference.AddDate(0, 0, 2)))
	for name, host := range guarded.Agents {
		require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: name, Kind: "simulated", Address: host}, nil))
	}
	past := c.Paths.Past()
	for i, p := range g.x.Paths {
		spec := watches.Spec{From: []string{p[0]}, To: []string{p[1]}}
		w, err := c.Watches.Save(t.Context(), ident.ID{}, fmt.Sprint(i), spec, false)
		require.NoError(t, err)
		g.measure(t, c, past, w.Paths[0], p, start)
	}
	require.NoError(t, past.Judge(t.Context()))
	const token = "0123456789abcdef0123456789abcdef"
	web := httptest.NewServer(api.New(api.Options{Service: c, Token: token}))
	defer web.Close()
	query := url.Values{"from_at": {g.at(t, g.x.Since).Format(time.RFC3339)}, "to_at": {reference.Format(time.RFC3339)}}
	r := must(http.NewRequest(http.MethodGet, web.URL+"/api/v1/reports/degraded?"+query.Encode(), nil))(t)
	r.Header.Set("Authorization", "Bearer "+token)
	answer := must(http.DefaultClient.Do(r))(t)
	defer answer.Body.Close()
	require.Equal(t, http.StatusOK, answer.StatusCode)
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&d))
	return d
}

func (g *guardedWorld) measure(t *testing.T, c *service.Service, past *paths.Past, id ident.ID, p [2]string, start time.Time) {
	t.Helper()
	host := guarded.Agents[p[0]]
	from, to := must(g.m.Find(host))(t), must(g.m.Find(p[1]))(t)
	addr, ok := g.m.Nodes()[to].Addr(wire.IPv4)
	require.True(t, ok)
	pinged := history.Path{From: from, To: addr, Interval: probed, Wait: 2 * time.Second, Phase: id.Phase(probed)}
	var failed error
	require.NoError(t, past.Add(t.Context(), id, func(yield func(paths.Minute) bool) {
		failed = history.Minutes(t.Context(), g.m, pinged, start, reference, func(r reading.Reading, probes []reading.Probe) error {
			if !yield(paths.Minute{Reading: r, Probes: probes}) {
				return t.Context().Err()
			}
			return nil
		})
	}))
	require.NoError(t, failed)
	way := history.Way{Agent: p[0], Host: host, Target: p[1], To: addr, Every: g.x.Routes, Probes: 10}
	traced, err := history.Routes(t.Context(), g.m, way, reference.AddDate(0, 0, -3), reference)
	require.NoError(t, err)
	agent := c.Fleet.Agents()[slices.IndexFunc(c.Fleet.Agents(), func(a store.Agent) bool { return a.Name == p[0] })].ID
	for _, x := range traced {
		past.Trace(agent, protocol.Trace{ID: ident.New(), Target: p[1], Family: wire.IPv4, Via: "icmp", Started: x.At, Ended: x.At.Add(x.Took), Outcome: protocol.Done, Report: &x.Report})
	}
}

// toldOf are the episodes that were told of a path, oldest first.
func (g *guardedWorld) toldOf(d apitype.Degraded, path [2]string) (list []apitype.Episode) {
	for _, p := range d.Now {
		if p.From == path[0] && p.To == path[1] {
			list = append(list, p.Episodes...)
		}
	}
	for _, e := range d.Ended {
		if e.Path.From == path[0] && e.Path.To == path[1] {
			list = append(list, e.Episodes...)
		}
	}
	slices.SortFunc(list, func(a, b apitype.Episode) int { return cmp.Or(a.FromAt.Compare(b.FromAt)) })
	return list
}

func doubtOf(e guarded.Told) time.Duration { return cmp.Or(e.Doubt, 5*time.Minute) }

func (g *guardedWorld) episodes(t *findings, d apitype.Degraded) {
	t.Helper()
	for _, path := range g.x.Paths {
		var want []guarded.Told
		for _, e := range g.x.Episodes {
			if e.Path == path {
				want = append(want, e)
			}
		}
		told := g.toldOf(d, path)
		if !assert.Len(t, told, len(want), "%s → %s: %s", path[0], path[1], sentences(told)) {
			continue
		}
		for i, e := range want {
			g.episode(t, e, told[i])
		}
	}
}

func sentences(list []apitype.Episode) string {
	var all []string
	for _, e := range list {
		all = append(all, e.FromAt.Format("Mon 15:04 ")+e.Sentence)
	}
	return strings.Join(all, " | ")
}

func (g *guardedWorld) episode(t *findings, want guarded.Told, got apitype.Episode) {
	t.Helper()
	name := want.Path[0] + " → " + want.Path[1]
	assert.Equal(t, want.Kind, got.Kind, name)
	assert.WithinDuration(t, g.at(t.T, want.Since), got.FromAt, doubtOf(want), name)
	if want.Until == "" {
		assert.Nil(t, got.ToAt, name)
	} else if assert.NotNil(t, got.ToAt, "%s is over", name) {
		assert.WithinDuration(t, g.at(t.T, want.Until), *got.ToAt, doubtOf(want), name)
	}
	if want.Measure != "" {
		assert.True(t, slices.ContainsFunc(got.Excesses, func(x apitype.Excess) bool { return x.Measure == want.Measure }), "%s: %s", name, got.Sentence)
	}
	if want.Cause != "" {
		assert.Equal(t, want.Cause, got.Cause, name)
	}
	if want.Hop != "" && assert.NotNil(t, got.Moved, name) {
		assert.Equal(t, g.address(t.T, want.Hop), got.Moved.Hop, name)
	}
	assert.GreaterOrEqual(t, got.Times, want.Times, name)
}

func (g *guardedWorld) properties(t *findings, d apitype.Degraded) {
	t.Helper()
	type one struct {
		path [2]string
		apitype.Property
	}
	var told []one
	for _, list := range [][]apitype.PathProperties{d.Recurs, d.Crept, d.NewLevels, d.Accepted} {
		for _, p := range list {
			for _, x := range p.Properties {
				told = append(told, one{[2]string{p.Path.From, p.Path.To}, x})
			}
		}
	}
	var all []string
	for _, x := range told {
		all = append(all, x.path[1]+": "+x.Sentence)
	}
	if !assert.Len(t, told, len(g.x.Properties), strings.Join(all, " | ")) {
		return
	}
	for _, want := range g.x.Properties {
		i := slices.IndexFunc(told, func(x one) bool { return x.path == want.Path && x.Kind == want.Kind && x.Measure == want.Measure })
		if !assert.GreaterOrEqual(t, i, 0, "%s of %v among %v", want.Kind, want.Path, all) {
			continue
		}
		got := told[i]
		if want.Since != "" {
			assert.WithinDuration(t, g.at(t.T, want.Since), got.SinceAt, doubtOf(want), got.Sentence)
		}
		for _, x := range [][2]string{{want.From, got.From}, {want.To, got.To}} {
			if x[0] != "" {
				a, b := must(time.Parse("15:04", x[0]))(t.T), must(time.Parse("15:04", x[1]))(t.T)
				assert.WithinDuration(t, a, b, 35*time.Minute, got.Sentence)
			}
		}
		assert.Equal(t, want.Accepted, got.AcceptedAt != nil, got.Sentence)
	}
}

func (g *guardedWorld) incidents(t *findings, d apitype.Degraded) {
	t.Helper()
	var all []string
	for _, x := range d.Incidents {
		all = append(all, x.Sentence)
	}
	if !assert.Len(t, d.Incidents, len(g.x.Incidents), strings.Join(all, " | ")) {
		return
	}
	for _, want := range g.x.Incidents {
		ends := [2]string{g.address(t.T, want.Hops[0]), g.address(t.T, want.Hops[1])}
		i := slices.IndexFunc(d.Incidents, func(x apitype.Incident) bool {
			return slices.ContainsFunc(x.Segments, func(s apitype.Segment) bool { return s.From == ends[0] && s.To == ends[1] })
		})
		if !assert.GreaterOrEqual(t, i, 0, "%v is named among %v", want.Hops, all) {
			continue
		}
		got := d.Incidents[i]
		assert.Len(t, got.Members, want.Count, got.Sentence)
		assert.WithinDuration(t, g.at(t.T, want.Since), got.BeganAt, doubtOf(want), got.Sentence)
		assert.Equal(t, want.Until == "", got.EndedAt == nil, got.Sentence)
	}
}
