package api

import (
	"context"
	"fmt"
	"slices"
	"time"

	"woodlark.example/core/guard"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
)

func count(views []service.View) map[string]int {
	counts := map[string]int{}
	for _, st := range guard.States() {
		counts[string(st)] = 0
	}
	for _, v := range views {
		counts[string(v.Verdict.State)]++
	}
	return counts
}

// summary says in one line how the paths stand.
func summary(views []service.View, incidents []incidents.Incident) string {
	degraded, lost, never, unmeasured, rhythm := 0, 0, 0, 0, 0
	for _, v := range views {
		switch {
		case v.Verdict.Never:
			never++
		case v.Verdict.State == guard.StateLost:
			lost++
		case v.Verdict.State == guard.StateDegraded:
			degraded++
		case v.Verdict.State == guard.StateUnmeasured:
			unmeasured++
		}
		if v.Rhythm() != nil {
			rhythm++
		}
	}
	if len(views) == 0 {
		return "No path is watched yet."
	}
	text := fmt.Sprintf("%d of %s degraded", degraded, plural(len(views), "path"))
	shared := 0
	for _, x := range incidents {
		shared += len(x.Members)
	}
	switch {
	case len(incidents) == 1:
		text += fmt.Sprintf(", %d of them in one incident", shared)
	case len(incidents) > 1:
		text += fmt.Sprintf(", %d of them in %d incidents", shared, len(incidents))
	}
	for _, part := range []struct {
		n    int
		says string
	}{{lost, "lost"}, {never, "never answered"}, {unmeasured, "unmeasured"}} {
		if part.n > 0 {
			text += fmt.Sprintf(", %d %s", part.n, part.says)
		}
	}
	switch {
	case rhythm == 1:
		text += "; 1 gets worse at the same hours every day"
	case rhythm > 1:
		text += fmt.Sprintf("; %d get worse at the same hours every day", rhythm)
	}
	return text + "."
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// saidFor is for how long the report says that something was taken for normal.
const saidFor = 7 * 24 * time.Hour

// isNow is how far back the end of a period may lie and still be now.
const isNow = 2 * time.Minute

func (s *server) degraded(ctx context.Context, in Period) (apitype.Degraded, error) {
	from, to, err := in.checked()
	if err != nil {
		return apitype.Degraded{}, err
	}
	rows, err := s.c.Store.Episodes(ctx, ident.ID{}, from, to)
	if err != nil {
		return apitype.Degraded{}, err
	}
	incidents, known, err := s.incidents(ctx, from, to)
	if err != nil {
		return apitype.Degraded{}, err
	}
	now := time.Now()
	live := now.Sub(to) < isNow
	keys := s.c.Paths.Keys()
	see := s.sight(ctx)
	over, going := map[ident.ID][]apitype.Episode{}, map[ident.ID][]apitype.Episode{}
	rows = slices.DeleteFunc(rows, func(r store.Episode) bool { return !see.PathID(r.PathID) })
	for _, row := range rows {
		e := s.tellEpisode(paths.EpisodeOf(row), keys, known, to)
		if row.ToAt == nil || row.ToAt.After(to) {
			going[row.PathID] = append(going[row.PathID], e)
		} else {
			over[row.PathID] = append(over[row.PathID], e)
		}
	}
	views := s.c.Views(service.Filter{Sight: see})
	out := apitype.Degraded{FromAt: from.UTC(), ToAt: to.UTC(), Watched: len(views), Incidents: incidents,
		Now: []apitype.Path{}, Daily: []apitype.Path{}, Ended: []apitype.PathEpisodes{}, Never: []apitype.Path{},
		Recurs: []apitype.PathProperties{}, Crept: []apitype.PathProperties{}, NewLevels: []apitype.PathProperties{}, Accepted: []apitype.PathProperties{}, NotJudged: []apitype.NotJudged{}}
	out.Summary = summary(views, s.narrowed(see, s.c.Incidents.Open()))
	if !live {
		out.Summary = fmt.Sprintf("%s of %s were degraded or lost at the end of that time, %s in it; %s.", plural(len(going), "path"), plural(len(views), "path"), plural(len(rows), "episode"), plural(len(incidents), "incident"))
	}
	for _, v := range views {
		s.report(&out, v, live, going[v.ID], over[v.ID], to)
	}
	out.Says = fmt.Sprintf("%s as ever.", plural(out.Healthy, "path"))
	if out.Healthy == 1 {
		out.Says = "1 path as ever."
	}
	return out, nil
}

// report puts a path where it belongs in the report.
func (s *server) report(out *apitype.Degraded, v service.View, live bool, going, over []apitype.Episode, to time.Time) {
	told := false
	switch {
	case live && v.Verdict.Never:
		out.Never = append(out.Never, pathOf(v, s.c.Zone(), to, false))
		told = true
	case live && len(v.Verdict.Open) > 0:
		out.Now = append(out.Now, pathOf(v, s.c.Zone(), to, false))
		told = true
	case !live && len(going) > 0:
		out.Now = append(out.Now, pathThen(pathOf(v, s.c.Zone(), to, false), going))
		told = true
	}
	if len(over) > 0 {
		out.Ended = append(out.Ended, apitype.PathEpisodes{Path: pathOf(v, s.c.Zone(), to, false), Episodes: over})
		told = true
	}
	name := apitype.PathName{ID: v.ID.String(), From: v.Agent.Name, To: v.Target, Family: int(v.Family), Via: v.Via}
	var recurs, crept, levels, accepted []apitype.Property
	for _, p := range v.Properties {
		if !p.EndedAt.IsZero() || p.ToldAt.After(to) {
			continue
		}
		switch {
		case p.Kind == guard.Daily || p.Kind == guard.Weekly:
			recurs = append(recurs, propertyOf(p, s.c.Zone()))
		case p.Kind == guard.Creeping && p.AcceptedAt.IsZero():
			crept = append(crept, propertyOf(p, s.c.Zone()))
		case p.Kind == guard.NewLevel && p.Waits():
			levels = append(levels, propertyOf(p, s.c.Zone()))
		case to.Sub(p.AcceptedAt) < saidFor:
			accepted = append(accepted, propertyOf(p, s.c.Zone()))
		}
	}
	for _, x := range []struct {
		to   *[]apitype.PathProperties
		list []apitype.Property
	}{{&out.Recurs, recurs}, {&out.Crept, crept}, {&out.NewLevels, levels}, {&out.Accepted, accepted}} {
		if len(x.list) > 0 {
			*x.to = append(*x.to, apitype.PathProperties{Path: name, Properties: x.list})
			told = true
		}
	}
	if live && v.Verdict.Open == nil && v.Rhythm() != nil {
		out.Daily = append(out.Daily, pathOf(v, s.c.Zone(), to, false))
	}
	if n, is := v.NotJudged(s.c.Zone()); is && live {
		out.NotJudged = append(out.NotJudged, apitype.NotJudged{Path: name, Why: n.Why, Says: n.Says, Until: utc(n.Until)})
		told = true
	}
	if !told {
		out.Healthy++
	}
}

// pathThen is a path as it was when episodes went on that may be over by now.
func pathThen(p apitype.Path, going []apitype.Episode) apitype.Path {
	p.State, p.Findings, p.Episodes, p.Excesses = going[0].Kind, going[0].Findings, going, nil
	p.SinceAt, p.Last, p.Normal = &going[0].FromAt, nil, nil
	for _, e := range going {
		p.Excesses = append(p.Excesses, e.Excesses...)
		if e.Kind == string(guard.Lost) {
			p.State = e.Kind
		}
	}
	return p
}
