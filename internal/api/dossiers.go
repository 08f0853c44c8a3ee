package api

import (
	"context"
	"crypto/ed25519"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/dossier"
	"woodlark.example/internal/service/dossiers"
	"woodlark.example/internal/service/selection"
)

type dossierOf struct {
	Period
	Paths     []string `query:"path_ids" doc:"These paths; those that are chosen otherwise when left out"`
	Sites     []string `query:"sites" doc:"At either end"`
	Agents    []string `query:"agents"`
	Targets   []string `query:"targets"`
	Tags      []string `query:"tags" doc:"Of watches"`
	Labels    []string `query:"labels" doc:"Of agents"`
	Objective string   `query:"objective" doc:"That paths are held against"`
	Title     string   `query:"title" maxLength:"200"`
	Mask      bool     `query:"mask" doc:"Replace addresses of one's own, each by another everywhere alike"`
}

func (s *server) registerDossiers(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/dossiers/key", "get-dossier-key", "The key that dossiers are signed with: tell its fingerprint to who gets one", "Reports"),
		func(ctx context.Context, _ *struct{}) (*body[apitype.DossierKey], error) {
			key, err := s.c.Dossiers.Key(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			public, _ := key.Public().(ed25519.PublicKey)
			return &body[apitype.DossierKey]{apitype.DossierKey{Fingerprint: dossier.Fingerprint(public), Public: public}}, nil
		})
	make := operation(http.MethodGet, "/dossiers/file", "make-dossier", "Evidence for somebody else in one ZIP: report, readings, routes, runs, captures and conditions, with a signed list of their SHA-256", "Reports", http.StatusNotFound)
	make.Responses = map[string]*huma.Response{"200": {Description: "The file", Content: map[string]*huma.MediaType{"application/zip": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}}
	huma.Register(a, make, func(ctx context.Context, in *dossierOf) (*huma.StreamResponse, error) {
		from, to, err := in.checked()
		if err != nil {
			return nil, s.problem(err)
		}
		spec := dossiers.Spec{From: from, To: to, Objective: in.Objective, Title: in.Title, Mask: in.Mask, Version: s.Version, Selection: selection.Selection{Sites: in.Sites, Agents: in.Agents, Targets: in.Targets, Tags: in.Tags, Labels: in.Labels}}
		for _, text := range in.Paths {
			id, err := parseID(text)
			if err != nil {
				return nil, s.problem(err)
			}
			spec.Paths = append(spec.Paths, id)
		}
		// It is made whole before any of it is sent: what goes wrong is told.
		f, err := os.CreateTemp("", "woodlark-dossier-")
		if err != nil {
			return nil, s.problem(err)
		}
		_ = os.Remove(f.Name()) // it goes with its last reader
		err = s.c.Dossiers.Write(ctx, f, spec)
		var size int64
		if err == nil {
			size, err = f.Seek(0, io.SeekCurrent)
		}
		if err == nil {
			_, err = f.Seek(0, io.SeekStart)
		}
		if err != nil {
			_ = f.Close()
			return nil, s.problem(err)
		}
		return &huma.StreamResponse{Body: func(c huma.Context) {
			defer f.Close()
			c.SetHeader("Content-Type", "application/zip")
			c.SetHeader("Content-Length", strconv.FormatInt(size, 10))
			c.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", "dossier-"+to.UTC().Format("2006-01-02")+".zip"))
			_, _ = io.Copy(c.BodyWriter(), f) // who hangs up has not got it
		}}, nil
	})
}
