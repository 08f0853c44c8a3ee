package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/kind"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/report/document/pdf"
	"woodlark.example/internal/service/boards"
	"woodlark.example/internal/store"
)

func (s *server) registerRunFile(a huma.API) {
	print := operation(http.MethodGet, "/runs/{id}/file", "print-run", "What a run found, as a file to hand on: one page of HTML that needs nothing else, PDF, CSV, JSON or text", "Runs", http.StatusNotFound, http.StatusConflict)
	print.Responses = map[string]*huma.Response{"200": {Description: "The file", Content: map[string]*huma.MediaType{}}}
	for _, form := range boards.Formats() {
		print.Responses["200"].Content[form] = &huma.MediaType{Schema: &huma.Schema{Type: "string", Format: "binary"}}
	}
	huma.Register(a, print, func(ctx context.Context, in *runFile) (*file, error) {
		id, err := parseID(in.ID)
		if err != nil {
			return nil, s.problem(err)
		}
		row, err := s.c.Store.Run(ctx, id)
		if err != nil {
			return nil, s.problem(err)
		}
		var out bytes.Buffer
		if err := s.writeRun(ctx, &out, row, in.Format); err != nil {
			return nil, s.problem(err)
		}
		ending := strings.Replace(in.Format, "text", "txt", 1)
		return &file{boards.Formats()[in.Format], fmt.Sprintf("inline; filename=%q", row.Kind+"-"+row.StartedAt.UTC().Format("2006-01-02-1504")+"."+ending), apart, out.Bytes()}, nil
	})
}

// writeRun writes what a run found in one of the formats.
func (s *server) writeRun(ctx context.Context, out *bytes.Buffer, row store.Run, format string) error {
	k, err := kind.Find(row.Kind)
	if err != nil {
		return err
	}
	raw, err := s.c.Store.ResultOf(ctx, row)
	if err != nil {
		return err
	}
	if len(raw) == 0 {
		return fmt.Errorf("run %s found nothing: %w", row.ID, store.ErrNotFound)
	}
	found, err := k.ReadResult(row.Version, raw)
	if err != nil {
		return err
	}
	if format == "text" || format == "csv" || format == "json" {
		return k.Print(kind.Page{To: out, Format: format, Zone: s.c.Reports.Zone}, []any{found})
	}
	d := k.Document([]any{found}, s.c.Reports.Zone)
	now := time.Now()
	about := document.About{Title: "Woodlark: " + k.Name, Subject: k.Summary, Made: "Printed " + now.In(s.c.Reports.Zone).Format("Mon 2 Jan 2006 15:04 MST") + " by Woodlark"}
	if t, is := found.(interface{ Title() string }); is {
		about.Title = t.Title()
	}
	if format == "pdf" {
		return pdf.Print(out, about, now, d)
	}
	return document.HTML(out, about, d)
}
