package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/selection"
)

// ReportOf says what a report is of.
type ReportOf struct {
	Period
	Objective string   `query:"objective" doc:"That paths are held against; none when left out"`
	Title     string   `query:"title" maxLength:"200"`
	Sites     []string `query:"sites" doc:"At either end"`
	Agents    []string `query:"agents"`
	Targets   []string `query:"targets"`
	Tags      []string `query:"tags" doc:"Of watches"`
	Labels    []string `query:"labels" doc:"Of agents"`
}

func (in ReportOf) spec() (s reports.Spec, err error) {
	from, to, err := in.checked()
	return reports.Spec{From: from, To: to, Objective: in.Objective, Title: in.Title, Selection: selection.Selection{Sites: in.Sites, Agents: in.Agents, Targets: in.Targets, Tags: in.Tags, Labels: in.Labels}}, err
}

type reportFile struct {
	ReportOf
	Format string `query:"format" enum:"text,html,pdf,csv,json" default:"html"`
}

// file is an answer that is kept as it comes.
type file struct {
	ContentType        string `header:"Content-Type"`
	ContentDisposition string `header:"Content-Disposition"`
	Security           string `header:"Content-Security-Policy"`
	Body               []byte
}

// apart is the policy of what is shown as it comes: it fetches nothing and runs nothing.
const apart = "default-src 'none'; style-src 'unsafe-inline'; img-src data:; frame-ancestors 'none'; sandbox"

func (s *server) registerPeriod(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/reports/period", "report-period", "What got worse in a period, before and after, how available each path was, and what else changed", "Reports"),
		func(ctx context.Context, in *ReportOf) (*body[*reports.Period], error) {
			spec, err := in.spec()
			if err != nil {
				return nil, s.problem(err)
			}
			r, err := s.c.Reports.Make(ctx, spec)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[*reports.Period]{r}, nil
		})
	print := operation(http.MethodGet, "/reports/period/file", "print-report-period", "The same as a file to hand on: one page of HTML that needs nothing else, PDF, CSV, JSON or text", "Reports")
	print.Responses = map[string]*huma.Response{"200": {Description: "The file", Content: map[string]*huma.MediaType{}}}
	for _, form := range reports.Formats() {
		print.Responses["200"].Content[form] = &huma.MediaType{Schema: &huma.Schema{Type: "string", Format: "binary"}}
	}
	huma.Register(a, print, func(ctx context.Context, in *reportFile) (*file, error) {
		spec, err := in.spec()
		if err != nil {
			return nil, s.problem(err)
		}
		r, err := s.c.Reports.Make(ctx, spec)
		if err != nil {
			return nil, s.problem(err)
		}
		var out bytes.Buffer
		if err := r.Print(&out, in.Format, s.c.Zone()); err != nil {
			return nil, s.problem(err)
		}
		return &file{reports.Formats()[in.Format], fmt.Sprintf("inline; filename=%q", fileName(in.Format, r.ToAt)), apart, out.Bytes()}, nil
	})
}

func fileName(format string, at time.Time) string {
	ending := format
	if ending == "text" {
		ending = "txt"
	}
	return "degraded-paths-" + at.Format("2006-01-02") + "." + ending
}
