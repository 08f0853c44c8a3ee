package api

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
)

type listAnnotations struct {
	Period
	Path string `query:"path_id" doc:"Of this path, with those of all; of all paths when left out"`
}

func (s *server) registerAnnotations(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/annotations", "list-annotations", "What people wrote of paths, in the order of time", "Reports", http.StatusUnprocessableEntity),
		func(ctx context.Context, in *listAnnotations) (*body[[]apitype.Annotation], error) {
			from, to, err := in.checked()
			if err != nil {
				return nil, s.problem(err)
			}
			var path ident.ID
			if in.Path != "" {
				if path, err = parseID(in.Path); err != nil {
					return nil, s.problem(err)
				}
			}
			out, err := s.annotations(ctx, path, from, to)
			if err != nil {
				return nil, s.problem(err)
			}
			see := s.sight(ctx)
			out = slices.DeleteFunc(out, func(a apitype.Annotation) bool {
				id, err := ident.Parse(a.PathID)
				return a.PathID != "" && (err != nil || !see.PathID(id)) // those of all are for all
			})
			return &body[[]apitype.Annotation]{out}, nil
		})
	add := operation(http.MethodPost, "/annotations", "add-annotation", "Write something of a path, or of all, at a time or over a span", "Reports", http.StatusNotFound)
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.AnnotationSpec]) (*body[apitype.Annotation], error) {
		x := store.Annotation{At: in.Body.At, Until: in.Body.Until, Author: in.Body.Author, Text: in.Body.Text}
		if in.Body.PathID != "" {
			id, err := parseID(in.Body.PathID)
			if err != nil {
				return nil, s.problem(err)
			}
			x.PathID = &id
		}
		kept, err := s.c.Annotations.Add(ctx, x)
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.Annotation]{s.annotationOf(kept)}, nil
	})
	remove := operation(http.MethodDelete, "/annotations/{id}", "remove-annotation", "Remove an annotation", "Reports", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *oneRun) (*struct{}, error) {
		id, err := parseID(in.ID)
		if err != nil {
			return nil, s.problem(err)
		}
		return nil, s.problem(s.c.Annotations.Remove(ctx, id))
	})
}

func (s *server) annotations(ctx context.Context, path ident.ID, from, to time.Time) ([]apitype.Annotation, error) {
	list, err := s.c.Annotations.Between(ctx, path, from, to)
	if err != nil {
		return nil, err
	}
	out := make([]apitype.Annotation, len(list))
	for i, a := range list {
		out[i] = s.annotationOf(a)
	}
	return out, nil
}

func (s *server) annotationOf(a store.Annotation) apitype.Annotation {
	out := apitype.Annotation{ID: a.ID.String(), AnnotationSpec: apitype.AnnotationSpec{At: a.At.UTC(), Author: a.Author, Text: a.Text}, MadeAt: a.MadeAt.UTC()}
	if a.Until != nil {
		out.Until = utc(*a.Until)
	}
	if a.PathID != nil {
		out.PathID = a.PathID.String()
		if agent, path, err := s.c.Paths.Ends(*a.PathID); err == nil {
			out.From, out.To = agent.Name, path.Target
		}
	}
	return out
}
