package guests

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/store"
)

// make makes the page of a link as things are now.
func (x *Guests) make(ctx context.Context, l store.GuestLink, now time.Time) ([]byte, error) {
	var s Subject
	if err := json.Unmarshal([]byte(l.Subject), &s); err != nil {
		return nil, fmt.Errorf("read guest link %s: %w", l.ID, err)
	}
	var d document.Document
	for _, line := range strings.Split(l.Notes, "\n") {
		if line = strings.TrimSpace(line); line != "" {
			d.Say("%s", line)
		}
	}
	if l.Notes != "" {
		d.Gap()
	}
	var err error
	switch l.What {
	case "path":
		err = x.path(ctx, &d, s, now)
	case "incident":
		err = x.incident(ctx, &d, s, now)
	case "run":
		err = x.run(ctx, &d, s)
	case "board":
		err = x.board(ctx, &d, s)
	default:
		err = x.period(ctx, &d, s.spec(now))
	}
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	about := document.About{Title: l.Title, Made: fmt.Sprintf("As it was on %s. This link ends on %s.", now.In(x.Zone).Format("2 January 2006 15:04:05 MST"), l.EndsAt.In(x.Zone).Format("2 January 2006 15:04 MST"))}
	if err := document.HTML(&out, about, d); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// spec is the period that a subject is of.
func (s Subject) spec(now time.Time) reports.Spec {
	last := s.Last
	if last == 0 {
		last = usualLast
	}
	from, to := now.Add(-last), now
	if !s.From.IsZero() {
		from, to = s.From, s.To
	}
	return reports.Spec{From: from, To: to, Objective: s.Objective, Selection: s.Of}
}

func (x *Guests) period(ctx context.Context, d *document.Document, s reports.Spec) error {
	r, err := x.Reports.Make(ctx, s)
	if err != nil {
		return err
	}
	return x.read(d, s, r)
}

func (x *Guests) read(d *document.Document, s reports.Spec, r *reports.Period) error {
	d.Say("%s", document.Faint(s.From.In(x.Zone).Format("Mon 2 Jan 2006 15:04")+" to "+s.To.In(x.Zone).Format("Mon 2 Jan 2006 15:04 MST")))
	d.Append(r.Document(x.Zone))
	return nil
}

func (x *Guests) path(ctx context.Context, d *document.Document, s Subject, now time.Time) error {
	id, err := ident.Parse(s.ID)
	if err != nil {
		return fmt.Errorf("%w: %q is no identifier of a path", kind.ErrInvalid, kind.Shorten(s.ID))
	}
	agent, p, err := x.Paths.Ends(id)
	if err != nil {
		return err
	}
	spec := s.spec(now)
	spec.Paths = []ident.ID{id}
	d.Say("%s%s", document.Strong(agent.Name+" → "+p.Target), document.Faint(fmt.Sprintf("  IPv%d", p.Family)))
	r, err := x.Reports.Make(ctx, spec)
	if err != nil {
		return err
	}
	if len(r.Degraded) > 0 { // it has its picture
		return x.read(d, spec, r)
	}
	plot, err := x.Reports.Plot(ctx, id, spec.From, spec.To)
	if err != nil {
		return err
	}
	if len(plot.Points) > 0 {
		d.Add(plot)
	}
	return x.read(d, spec, r)
}

func (x *Guests) incident(ctx context.Context, d *document.Document, s Subject, now time.Time) error {
	id, err := ident.Parse(s.ID)
	if err != nil {
		return fmt.Errorf("%w: %q is no identifier of an incident", kind.ErrInvalid, kind.Shorten(s.ID))
	}
	list, err := x.Incidents.Between(ctx, now.Add(-mostLast), now.Add(time.Hour))
	if err != nil {
		return err
	}
	var found *incidents.Incident
	for i := range list {
		if list[i].ID == id {
			found = &list[i]
		}
	}
	if found == nil {
		return fmt.Errorf("incident %s: %w", id, store.ErrNotFound)
	}
	spec := reports.Spec{From: found.From.Add(-incidentBefore), To: now, Objective: s.Objective}
	if !found.Open() {
		spec.To = found.To.Add(incidentBefore)
	}
	ids := x.Paths.IDs()
	for _, m := range found.Members {
		if p, is := ids[m.Path]; is {
			spec.Paths = append(spec.Paths, p)
		}
	}
	if len(spec.Paths) == 0 {
		return fmt.Errorf("the paths of incident %s: %w", id, store.ErrNotFound)
	}
	return x.period(ctx, d, spec)
}

func (x *Guests) board(ctx context.Context, d *document.Document, s Subject) error {
	b, err := x.Boards.Find(s.ID)
	if err != nil {
		return err
	}
	shown, err := x.Boards.Print(ctx, b.Parts)
	if err != nil {
		return err
	}
	d.Append(shown)
	return nil
}

func (x *Guests) run(ctx context.Context, d *document.Document, s Subject) error {
	id, err := ident.Parse(s.ID)
	if err != nil {
		return fmt.Errorf("%w: %q is no identifier of a run", kind.ErrInvalid, kind.Shorten(s.ID))
	}
	r, err := x.Store.Run(ctx, id)
	if err != nil {
		return err
	}
	if r.Outcome == protocol.Running {
		return fmt.Errorf("%w: run %s goes on; make a link once it has ended", kind.ErrInvalid, id)
	}
	k, err := kind.Find(r.Kind)
	if err != nil {
		return err
	}
	d.Field("from", "%s", x.Fleet.NameOf(r.AgentID))
	d.Field("to", "%s", r.Target)
	d.Field("begun", "%s", r.StartedAt.In(x.Zone).Format("Mon 2 Jan 2006 15:04:05 MST"))
	d.Field("outcome", "%s", string(r.Outcome))
	if r.Reason != "" {
		d.Field("why", "%s", r.Reason)
	}
	body, err := x.Store.ResultOf(ctx, r)
	if err != nil || len(body) == 0 {
		return err
	}
	result, err := k.ReadResult(r.Version, body)
	if err != nil {
		return err
	}
	var text bytes.Buffer
	if err := k.Print(kind.Page{To: &text, Format: "text", Zone: x.Zone}, []any{result}); err != nil {
		return err
	}
	d.Gap()
	d.Add(document.Picture{Lines: strings.Split(strings.TrimRight(text.String(), "\n"), "\n")})
	return nil
}
