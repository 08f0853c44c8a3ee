package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/geo"
	"woodlark.example/core/route"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/service/sites"
)

var csvFile = map[string]*huma.Response{"200": {Description: "The file", Content: map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: "string"}}}}}

func (s *server) registerSites(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/sites", "list-sites", "Sites by name: where they are and what stands at them", "Sites"),
		func(ctx context.Context, _ *struct{}) (*body[[]apitype.Site], error) {
			see := s.sight(ctx)
			return &body[[]apitype.Site]{slices.DeleteFunc(s.sites(), func(x apitype.Site) bool { return !see.Site(x.Name) })}, nil
		})
	huma.Register(a, operation(http.MethodPut, "/sites", "say-sites", "Say where sites are and what stands at them: all that are given or none. What was said of them before is replaced; others stay as they are", "Sites"),
		func(ctx context.Context, in *body[apitype.SitesSaid]) (*body[[]apitype.Site], error) {
			list := make([]sites.Site, len(in.Body.Sites))
			for i, x := range in.Body.Sites {
				list[i] = sites.Site{Name: x.Name, Targets: x.Targets, Note: x.Note}
				switch {
				case (x.Lat == nil) != (x.Lon == nil):
					return nil, s.problem(fmt.Errorf("%w: site %q: lat_deg and lon_deg belong together", kind.ErrInvalid, kind.Shorten(x.Name)))
				case x.Lat != nil:
					list[i].At = &geo.Place{Lat: *x.Lat, Lon: *x.Lon}
				}
			}
			return s.saySites(ctx, list)
		})
	huma.Register(a, operation(http.MethodPost, "/sites/import", "import-sites", "The same from CSV, with the headings name, latitude, longitude, targets and note", "Sites"),
		func(ctx context.Context, in *body[apitype.PlacesFile]) (*body[[]apitype.Site], error) {
			list, err := sites.ReadCSV(strings.NewReader(in.Body.CSV))
			if err != nil {
				return nil, s.problem(err)
			}
			return s.saySites(ctx, list)
		})
	out := operation(http.MethodGet, "/sites/export", "export-sites", "What was said of sites, as CSV that the import takes", "Sites")
	out.Responses = csvFile
	huma.Register(a, out, func(context.Context, *struct{}) (*file, error) {
		said := slices.DeleteFunc(s.c.Sites.All(), func(x sites.Site) bool { return !x.Kept })
		var b bytes.Buffer
		err := sites.WriteCSV(&b, said)
		return &file{"text/csv; charset=utf-8", `attachment; filename="sites.csv"`, apart, b.Bytes()}, s.problem(err)
	})
	remove := operation(http.MethodDelete, "/sites/{name}", "forget-site", "Forget what was said of a site; agents and targets that are at it stay there", "Sites", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *struct {
		Name string `path:"name"`
	}) (*struct{}, error) {
		return nil, s.problem(s.c.Sites.Remove(ctx, in.Name))
	})
}

func (s *server) saySites(ctx context.Context, list []sites.Site) (*body[[]apitype.Site], error) {
	if err := s.c.Sites.Save(ctx, list...); err != nil {
		return nil, s.problem(err)
	}
	return &body[[]apitype.Site]{s.sites()}, nil
}

func (s *server) sites() []apitype.Site {
	out := []apitype.Site{}
	for _, x := range s.c.Sites.All() {
		one := apitype.Site{SiteSpec: apitype.SiteSpec{Name: x.Name, Targets: x.Targets, Note: x.Note}, Agents: x.Agents, Paths: x.Paths, Said: x.Kept}
		if x.At != nil {
			one.Lat, one.Lon = &x.At.Lat, &x.At.Lon
		}
		out = append(out, one)
	}
	return out
}

func (s *server) registerOwners(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/owners", "list-owners", "Who has which prefixes, by prefix", "Sites"),
		func(context.Context, *struct{}) (*body[[]apitype.Owner], error) {
			return &body[[]apitype.Owner]{s.owners()}, nil
		})
	huma.Register(a, operation(http.MethodPut, "/owners", "say-owners", "Say who has prefixes: all that are given or none; others stay as they are. Traces from now on tell it", "Sites"),
		func(ctx context.Context, in *body[apitype.OwnersSaid]) (*body[[]apitype.Owner], error) {
			list := make([]route.Owner, len(in.Body.Owners))
			for i, x := range in.Body.Owners {
				var err error
				if list[i], err = route.ParseOwner(x.Prefix, x.Name, x.Kind); err != nil {
					return nil, s.problem(fmt.Errorf("%w: %w", kind.ErrInvalid, err))
				}
			}
			return s.sayOwners(ctx, list)
		})
	huma.Register(a, operation(http.MethodPost, "/owners/import", "import-owners", "The same from CSV: prefix, owner, kind", "Sites"),
		func(ctx context.Context, in *body[apitype.PlacesFile]) (*body[[]apitype.Owner], error) {
			table, err := route.ParseOwners(strings.NewReader(in.Body.CSV))
			if err != nil {
				return nil, s.problem(fmt.Errorf("%w: %w", kind.ErrInvalid, err))
			}
			return s.sayOwners(ctx, table.All())
		})
	out := operation(http.MethodGet, "/owners/export", "export-owners", "Who has which prefixes, as CSV that the import takes", "Sites")
	out.Responses = csvFile
	huma.Register(a, out, func(context.Context, *struct{}) (*file, error) {
		var rows [][]string
		for _, o := range s.c.Owners.All() {
			rows = append(rows, []string{o.Prefix.String(), o.Name, string(o.Kind)})
		}
		var b bytes.Buffer
		err := document.CSV(&b, document.Document{Records: document.RecordsOf([]string{"prefix", "owner", "kind"}, rows)})
		return &file{"text/csv; charset=utf-8", `attachment; filename="owners.csv"`, apart, b.Bytes()}, s.problem(err)
	})
	remove := operation(http.MethodDelete, "/owners", "forget-owner", "Forget who has a prefix", "Sites", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *struct {
		Prefix string `query:"prefix" required:"true"`
	}) (*struct{}, error) {
		p, err := netip.ParsePrefix(in.Prefix)
		if err != nil {
			return nil, s.problem(fmt.Errorf("%w: %q is no prefix, such as 203.0.113.0/24", kind.ErrInvalid, kind.Shorten(in.Prefix)))
		}
		return nil, s.problem(s.c.Owners.Remove(ctx, p.Masked()))
	})
}

func (s *server) sayOwners(ctx context.Context, list []route.Owner) (*body[[]apitype.Owner], error) {
	if err := s.c.Owners.Save(ctx, list...); err != nil {
		return nil, s.problem(err)
	}
	return &body[[]apitype.Owner]{s.owners()}, nil
}

func (s *server) owners() []apitype.Owner {
	out := []apitype.Owner{}
	for _, o := range s.c.Owners.All() {
		out = append(out, apitype.Owner{Prefix: o.Prefix.String(), Name: o.Name, Kind: string(o.Kind), Given: o.Given})
	}
	return out
}
