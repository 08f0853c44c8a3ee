package api

import (
	"context"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/paths"
)

func excessesOf(list []guard.Excess) []apitype.Excess {
	out := make([]apitype.Excess, len(list))
	for i, x := range list {
		out[i] = apitype.Excess{Measure: x.Measure.String(), Unit: string(x.Measure.Unit()), FromAt: x.From.UTC(), ToAt: utc(x.To), Normal: fine(x.Normal), Low: fine(x.Low), High: fine(x.High),
			Now: fine(x.Now), NowLow: fine(x.NowLow), NowHigh: fine(x.NowHigh), Worst: fine(x.Worst), Sent: x.Sent, Lost: x.Lost, Count: x.Readings, Least: fine(x.Tolerance)}
	}
	return out
}

func spansOf(list []baseline.Interval) []apitype.Span {
	out := make([]apitype.Span, len(list))
	for i, x := range list {
		out[i] = apitype.Span{FromAt: x.From.UTC(), ToAt: x.To.UTC()}
	}
	return out
}

func movedOf(r *guard.RouteChange, call func(string) string) *apitype.Moved {
	if r == nil {
		return nil
	}
	if call == nil {
		call = func(a string) string { return a }
	}
	name := func(a string) string {
		if a == "" {
			return ""
		}
		return call(a)
	}
	return &apitype.Moved{At: r.At.UTC(), BeforeAt: r.Before.UTC(), Near: r.Near, Hop: r.Hop, HopName: name(r.Hop), Was: r.Was, WasName: name(r.Was), Old: orEmpty(r.Old), New: orEmpty(r.New)}
}

func episodeOf(e paths.Episode, why finding.Why, incident ident.ID, zone *time.Location, now time.Time) apitype.Episode {
	why.Route, why.Seen = e.Route, e.Seen
	found := finding.OfEpisode(finding.Told{Episode: e.Episode, Zone: zone, Now: now, Why: why})
	return shapeEpisode(e, found, why.Name, incident)
}

func openEpisodeOf(o paths.OpenEpisode) apitype.Episode {
	return shapeEpisode(o.Episode, o.Findings, o.Call, o.Incident)
}

func shapeEpisode(e paths.Episode, found []finding.Finding, call func(string) string, incident ident.ID) apitype.Episode {
	out := apitype.Episode{ID: e.ID.String(), PathID: e.Path.String(), Kind: string(e.Kind), FromAt: e.From.UTC(), ToAt: utc(e.To), EarliestAt: e.Doubt.From.UTC(), LatestAt: e.Doubt.To.UTC(),
		ToldAt: e.ToldAt.UTC(), OverToldAt: utc(e.OverToldAt), Times: len(e.Pauses) + 1, Pauses: spansOf(e.Pauses), Unmeasured: spansOf(e.Unmeasured), NewLevelAt: utc(e.NewLevel),
		Cause: string(finding.Cause(found)), Sentence: found[0].Sentence, Findings: apitype.FindingsOf(found), Moved: movedOf(e.Route, call), Excesses: excessesOf(e.Excesses)}
	if !incident.IsZero() {
		id := incident.String()
		out.IncidentID = &id
	}
	return out
}

func weekdaysOf(set uint8) []string {
	var list []string
	for d := range time.Weekday(7) {
		if set&(1<<d) != 0 {
			list = append(list, d.String())
		}
	}
	return list
}

func propertyOf(p guard.Property, zone *time.Location) apitype.Property {
	f := finding.OfProperty(p, zone)
	out := apitype.Property{Kind: string(p.Kind), Measure: p.Measure.String(), Unit: string(p.Measure.Unit()), SinceAt: p.Since.UTC(), ToldAt: p.ToldAt.UTC(), Before: fine(p.Before), Now: fine(p.Now),
		ADay: fine(p.ADay), Days: p.Days, AcceptedAt: utc(p.AcceptedAt), EndedAt: utc(p.EndedAt), Waits: p.Waits(), Sentence: f.Sentence, Code: string(f.Code), Advice: f.Advice}
	if p.Kind == guard.Daily || p.Kind == guard.Weekly {
		out.Weekdays, out.From, out.To = weekdaysOf(p.Weekdays), clock(p.From), clock(p.To)
	}
	if p.Kind == guard.NewLevel && p.Waits() {
		out.AcceptsAt = utc(p.AcceptsBy())
	}
	return out
}

// incidentOf puts an incident into the words of the interface. paths are the identifiers of
// the paths by their keys.
func (s *server) incidentOf(x incidents.Incident, paths map[guard.Key]ident.ID) apitype.Incident {
	out := apitype.Incident{ID: x.ID.String(), BeganAt: x.From.UTC(), ToldAt: x.ToldAt.UTC(), EndedAt: utc(x.To), Segments: s.segmentsOf(x.Ends()), Others: s.segmentsOf(x.OtherEnds()),
		Measure: x.Measure.String(), Unit: string(x.Measure.Unit()), Excess: fine(x.Added()), Confidence: x.Sure, Sentence: x.Finding.Sentence, Advice: x.Finding.Advice, Members: []apitype.IncidentFor{}}
	for _, m := range x.Members {
		one := apitype.IncidentFor{From: m.Path.From, To: m.Path.To, Family: m.Path.Family, Via: m.Path.Via}
		if id, ok := paths[m.Path]; ok {
			one.PathID = id.String()
		}
		out.Members = append(out.Members, one)
	}
	return out
}

func (s *server) segmentsOf(ends [][2]string) []apitype.Segment {
	out := make([]apitype.Segment, len(ends))
	name := func(a string) string {
		if a == "" {
			return ""
		}
		return s.c.Devices.Call(a)
	}
	for i, e := range ends {
		out[i] = apitype.Segment{From: e[0], FromName: name(e[0]), To: e[1], ToName: name(e[1])}
	}
	return out
}

// incidents are those of a period.
func (s *server) incidents(ctx context.Context, from, to time.Time) ([]apitype.Incident, []incidents.Incident, error) {
	list, err := s.c.Incidents.Between(ctx, from, to)
	if err != nil {
		return nil, nil, err
	}
	list = s.narrowed(s.sight(ctx), list)
	paths := s.c.Paths.IDs()
	out := make([]apitype.Incident, len(list))
	for i, x := range list {
		out[i] = s.incidentOf(x, paths)
	}
	return out, list, nil
}

// episodes are those of a path that touch a stretch of time, with what they are put down to.
func (s *server) episodes(ctx context.Context, id ident.ID, from, to time.Time) ([]apitype.Episode, error) {
	rows, err := s.c.Store.Episodes(ctx, id, from, to)
	if err != nil {
		return nil, err
	}
	known, err := s.c.Incidents.Between(ctx, from, to)
	if err != nil {
		return nil, err
	}
	keys := s.c.Paths.Keys()
	now := time.Now()
	out := make([]apitype.Episode, len(rows))
	for i, row := range rows {
		out[i] = s.tellEpisode(paths.EpisodeOf(row), keys, known, now)
	}
	return out, nil
}

// tellEpisode says what a stored episode is put down to.
func (s *server) tellEpisode(e paths.Episode, keys map[ident.ID]guard.Key, incidents []incidents.Incident, now time.Time) apitype.Episode {
	why := finding.Why{Name: s.c.Devices.Call}
	var incident ident.ID
	for i := range incidents {
		if e.Number > 0 && incidents[i].Has(keys[e.Path], e.Number) {
			why.Shared, incident = &incidents[i].Incident, incidents[i].ID
		}
	}
	return episodeOf(e, why, incident, s.c.Zone(), now)
}
