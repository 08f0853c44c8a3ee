package api

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/store"
)

type evidenceOf struct {
	ID      string `path:"id" format:"uuid" doc:"Of the path"`
	Episode string `query:"episode" format:"uuid" required:"true" doc:"Of one of its episodes"`
}

func (s *server) registerEvidence(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/evidence", "list-evidence", "What was measured as an episode opened and as it closed, and the same as it was before", "Paths", http.StatusNotFound),
		func(ctx context.Context, in *evidenceOf) (*body[[]apitype.Evidence], error) {
			list, err := s.evidence(ctx, in)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[[]apitype.Evidence]{list}, nil
		})
}

func (s *server) evidence(ctx context.Context, in *evidenceOf) (out []apitype.Evidence, err error) {
	out = []apitype.Evidence{}
	path, err := parseID(in.ID)
	if err != nil {
		return nil, err
	}
	if _, _, err := s.c.Paths.Ends(path); err != nil {
		return nil, err
	}
	episode, err := parseID(in.Episode)
	if err != nil {
		return nil, err
	}
	list, err := s.c.Store.EvidenceOf(ctx, episode)
	if err != nil {
		return nil, err
	}
	before := map[string]bool{}
	for _, e := range list {
		if e.PathID != path {
			continue
		}
		x := apitype.Evidence{Phase: e.Phase, What: e.What, At: e.At.UTC(), Says: e.Says}
		if e.RunID == nil {
			out = append(out, x)
			continue
		}
		r, err := s.c.Store.Run(ctx, *e.RunID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		if err == nil {
			run := s.runOf(r)
			x.Run = &run
			if e.Phase == "opening" && !before[e.What] {
				before[e.What] = true
				was, err := s.before(ctx, r)
				if err != nil {
					return nil, err
				}
				if was != nil {
					out = append(out, apitype.Evidence{Phase: "before", What: e.What, At: was.StartAt, Run: was})
				}
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// before is the last run of the same that was done before another; nil when there is none.
func (s *server) before(ctx context.Context, r store.Run) (*apitype.Run, error) {
	list, err := s.c.Store.Runs(ctx, store.RunFilter{Kind: r.Kind, Agent: r.AgentID, Target: r.Target, Via: r.Via, Outcome: "done", To: r.StartedAt, Page: store.Page{Limit: 1}})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	was := s.runOf(list[0])
	return &was, nil
}
