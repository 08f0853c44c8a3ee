package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/needfile"
	"woodlark.example/internal/service/guests"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/store"
)

const mostOpenings = 1000

func (s *server) registerGuests(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/guest-links", "list-guest-links", "Links by which somebody outside sees one thing, newest first", "Guests"),
		func(context.Context, *struct{}) (*body[[]apitype.GuestLink], error) {
			out := []apitype.GuestLink{}
			for _, l := range s.c.Guests.All() {
				out = append(out, guestLinkOf(l))
			}
			return &body[[]apitype.GuestLink]{out}, nil
		})
	add := operation(http.MethodPost, "/guest-links", "add-guest-link", "Make a link by which somebody outside sees one path, incident, report, board or run until a time, and nothing else", "Guests", http.StatusNotFound)
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.GuestLinkSpec]) (*body[apitype.GuestLink], error) {
		spec, err := guestSpec(in.Body)
		if err != nil {
			return nil, s.problem(err)
		}
		if spec.What == "board" { // of which a link shows no more than who makes it sees
			if _, err := s.c.Boards.FindFor(spec.Subject.ID, sees(ctx)); err != nil {
				return nil, s.problem(err)
			}
		}
		l, secret, err := s.c.Guests.Add(ctx, spec)
		if err != nil {
			return nil, s.problem(err)
		}
		out := guestLinkOf(l)
		out.Path, out.Frozen = guestPlace+secret, spec.Frozen
		return &body[apitype.GuestLink]{out}, nil
	})
	end := operation(http.MethodDelete, "/guest-links/{id}", "end-guest-link", "End a link at once", "Guests", http.StatusNotFound)
	end.DefaultStatus = http.StatusNoContent
	huma.Register(a, end, func(ctx context.Context, in *oneRun) (*struct{}, error) {
		id, err := parseID(in.ID)
		if err != nil {
			return nil, s.problem(err)
		}
		return nil, s.problem(s.c.Guests.End(ctx, id))
	})
	huma.Register(a, operation(http.MethodGet, "/guest-links/{id}/openings", "list-guest-openings", "Who came by a link when, newest first", "Guests", http.StatusNotFound),
		func(ctx context.Context, in *oneRun) (*body[[]apitype.GuestOpening], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			if _, err := s.c.Store.GuestLink(ctx, id); err != nil {
				return nil, s.problem(err)
			}
			list, err := s.c.Store.GuestOpenings(ctx, id, mostOpenings)
			if err != nil {
				return nil, s.problem(err)
			}
			out := make([]apitype.GuestOpening, len(list))
			for i, o := range list {
				out[i] = apitype.GuestOpening{At: o.At.UTC(), Address: o.Address, Outcome: o.Outcome}
			}
			return &body[[]apitype.GuestOpening]{out}, nil
		})
}

func guestSpec(in apitype.GuestLinkSpec) (g guests.Spec, err error) {
	g = guests.Spec{What: in.What, Title: in.Title, Notes: in.Notes, EndsAt: in.EndsAt, Passphrase: in.Passphrase, Frozen: in.Frozen,
		Subject: guests.Subject{ID: in.ID, Objective: in.Objective, Of: selection.Selection{Sites: in.Sites, Agents: in.Agents, Targets: in.Targets, Tags: in.Tags, Labels: in.Labels}}}
	if in.Need != "" {
		n, err := needfile.NameOrText(in.Need)
		if err != nil {
			return g, &kind.Wrong{Field: "need", Says: err.Error()}
		}
		g.Subject.Need = &n
	}
	g.Subject.Seats = in.Seats
	if in.FromAt != nil {
		g.Subject.From = in.FromAt.UTC()
	}
	if in.ToAt != nil {
		g.Subject.To = in.ToAt.UTC()
	}
	if in.Last != "" {
		var d kind.Span
		if err := d.Set(in.Last); err != nil {
			return g, &kind.Wrong{Field: "last", Says: err.Error()}
		}
		g.Subject.Last = time.Duration(d)
	}
	return g, nil
}

func guestLinkOf(l store.GuestLink) apitype.GuestLink {
	out := apitype.GuestLink{LinkID: l.ID.String(), GuestLinkSpec: apitype.GuestLinkSpec{What: l.What, Title: l.Title, Notes: l.Notes, EndsAt: l.EndsAt.UTC()}, Asks: l.Passphrase != "", State: "open", MadeBy: l.MadeBy, MadeAt: l.MadeAt.UTC()}
	out.Frozen = l.IsFrozen
	var s guests.Subject
	if json.Unmarshal([]byte(l.Subject), &s) == nil {
		out.ID, out.Objective, out.Sites, out.Agents, out.Targets, out.Tags, out.Labels = s.ID, s.Objective, s.Of.Sites, s.Of.Agents, s.Of.Targets, s.Of.Tags, s.Of.Labels
		out.FromAt, out.ToAt = utc(s.From), utc(s.To)
		if s.Need != nil {
			out.Need, out.Seats = s.Need.Name, s.Seats
		}
		if s.Last > 0 {
			out.Last = brief(s.Last)
		}
	}
	switch {
	case l.EndedAt != nil:
		out.State, out.EndedAt = "ended", utc(*l.EndedAt)
	case !time.Now().Before(l.EndsAt):
		out.State = "over"
	}
	return out
}
