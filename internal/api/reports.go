package api

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/baseline"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/controller"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
)

type period struct {
	From time.Time `query:"from_at" doc:"A day ago when left out"`
	To   time.Time `query:"to_at" doc:"Now when left out"`
}

func (s *server) registerReports(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/status", "get-status", "How the service and its paths stand", "Reports"),
		func(context.Context, *struct{}) (*body[apitype.Status], error) {
			views := s.c.Views(controller.Filter{})
			since, why := s.c.Away()
			out := apitype.Status{Version: s.Version, Now: time.Now().UTC(), Zone: s.c.Zone().String(), Paths: count(views), Watches: len(s.c.Watches()),
				Agents: len(s.c.Agents()), HeldBack: s.c.HeldBack(), DatabaseAwaySince: utc(since), DatabaseAwayWhy: why, DiskFull: s.c.Disk(), SetAside: s.c.SetAside(), ClocksOff: []apitype.ClockOff{}, Summary: summary(views)}
			for name, off := range s.c.Clocks() {
				out.ClocksOff = append(out.ClocksOff, apitype.ClockOff{Agent: name, OffsetS: off.Seconds()})
			}
			slices.SortFunc(out.ClocksOff, func(a, b apitype.ClockOff) int { return cmp.Compare(a.Agent, b.Agent) })
			return &body[apitype.Status]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/degraded", "report-degraded", "The paths that are or were worse than their baselines", "Reports"),
		func(ctx context.Context, in *period) (*body[apitype.Degraded], error) {
			out, err := s.degraded(ctx, *in)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.Degraded]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/notices", "list-notices", "What is to know of the service itself, newest first", "Reports"),
		func(ctx context.Context, in *period) (*body[[]apitype.Notice], error) {
			if in.From.IsZero() {
				in.From = time.Now().Add(-24 * time.Hour)
			}
			list, err := s.c.Store().Notices(ctx, in.From)
			if err != nil {
				return nil, s.problem(err)
			}
			out := []apitype.Notice{}
			for _, n := range list {
				out = append(out, apitype.Notice{At: n.At.UTC(), Kind: n.Kind, Text: n.Text})
			}
			return &body[[]apitype.Notice]{out}, nil
		})
}

// listChanges pages through the record of changes.
type listChanges struct{ Paging }

func (s *server) registerChanges(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/changes", "list-changes", "Who changed what, newest first", "Reports"),
		func(ctx context.Context, in *listChanges) (*listed[apitype.Change], error) {
			page, err := in.page()
			if err != nil {
				return nil, s.problem(err)
			}
			list, err := s.c.Store().Changes(ctx, page)
			if err != nil {
				return nil, s.problem(err)
			}
			out := make([]apitype.Change, len(list))
			var last store.Change
			for i, x := range list {
				out[i] = apitype.Change{ID: x.ID.String(), At: x.At.UTC(), Who: x.Who, What: x.What, Name: x.Name, Detail: json.RawMessage(x.Detail)}
				last = x
			}
			return pageOf(out, in.Paging, url.Values{}, last.At, last.ID), nil
		})
}

func count(views []controller.View) map[string]int {
	counts := map[string]int{}
	for _, st := range baseline.States() {
		counts[string(st)] = 0
	}
	for _, v := range views {
		counts[string(v.Verdict.State)]++
	}
	return counts
}

// summary says in one line how the paths stand.
func summary(views []controller.View) string {
	degraded, lost, never, unmeasured, daily := 0, 0, 0, 0, 0
	for _, v := range views {
		switch {
		case v.Verdict.Never:
			never++
		case v.Verdict.State == baseline.StateLost:
			lost++
		case v.Verdict.State == baseline.StateDegraded:
			degraded++
		case v.Verdict.State == baseline.StateUnmeasured:
			unmeasured++
		}
		if v.Daily != nil {
			daily++
		}
	}
	if len(views) == 0 {
		return "No path is watched yet."
	}
	text := fmt.Sprintf("%d of %s degraded", degraded, plural(len(views), "path"))
	for _, part := range []struct {
		n    int
		says string
	}{{lost, "lost"}, {never, "never answered"}, {unmeasured, "unmeasured"}} {
		if part.n > 0 {
			text += fmt.Sprintf(", %d %s", part.n, part.says)
		}
	}
	switch {
	case daily == 1:
		text += "; 1 gets worse at the same hours every day"
	case daily > 1:
		text += fmt.Sprintf("; %d get worse at the same hours every day", daily)
	}
	return text + "."
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func (s *server) degraded(ctx context.Context, in period) (apitype.Degraded, error) {
	from, to := spanOfPath{From: in.From, To: in.To}.span()
	if !to.After(from) {
		return apitype.Degraded{}, fmt.Errorf("%w: from_at %s is not before to_at %s", controller.ErrInvalid, from.Format(time.RFC3339), to.Format(time.RFC3339))
	}
	episodes, err := s.c.Store().Episodes(ctx, ident.ID{}, from, to)
	if err != nil {
		return apitype.Degraded{}, err
	}
	byPath := map[ident.ID][]apitype.Episode{}
	for _, e := range episodes {
		byPath[e.PathID] = append(byPath[e.PathID], episodeOf(e))
	}
	views := s.c.Views(controller.Filter{})
	out := apitype.Degraded{FromAt: from.UTC(), ToAt: to.UTC(), Watched: len(views), Summary: summary(views),
		Now: []apitype.Path{}, Daily: []apitype.Path{}, Ended: []apitype.PathEpisodes{}, Never: []apitype.Path{}}
	for _, v := range views {
		p := pathOf(v, to, false)
		switch {
		case v.Verdict.Never:
			out.Never = append(out.Never, p)
		case v.Verdict.Episode != nil:
			out.Now = append(out.Now, p)
		case v.Daily != nil:
			out.Daily = append(out.Daily, p)
		case len(byPath[v.ID]) > 0:
			out.Ended = append(out.Ended, apitype.PathEpisodes{Path: p, Episodes: byPath[v.ID]})
		}
	}
	return out, nil
}
