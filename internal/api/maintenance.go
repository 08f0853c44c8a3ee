package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/schedule"
	"woodlark.example/internal/service/maintenance"
)

type oneMaintenance struct {
	Maintenance string `path:"maintenance" doc:"Name or identifier"`
}

func (s *server) registerMaintenance(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/maintenance", "list-maintenance", "Windows of maintenance, by name: paths are measured then, but neither judged nor learnt from", "Watches"),
		func(context.Context, *struct{}) (*body[[]apitype.Maintenance], error) {
			out := []apitype.Maintenance{}
			for _, w := range s.c.Maintenance.All() {
				out = append(out, s.maintenanceOf(w))
			}
			return &body[[]apitype.Maintenance]{out}, nil
		})
	add := operation(http.MethodPost, "/maintenance", "add-maintenance", "Add a window of maintenance: once, again and again, or by a calendar", "Watches")
	add.DefaultStatus = http.StatusCreated
	add.MaxBodyBytes = 12 << 20 // a calendar that is too long is told so
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.MaintenanceSpec]) (*body[apitype.Maintenance], error) {
		w, err := windowOf(in.Body)
		if err == nil {
			w, err = s.c.Maintenance.Save(ctx, w)
		}
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.Maintenance]{s.maintenanceOf(w)}, nil
	})
	remove := operation(http.MethodDelete, "/maintenance/{maintenance}", "remove-maintenance", "Remove a window of maintenance", "Watches", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *oneMaintenance) (*struct{}, error) {
		return nil, s.problem(s.c.Maintenance.Remove(ctx, in.Maintenance))
	})
}

// windowOf reads a window.
func windowOf(in apitype.MaintenanceSpec) (w maintenance.Window, err error) {
	w = maintenance.Window{Name: in.Name, Site: in.Site, Agent: in.Agent, Target: in.Target, Tag: in.Tag, Times: schedule.Times{Cron: in.Cron, Zone: in.Zone}, Calendar: in.Calendar, Address: in.Address}
	if in.FromAt != nil {
		w.From = in.FromAt.UTC()
	}
	if in.UntilAt != nil {
		w.Until = in.UntilAt.UTC()
	}
	if in.Lasts != "" {
		var d kind.Span
		if err := d.Set(in.Lasts); err != nil {
			return w, &kind.Wrong{Field: "lasts", Says: err.Error()}
		}
		w.Lasts = time.Duration(d)
	}
	return w, nil
}

func (s *server) maintenanceOf(w maintenance.Window) apitype.Maintenance {
	out := apitype.Maintenance{ID: w.ID.String(), MaintenanceSpec: apitype.MaintenanceSpec{Name: w.Name, Site: w.Site, Agent: w.Agent, Target: w.Target, Tag: w.Tag, Cron: w.Times.Cron, Zone: w.Times.Zone, Address: w.Address}}
	out.FromAt, out.UntilAt = utc(w.From), utc(w.Until)
	if w.Lasts > 0 {
		out.Lasts = w.Lasts.String()
	}
	out.CalendarBytes = len(w.Calendar)
	now := time.Now()
	if next, ok := s.c.Maintenance.Next(w, now); ok {
		out.Next = &apitype.Span{FromAt: next.From, ToAt: next.Until}
		out.NextName = next.Name
		out.Now = !now.Before(next.From)
	}
	return out
}
