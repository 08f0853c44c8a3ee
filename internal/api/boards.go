package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/service/boards"
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
		func(context.Context, *struct{}) (*body[[]apitype.Board], error) {
			out := []apitype.Board{}
			for _, b := range s.c.Boards.All() {
				out = append(out, boardOf(b))
			}
			return &body[[]apitype.Board]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/boards/{id}", "get-board", "A board: its parts", "Boards", http.StatusNotFound),
		func(_ context.Context, in *OneBoard) (*body[apitype.Board], error) {
			b, err := s.c.Boards.Find(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.Board]{boardOf(b)}, nil
		})
	add := operation(http.MethodPost, "/boards", "add-board", "Keep a new board", "Boards", http.StatusConflict)
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.BoardSpec]) (*body[apitype.Board], error) {
		b, err := s.c.Boards.Add(ctx, boards.Board{Name: in.Body.Name, Parts: in.Body.Parts})
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
		b, err := s.c.Boards.Find(in.ID)
		if err != nil {
			return nil, s.problem(err)
		}
		if b, err = s.c.Boards.Change(ctx, boards.Board{ID: b.ID, Name: in.Body.Name, Parts: in.Body.Parts, Revision: in.Body.Revision}); err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.Board]{boardOf(b)}, nil
	})
	remove := operation(http.MethodDelete, "/boards/{id}", "remove-board", "Remove a board", "Boards", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *OneBoard) (*struct{}, error) {
		b, err := s.c.Boards.Find(in.ID)
		if err != nil {
			return nil, s.problem(err)
		}
		return nil, s.problem(s.c.Boards.Remove(ctx, b.ID))
	})
	huma.Register(a, operation(http.MethodGet, "/boards/{id}/shown", "show-board", "What stands on a board now", "Boards", http.StatusNotFound),
		func(ctx context.Context, in *OneBoard) (*body[*boards.Shown], error) {
			b, err := s.c.Boards.Find(in.ID)
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
		b, err := s.c.Boards.Find(in.ID)
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
	return apitype.Board{ID: b.ID.String(), BoardSpec: apitype.BoardSpec{Name: b.Name, Parts: parts}, Revision: b.Revision, ChangedBy: b.ChangedBy, ChangedAt: b.ChangedAt.UTC()}
}
