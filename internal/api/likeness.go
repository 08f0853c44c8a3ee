package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
)

// spanned is a path over a span.
type spanned struct {
	ID   string    `path:"id"`
	From time.Time `query:"from" required:"true" doc:"What was measured from this time on"`
	To   time.Time `query:"to" required:"true" doc:"And before this one, at most 24 hours later"`
}

func (s *server) registerLikenesses(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/likeness", "path-likeness", "A simulated network that behaves as a path did over a span, by what was measured then", "Paths", http.StatusUnprocessableEntity, http.StatusNotFound),
		func(ctx context.Context, in *spanned) (*body[apitype.LikeWorld], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			m, err := s.c.Likenesses.Of(ctx, id, in.From, in.To)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.LikeWorld]{apitype.LikeWorld{Likeness: m.Likeness, World: m.World, From: m.From, To: m.To}}, nil
		})
}
