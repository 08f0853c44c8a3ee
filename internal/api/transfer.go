package api

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/service/transfer"
)

type exportOf struct {
	Period
	Sites   []string `query:"sites" doc:"At either end"`
	Agents  []string `query:"agents"`
	Targets []string `query:"targets"`
	Tags    []string `query:"tags" doc:"Of watches"`
	Labels  []string `query:"labels" doc:"Of agents"`
}

// importOf are readings to be taken in. A call takes 1 MB.
type importOf struct {
	Readings []transfer.Line `json:"readings" maxItems:"20000"`
}

func (s *server) registerTransfer(a huma.API) {
	out := operation(http.MethodGet, "/export/readings", "export-readings", "Readings as they are kept, each probe with them, one a line (NDJSON), path after path; the last line says how many there were, so that a file that was cut is known", "Reports")
	out.Responses = map[string]*huma.Response{"200": {Description: "Readings", Content: map[string]*huma.MediaType{"application/x-ndjson": {Schema: &huma.Schema{Type: "string"}}}}}
	huma.Register(a, out, func(ctx context.Context, in *exportOf) (*huma.StreamResponse, error) {
		from, to, err := in.checked()
		if err != nil {
			return nil, s.problem(err)
		}
		spec := transfer.Spec{From: from, To: to, Sight: s.sight(ctx), Selection: selection.Selection{Sites: in.Sites, Agents: in.Agents, Targets: in.Targets, Tags: in.Tags, Labels: in.Labels}}
		if err := spec.Check(); err != nil {
			return nil, s.problem(err)
		}
		return &huma.StreamResponse{Body: func(c huma.Context) {
			c.SetHeader("Content-Type", "application/x-ndjson")
			w := bufio.NewWriterSize(c.BodyWriter(), 1<<16)
			lines := json.NewEncoder(w)
			n := 0
			if err := s.c.Transfer.Out(ctx, spec, func(l transfer.Line) error { n++; return lines.Encode(l) }); err != nil {
				s.Log.Error("readings were not handed out whole", "error", err) // the line at the end is missing
				_ = w.Flush()
				return
			}
			_ = lines.Encode(apitype.ExportEnd{End: true, Readings: n})
			_ = w.Flush()
		}}, nil
	})
	huma.Register(a, operation(http.MethodPost, "/import/readings", "import-readings", "Take readings of elsewhere in, as the export gives them: all or none. Those that are there already stay as they are; agents and paths that are not known are made, and measure nothing", "Reports"),
		func(ctx context.Context, in *body[importOf]) (*body[apitype.Imported], error) {
			n, err := s.c.Transfer.In(ctx, in.Body.Readings)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.Imported]{apitype.Imported{Readings: len(in.Body.Readings), Taken: n}}, nil
		})
}
