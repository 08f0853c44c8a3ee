package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"woodlark.example/core/visitor"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/guests"
	"woodlark.example/internal/service/visits"
	"woodlark.example/internal/store"
)

const (
	// visitPolicy is the policy of the page by which a visitor's browser measures: its own script and
	// calls, and nothing else.
	visitPolicy = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; connect-src 'self'; form-action 'none'; frame-ancestors 'none'; base-uri 'none'"
	visitFile   = "visit.html"
	ticketName  = "ticket"
)

// visitPage is the page by which a visitor's browser measures.
func (s *server) visitPage(w http.ResponseWriter, r *http.Request) {
	if s.Console == nil {
		s.guestSays(w, http.StatusServiceUnavailable, "This service was built without its pages.", false)
		return
	}
	page, err := fs.ReadFile(s.Console, visitFile)
	if err != nil {
		s.guestSays(w, http.StatusServiceUnavailable, "This service was built without the page to measure by.", false)
		return
	}
	w.Header().Set("Content-Security-Policy", visitPolicy)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write(page)
}

// visitCalls are those of the page that a readiness link opens.
func (s *server) visitCalls(r chi.Router) {
	r.Use(middlewareNoStore)
	r.Get("/", s.visitAbout)
	r.Post("/begin", s.visitBegin)
	r.Get("/ping", s.ofVisit(func(w http.ResponseWriter, _ *http.Request, _ *visits.Visit) { w.WriteHeader(http.StatusNoContent) }))
	r.Get("/down", s.ofVisit(s.visitDown))
	r.Post("/up", s.ofVisit(s.visitUp))
	r.Post("/offer", s.ofVisit(s.visitOffer))
	r.Post("/end", s.ofVisit(s.visitEnd))
}

func middlewareNoStore(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Referrer-Policy", "no-referrer")
		next.ServeHTTP(w, r)
	})
}

// readinessLink is the link of a call; false when the call was answered.
func (s *server) readinessLink(w http.ResponseWriter, r *http.Request) (l store.GuestLink, g guests.Subject, ok bool) {
	now, address := time.Now(), addressOf(r)
	if s.guessing.full(address, now) {
		w.Header().Set("Retry-After", "60")
		refuse(w, r, http.StatusTooManyRequests, "Too many wrong links came from here; try again in a minute.")
		return l, g, false
	}
	if why := s.fromOtherPage(r); why != "" {
		refuse(w, r, http.StatusForbidden, why)
		return l, g, false
	}
	l, g, err := s.c.Guests.ByWhom(chi.URLParam(r, "secret"), func(link ident.ID) bool {
		c, err := r.Cookie(guestCookie)
		return err == nil && s.visitors.knows(link, c.Value, now)
	})
	switch {
	case err == nil && l.What == guests.Readiness && g.Need != nil:
		return l, g, true
	case err == nil, errors.Is(err, guests.ErrNone):
		s.guessing.add(address, now)
		refuse(w, r, http.StatusNotFound, "There is no such link to measure by.")
	case errors.Is(err, guests.ErrOver):
		refuse(w, r, http.StatusGone, "This link is over. Ask who sent it for another.")
	case errors.Is(err, guests.ErrPassphrase):
		refuse(w, r, http.StatusUnauthorized, "The passphrase was not given, or too long ago: load the page anew.")
	default:
		s.Log.Error("a visitor's call failed", "error", err)
		refuse(w, r, http.StatusServiceUnavailable, "That is not possible now; try again in a moment.")
	}
	return l, g, false
}

// fromOtherPage says why a call cannot come from the page that we gave; "" when it can.
func (s *server) fromOtherPage(r *http.Request) string {
	if from := r.Header.Get("Sec-Fetch-Site"); from != "" && from != "same-origin" && from != "none" {
		return "This call comes from another page."
	}
	return ""
}

// ofVisit hands over a call of a visit that goes on.
func (s *server) ofVisit(next func(http.ResponseWriter, *http.Request, *visits.Visit)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		l, _, ok := s.readinessLink(w, r)
		if !ok {
			return
		}
		v, err := s.c.Visits.Find(l.ID, r.URL.Query().Get(ticketName))
		if err != nil {
			refuse(w, r, http.StatusGone, "There is no such visit, or it is over; begin anew.")
			return
		}
		next(w, r, v)
	}
}

// aboutVisit is what the page says before it measures.
type aboutVisit struct {
	Title  string    `json:"title"`
	Notes  string    `json:"notes"`
	Need   string    `json:"need"`
	Says   string    `json:"says"` // what the service is
	Seats  int       `json:"seats"`
	EndsAt time.Time `json:"ends_at"`
}

func (s *server) visitAbout(w http.ResponseWriter, r *http.Request) {
	l, g, ok := s.readinessLink(w, r)
	if !ok {
		return
	}
	give(w, http.StatusOK, aboutVisit{Title: l.Title, Notes: l.Notes, Need: g.Need.Name, Says: g.Need.Says, Seats: g.Need.SeatsOr(g.Seats), EndsAt: l.EndsAt.UTC()})
}

func give(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

// begun is what a visit is measured by.
type begun struct {
	ID     string       `json:"id"`
	Ticket string       `json:"ticket"`
	Plan   visitor.Plan `json:"plan"`
}

func (s *server) visitBegin(w http.ResponseWriter, r *http.Request) {
	l, g, ok := s.readinessLink(w, r)
	if !ok {
		return
	}
	v, err := s.c.Visits.Begin(l, *g.Need, g.Seats, addressOf(r), r.UserAgent())
	switch {
	case err == nil:
		give(w, http.StatusCreated, begun{ID: v.ID.String(), Ticket: v.Ticket, Plan: v.Plan})
	case errors.Is(err, visits.ErrBusy), errors.Is(err, visits.ErrFull), errors.Is(err, visits.ErrOften):
		w.Header().Set("Retry-After", "120")
		text := err.Error()
		refuse(w, r, http.StatusTooManyRequests, strings.ToUpper(text[:1])+text[1:]+".")
	default:
		s.Log.Error("a visit could not begin", "error", err)
		refuse(w, r, http.StatusServiceUnavailable, "That is not possible now; try again in a moment.")
	}
}

// visitDown is downloaded, as fast as the way carries it.
func (s *server) visitDown(w http.ResponseWriter, r *http.Request, v *visits.Visit) {
	control := http.NewResponseController(w)
	_ = control.SetWriteDeadline(v.Until())
	defer func() { _ = control.SetWriteDeadline(time.Time{}) }()
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Cache-Control", "no-store, no-transform") // nobody on the way may pack it
	v.Down(r.Context(), w)
}

// visitUp is uploaded.
func (s *server) visitUp(w http.ResponseWriter, r *http.Request, v *visits.Visit) {
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(v.Until())
	v.Up(r.Context(), r.Body)
	// What the visitor goes on sending is not read.
	w.Header().Set("Connection", "close")
	w.WriteHeader(http.StatusNoContent)
}

// reached is the address of ours that a call came to; not valid where it is not known.
func reached(r *http.Request) netip.Addr {
	local, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if local == nil {
		return netip.Addr{}
	}
	at, err := netip.ParseAddrPort(local.String())
	if err != nil {
		return netip.Addr{}
	}
	return at.Addr()
}

func (s *server) visitOffer(w http.ResponseWriter, r *http.Request, v *visits.Visit) {
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 64<<10))
	if err != nil {
		refuse(w, r, http.StatusBadRequest, "The offer could not be read.")
		return
	}
	answer, err := s.c.Visits.Offer(v, string(b), reached(r))
	switch {
	case err == nil:
		w.Header().Set("Content-Type", "application/sdp")
		_, _ = io.WriteString(w, answer)
	case errors.Is(err, visits.ErrOffer), errors.Is(err, kind.ErrInvalid):
		refuse(w, r, http.StatusUnprocessableEntity, "That is no offer of a data channel, or there was one already.")
	default:
		s.Log.Warn("a visitor's packets cannot be taken", "error", err)
		refuse(w, r, http.StatusServiceUnavailable, "This service cannot take packets beside HTTP now.")
	}
}

// visitEnd takes what the visitor measured, and gives the answer.
func (s *server) visitEnd(w http.ResponseWriter, r *http.Request, v *visits.Visit) {
	d := json.NewDecoder(http.MaxBytesReader(w, r.Body, visitor.MostTold))
	d.DisallowUnknownFields()
	var told visitor.Told
	if err := d.Decode(&told); err != nil {
		refuse(w, r, http.StatusUnprocessableEntity, "What was measured could not be read: "+cut(err.Error()))
		return
	}
	k, err := s.c.Visits.End(r.Context(), v, told)
	switch {
	case err == nil:
		give(w, http.StatusOK, k)
	case errors.Is(err, kind.ErrInvalid):
		refuse(w, r, http.StatusUnprocessableEntity, fmt.Sprintf("The words are too long: %d bytes are kept.", visitor.MostWords))
	case errors.Is(err, visits.ErrTicket):
		refuse(w, r, http.StatusGone, "There is no such visit, or it is over; begin anew.")
	default:
		s.Log.Error("a visit was not kept", "error", err)
		refuse(w, r, http.StatusServiceUnavailable, "It could not be kept; try again in a moment.")
	}
}

func (s *server) registerVisits(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/visits", "list-visits", "What browsers measured that came by a guest link, newest first", "Guests"),
		func(ctx context.Context, in *Paging) (*listed[apitype.Visit], error) {
			p, err := in.page()
			if err != nil {
				return nil, s.problem(err)
			}
			list, err := s.c.Store.Visits(ctx, p)
			if err != nil {
				return nil, s.problem(err)
			}
			out := make([]apitype.Visit, len(list))
			for i, v := range list {
				out[i] = visitOf(v)
			}
			if len(list) == 0 {
				return &listed[apitype.Visit]{Body: out}, nil
			}
			last := list[len(list)-1]
			return pageOf(out, *in, url.Values{}, last.StartedAt, last.ID), nil
		})
	huma.Register(a, operation(http.MethodGet, "/visits/{id}", "get-visit", "What one visit measured; figures by 'visitor' rest on the visitor's word", "Guests", http.StatusNotFound),
		func(ctx context.Context, in *oneRun) (*body[apitype.Visit], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			v, raw, err := s.c.Store.Visit(ctx, id)
			if err != nil {
				return nil, s.problem(err)
			}
			k, err := visits.Of(raw)
			if err != nil {
				return nil, s.problem(err)
			}
			out := visitOf(v)
			found := apitype.VisitFound(k.Found)
			out.Agent, out.Problem, out.Route, out.Found = k.Agent, k.Problem, k.Route, &found
			return &body[apitype.Visit]{out}, nil
		})
}

func visitOf(v store.Visit) apitype.Visit {
	return apitype.Visit{ID: v.ID.String(), LinkID: v.LinkID.String(), Title: v.Title, StartedAt: v.StartedAt.UTC(), EndedAt: v.EndedAt.UTC(), Address: v.Address, Outcome: v.Outcome, Need: v.Need, Seats: v.Seats, Answer: v.Answer, Sentence: v.Sentence, Words: v.Words}
}
