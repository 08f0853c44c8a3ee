package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/signed"
	"woodlark.example/internal/store"
)

func (s *server) registerFleet(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/agents", "list-agents", "All agents, by name, and how they stand", "Agents"),
		func(ctx context.Context, _ *struct{}) (*body[[]apitype.Agent], error) {
			out, see := []apitype.Agent{}, s.sight(ctx)
			for _, x := range s.c.Fleet.Views() {
				if !see.Agent(x.ID) {
					continue
				}
				v := apitype.Agent{ID: x.ID.String(), Name: x.Name, Site: x.Site, Kind: x.Kind, Address: x.Address, Version: x.Version, SeenAt: x.SeenAt, Alive: x.Connected, Labels: x.Labels, Health: x.Health}
				if x.Kind == fleet.Remote && !x.Connected {
					v.LostAt = utc(x.LostAt)
				}
				out = append(out, v)
			}
			return &body[[]apitype.Agent]{out}, nil
		})
	invite := operation(http.MethodPost, "/agents/invites", "invite-agent", "Make an invite that lets one agent on another machine join; it works once and ends", "Agents", http.StatusUnprocessableEntity)
	invite.DefaultStatus = http.StatusCreated
	huma.Register(a, invite, func(ctx context.Context, in *inviteCall) (*body[apitype.Invite], error) {
		lasts := time.Duration(0)
		if in.Body.Lasts != "" {
			var err error
			if lasts, err = time.ParseDuration(in.Body.Lasts); err != nil {
				return nil, s.problem(fmt.Errorf("%w: lasts %q is not a span of time such as 24h", kind.ErrInvalid, cut(in.Body.Lasts)))
			}
		}
		code, i, err := s.c.Fleet.Invite(ctx, in.Body.Name, in.Body.Site, in.Body.Labels, lasts)
		if err != nil {
			return nil, s.problem(err)
		}
		host := callOf(ctx).Host // the header itself is not among those of a call
		if host == "" {
			host = "SERVICE:7373"
		}
		return &body[apitype.Invite]{apitype.Invite{Code: code, EndsAt: i.EndsAt, Trust: s.pin(), Join: s.places(), Command: s.joining(callOf(ctx), host, code)}}, nil
	})
	gone := operation(http.MethodDelete, "/agents/{name}", "remove-agent", "Lock an agent on another machine out at once; what it measured stays", "Agents", http.StatusNotFound, http.StatusUnprocessableEntity)
	gone.DefaultStatus = http.StatusNoContent
	huma.Register(a, gone, func(ctx context.Context, in *oneAgent) (*struct{}, error) {
		return nil, s.problem(s.c.Fleet.Remove(ctx, in.Name))
	})
}

func (s *server) pin() string {
	if s.Pin == nil {
		return ""
	}
	return s.Pin()
}

// joining is the command by which an agent joins.
func (s *server) joining(r *http.Request, host, code string) string {
	scheme, trust := "http", ""
	if secure(r) {
		scheme = "https"
	}
	if pin := s.pin(); pin != "" && r.TLS != nil {
		trust = " -trust " + pin
	}
	at := scheme + "://" + host
	if all := s.places(); len(all) > 0 {
		if at = strings.Join(all, ","); s.pin() != "" {
			trust = " -trust " + s.pin()
		}
	}
	return fmt.Sprintf("woodlark agent -join %s -invite %s%s -listen :7474", at, code, trust)
}

// places are where the services are reached that share the database; none where one works on it alone.
func (s *server) places() (list []string) {
	if all := s.c.Members(); len(all) > 1 {
		for _, m := range all {
			list = append(list, m.Address)
		}
	}
	return list
}

type inviteCall struct {
	Body apitype.InviteOrder
}

const aliveToTell = 20 * time.Second

// speaks is how often who holds a connection hears of the service at least: who knows several turns
// to another when one is silent.
const speaks = 4 * time.Second

// agentCalls are what agents on other machines call: they have keys of their own.
func (s *server) agentCalls(r chi.Router) {
	r.Post("/join", s.join)
	r.Group(func(r chi.Router) {
		r.Use(s.knownAgent)
		r.Get("/plan", s.agentPlan)
		r.Get("/commands", s.agentCommands)
		r.Post("/uploads", s.agentUpload)
		r.Post("/replies", s.agentReplies)
		r.Post("/health", s.agentHealth)
		r.Post("/key", s.agentKey)
	})
}

type agentOfCall struct{}

type caller struct {
	id     ident.ID
	worker *remote.Proxy
	spoken int // version of the protocol
}

func callerOf(r *http.Request) caller {
	c, _ := r.Context().Value(agentOfCall{}).(caller)
	return c
}

// knownAgent lets in agents by their keys.
func (s *server) knownAgent(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if signed.Is(r) {
			s.signedAgent(w, r, next)
			return
		}
		key, isBearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		id, worker, ok := s.c.Fleet.ByKey(key)
		if !isBearer || !ok {
			s.wrong.add(addressOf(r), time.Now())
			refuse(w, r, http.StatusUnauthorized, "No agent has this key: it was removed, or joined another service.")
			return
		}
		asAgent(w, r, next, id, worker)
	})
}

func asAgent(w http.ResponseWriter, r *http.Request, next http.Handler, id ident.ID, worker *remote.Proxy) {
	spoken := protocol.ParseVersion(r.Header.Get(protocol.VersionHeader))
	w.Header().Set(protocol.VersionHeader, strconv.Itoa(protocol.Version))
	next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), agentOfCall{}, caller{id, worker, spoken})))
}

// signedAgent lets in an agent by its signature, once for each, and with the body that it signed.
func (s *server) signedAgent(w http.ResponseWriter, r *http.Request, next http.Handler) {
	c, err := signed.Read(r)
	if err != nil {
		refuse(w, r, http.StatusForbidden, sentence(err.Error()))
		return
	}
	id, err := ident.Parse(c.ID)
	if err != nil {
		s.wrong.add(addressOf(r), time.Now())
		refuse(w, r, http.StatusUnauthorized, noAgent)
		return
	}
	key, worker, ok := s.c.Fleet.Signing(id)
	if !ok {
		s.wrong.add(addressOf(r), time.Now())
		refuse(w, r, http.StatusUnauthorized, noAgent)
		return
	}
	if err := c.Check(r, key); err != nil {
		s.wrong.add(addressOf(r), time.Now())
		refuse(w, r, http.StatusForbidden, sentence(err.Error()))
		return
	}
	// What it signed for another moment it signs anew, by the clock in the answer's Date.
	if err := s.nonces.Take(c, time.Now()); err != nil {
		refuse(w, r, http.StatusForbidden, sentence(err.Error()))
		return
	}
	_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(ofUploads.time))
	body, err := io.ReadAll(&limited{r.Body, ofUploads.packed + 1})
	if err != nil {
		refuseBody(w, r, err)
		return
	}
	if err := signed.CheckBody(r, body); err != nil {
		refuse(w, r, http.StatusForbidden, sentence(err.Error()))
		return
	}
	_ = http.NewResponseController(w).SetReadDeadline(time.Time{})
	r.Body = io.NopCloser(bytes.NewReader(body))
	asAgent(w, r, next, id, worker)
}

const noAgent = "There is no such agent here: it was removed, or joined another service."

// agentKey has an agent that joined by a key that it shows sign its calls from now on.
func (s *server) agentKey(w http.ResponseWriter, r *http.Request) {
	var in remote.KeyOrder
	if !readBody(w, r, ofStrangers, &in) {
		return
	}
	if err := s.c.Fleet.SignsBy(r.Context(), callerOf(r).id, in.PublicKey); err != nil {
		s.refuseError(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// refuse answers with a problem document (RFC 9457). A body that was not read is not waited
// for.
func refuse(w http.ResponseWriter, r *http.Request, status int, detail string) {
	if r.ContentLength != 0 {
		w.Header().Set("Connection", "close")
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(huma.ErrorModel{Title: http.StatusText(status), Status: status, Detail: detail})
}

// refuseError is refuse for an error of the service's.
func (s *server) refuseError(w http.ResponseWriter, r *http.Request, err error) {
	status := http.StatusInternalServerError
	var p huma.StatusError
	if errors.As(s.problem(err), &p) {
		status = p.GetStatus()
	}
	refuse(w, r, status, p.Error())
}

func (s *server) join(w http.ResponseWriter, r *http.Request) {
	var in remote.JoinRequest
	if !readBody(w, r, ofStrangers, &in) {
		return
	}
	address, _, _ := net.SplitHostPort(r.RemoteAddr)
	answer, err := s.c.Fleet.Join(r.Context(), in, address)
	if err != nil {
		s.refuseError(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(answer)
}

func (s *server) agentPlan(w http.ResponseWriter, r *http.Request) {
	c := callerOf(r)
	p, tag := c.worker.Plan()
	w.Header().Set("ETag", tag)
	if r.Header.Get("If-None-Match") == tag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	plan, lacks := p.For(c.spoken)
	s.c.Fleet.NoteProtocol(r.Context(), c.id, c.spoken, lacks)
	_ = json.NewEncoder(w).Encode(plan)
}

// agentCommands is the connection that an agent holds: one command a line.
func (s *server) agentCommands(w http.ResponseWriter, r *http.Request) {
	line, ctx, ok := callerOf(r).worker.Connect(r.Context())
	if !ok {
		refuse(w, r, http.StatusUnauthorized, "This agent was removed.")
		return
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.Header().Set(protocol.SpeaksHeader, strconv.Itoa(int(speaks/time.Second)))
	control := http.NewResponseController(w)
	write := func(c protocol.Command) bool {
		_ = control.SetWriteDeadline(time.Now().Add(aliveToTell))
		if err := json.NewEncoder(w).Encode(c); err != nil {
			return false
		}
		return control.Flush() == nil
	}
	alive := time.NewTicker(speaks)
	defer alive.Stop()
	if !write(protocol.Command{Kind: protocol.StillThere}) {
		return
	}
	for {
		select {
		case c := <-line:
			if !write(c) {
				return
			}
		case <-alive.C:
			if !write(protocol.Command{Kind: protocol.StillThere}) {
				return
			}
		case <-ctx.Done():
			return
		}
	}
}

// agentUpload takes what an agent measured. Whose it is goes by its key.
func (s *server) agentUpload(w http.ResponseWriter, r *http.Request) {
	done, ok := s.unpack(w, r)
	if !ok {
		return
	}
	var u protocol.Upload
	from, err := bodyOf(w, r, ofUploads)
	if err == nil {
		u, err = decodeUpload(from)
	}
	done()
	if err != nil {
		refuseBody(w, r, err)
		return
	}
	u.Agent = callerOf(r).id
	if err := s.c.Upload(r.Context(), u); err != nil {
		s.refuseError(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func (s *server) agentReplies(w http.ResponseWriter, r *http.Request) {
	var list []protocol.Reply
	from, err := bodyOf(w, r, ofReplies)
	if err == nil {
		err = decodeList(json.NewDecoder(from), &list)
	}
	if err != nil {
		refuseBody(w, r, err)
		return
	}
	for _, x := range list {
		callerOf(r).worker.Reply(x)
	}
	w.WriteHeader(http.StatusNoContent)
}

func (s *server) agentHealth(w http.ResponseWriter, r *http.Request) {
	var h protocol.Health
	if !readBody(w, r, ofHealth, &h) {
		return
	}
	if err := s.c.Fleet.NoteHealth(r.Context(), callerOf(r).id, h); err != nil {
		s.refuseError(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// agentID finds an agent by its name.
func (s *server) agentID(name string) (ident.ID, error) {
	for _, a := range s.c.Fleet.Agents() {
		if a.Name == name {
			return a.ID, nil
		}
	}
	return ident.ID{}, fmt.Errorf("there is no agent %s: %w", cut(name), store.ErrNotFound)
}

// agentName is the name of an agent, which may have been removed since.
func (s *server) agentName(id ident.ID) string {
	for _, a := range s.c.Fleet.Agents() {
		if a.ID == id {
			return a.Name
		}
	}
	return "(removed)"
}
