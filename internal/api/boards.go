package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/boards"
	"woodlark.example/internal/service/people"
)

// OneBoard names a board.
type OneBoard struct {
	ID string `path:"id" doc:"Identifier or name"`
}

type boardFile struct {
	OneBoard
	Format string `query:"format" enum:"text,html,pdf,csv,json" default:"html"`
}

// BoardParts are parts that are looked at before they are kept.
type BoardParts struct {
	Parts []boards.Part `json:"parts" maxItems:"40"`
}

func (s *server) registerBoards(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/boards", "list-boards", "Pages of one's own, by name", "Boards"),
		func(ctx context.Context, _ *struct{}) (*body[[]apitype.Board], error) {
			out := []apitype.Board{}
			for _, b := range s.c.Boards.All() {
				if sees(ctx)(b) {
					out = append(out, boardOf(b))
				}
			}
			return &body[[]apitype.Board]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/boards/{id}", "get-board", "A board: its parts", "Boards", http.StatusNotFound),
		func(ctx context.Context, in *OneBoard) (*body[apitype.Board], error) {
			b, err := s.c.Boards.FindFor(in.ID, sees(ctx))
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.Board]{boardOf(b)}, nil
		})
	add := operation(http.MethodPost, "/boards", "add-board", "Keep a new board", "Boards", http.StatusConflict)
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.BoardSpec]) (*body[apitype.Board], error) {
		with, err := s.sharedWith(ctx, in.Body.SharedWith)
		if err != nil {
			return nil, s.problem(err)
		}
		b, err := s.c.Boards.Add(ctx, boards.Board{Name: in.Body.Name, Parts: in.Body.Parts, SharedWith: with})
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.Board]{boardOf(b)}, nil
	})
	change := operation(http.MethodPut, "/boards/{id}", "change-board", "Change a board", "Boards", http.StatusNotFound, http.StatusConflict)
	huma.Register(a, change, func(ctx context.Context, in *struct {
		OneBoard
		Body apitype.BoardChange
	}) (*body[apitype.Board], error) {
		b, err := s.c.Boards.FindFor(in.ID, sees(ctx))
		if err != nil {
			return nil, s.problem(err)
		}
		with, err := s.sharedWith(ctx, in.Body.SharedWith)
		if err != nil {
			return nil, s.problem(err)
		}
		if b, err = s.c.Boards.Change(ctx, boards.Board{ID: b.ID, Name: in.Body.Name, Parts: in.Body.Parts, SharedWith: with, Revision: in.Body.Revision}); err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.Board]{boardOf(b)}, nil
	})
	remove := operation(http.MethodDelete, "/boards/{id}", "remove-board", "Remove a board", "Boards", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *OneBoard) (*struct{}, error) {
		b, err := s.c.Boards.FindFor(in.ID, sees(ctx))
		if err != nil {
			return nil, s.problem(err)
		}
		return nil, s.problem(s.c.Boards.Remove(ctx, b.ID))
	})
	huma.Register(a, operation(http.MethodGet, "/boards/{id}/shown", "show-board", "What stands on a board now", "Boards", http.StatusNotFound),
		func(ctx context.Context, in *OneBoard) (*body[*boards.Shown], error) {
			b, err := s.c.Boards.FindFor(in.ID, sees(ctx))
			if err != nil {
				return nil, s.problem(err)
			}
			return s.shown(ctx, b.Parts)
		})
	huma.Register(a, operation(http.MethodPost, "/boards/shown", "show-board-parts", "What would stand on a board of these parts now; nothing is kept", "Boards"),
		func(ctx context.Context, in *body[BoardParts]) (*body[*boards.Shown], error) {
			return s.shown(ctx, in.Body.Parts)
		})
	s.registerBoardFile(a)
}

// sees tells which boards who calls sees.
func sees(ctx context.Context) func(boards.Board) bool {
	w := people.Of(ctx)
	return func(b boards.Board) bool {
		return len(b.SharedWith) == 0 || w.May(people.Administrator) || slices.Contains(b.SharedWith, w.Name)
	}
}

// sharedWith are the people of those names, each once; who calls is among them, or an
// administrator: nobody hides a board from themselves.
func (s *server) sharedWith(ctx context.Context, names []string) (list []string, err error) {
	for _, n := range names {
		p, err := s.c.People.Find(strings.TrimSpace(n))
		if err != nil {
			// Who there is is for administrators to know.
			return nil, fmt.Errorf("%w: a board cannot be shared with %q: there is no such person", kind.ErrInvalid, kind.Shorten(n))
		}
		if !slices.Contains(list, p.Name) {
			list = append(list, p.Name)
		}
	}
	slices.Sort(list)
	if w := people.Of(ctx); len(list) > 0 && !w.May(people.Administrator) && !slices.Contains(list, w.Name) {
		return nil, fmt.Errorf("%w: you would not see this board yourself: share it with %s, too", kind.ErrInvalid, w.Name)
	}
	return list, nil
}

func (s *server) shown(ctx context.Context, parts []boards.Part) (*body[*boards.Shown], error) {
	shown, err := s.c.Boards.Show(ctx, parts)
	if err != nil {
		return nil, s.problem(err)
	}
	return &body[*boards.Shown]{shown}, nil
}

func (s *server) registerBoardFile(a huma.API) {
	print := operation(http.MethodGet, "/boards/{id}/file", "print-board", "What stands on a board now, as a file to hand on: one page of HTML that needs nothing else, PDF, CSV, JSON or text", "Boards", http.StatusNotFound)
	print.Responses = map[string]*huma.Response{"200": {Description: "The file", Content: map[string]*huma.MediaType{}}}
	for _, form := range boards.Formats() {
		print.Responses["200"].Content[form] = &huma.MediaType{Schema: &huma.Schema{Type: "string", Format: "binary"}}
	}
	huma.Register(a, print, func(ctx context.Context, in *boardFile) (*file, error) {
		b, err := s.c.Boards.FindFor(in.ID, sees(ctx))
		if err != nil {
			return nil, s.problem(err)
		}
		var out bytes.Buffer
		if err := s.c.Boards.Write(ctx, &out, b, in.Format); err != nil {
			return nil, s.problem(err)
		}
		ending := strings.Replace(in.Format, "text", "txt", 1)
		return &file{boards.Formats()[in.Format], fmt.Sprintf("inline; filename=%q", "board-"+time.Now().UTC().Format("2006-01-02-1504")+"."+ending), apart, out.Bytes()}, nil
	})
}

func boardOf(b boards.Board) apitype.Board {
	parts := b.Parts
	if parts == nil {
		parts = []boards.Part{}
	}
	return apitype.Board{ID: b.ID.String(), BoardSpec: apitype.BoardSpec{Name: b.Name, Parts: parts, SharedWith: b.SharedWith}, Revision: b.Revision, ChangedBy: b.ChangedBy, ChangedAt: b.ChangedAt.UTC()}
}
