package api

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/store"
)

type listConversations struct {
	Paging
	Watch   string    `query:"watch" doc:"Of this watch"`
	From    string    `query:"from" doc:"Of this agent's machine"`
	Path    string    `query:"path" format:"uuid" doc:"Whose readings are of this path"`
	Program string    `query:"program" doc:"Of this program"`
	Server  string    `query:"server" doc:"With this address"`
	Open    bool      `query:"open" doc:"That go on"`
	FromAt  time.Time `query:"from_at" doc:"That went on then or later"`
	ToAt    time.Time `query:"to_at" doc:"That began before"`
}

type oneConversation struct {
	ID string `path:"id" format:"uuid"`
}

func (s *server) registerConversations(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/conversations", "list-conversations", "Whom the programs of agents' machines talked to, newest first, and how well", "Watches", http.StatusNotFound),
		func(ctx context.Context, in *listConversations) (*listed[apitype.Conversation], error) {
			out, err := s.conversations(ctx, in)
			return out, s.problem(err)
		})
	huma.Register(a, operation(http.MethodGet, "/conversations/{id}", "get-conversation", "One conversation", "Watches", http.StatusNotFound),
		func(ctx context.Context, in *oneConversation) (*body[apitype.Conversation], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			c, err := s.c.Store.Conversation(ctx, id)
			if err != nil {
				return nil, s.problem(err)
			}
			out, err := s.conversationOf(ctx, c)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.Conversation]{out}, nil
		})
}

func (s *server) conversations(ctx context.Context, in *listConversations) (*listed[apitype.Conversation], error) {
	page, err := in.page()
	if err != nil {
		return nil, err
	}
	f := store.ConversationFilter{Program: in.Program, Server: in.Server, Open: in.Open, From: in.FromAt, To: in.ToAt, Page: page}
	if in.Watch != "" {
		w, err := s.c.Watches.Find(in.Watch)
		if err != nil {
			return nil, err
		}
		f.Watches = w.IDs()
	}
	if in.From != "" {
		if f.Agent, err = s.agentID(in.From); err != nil {
			return nil, err
		}
	}
	if in.Path != "" {
		if f.Path, err = parseID(in.Path); err != nil {
			return nil, err
		}
	}
	list, err := s.c.Store.Conversations(ctx, f)
	if err != nil {
		return nil, err
	}
	out := make([]apitype.Conversation, len(list))
	var last store.Conversation
	for i, c := range list {
		if out[i], err = s.conversationOf(ctx, c); err != nil {
			return nil, err
		}
		last = c
	}
	again := url.Values{"watch": {in.Watch}, "from": {in.From}, "path": {in.Path}, "program": {in.Program}, "server": {in.Server}}
	if in.Open {
		again.Set("open", "true")
	}
	for key, t := range map[string]time.Time{"from_at": in.FromAt, "to_at": in.ToAt} {
		if !t.IsZero() {
			again.Set(key, t.UTC().Format(time.RFC3339Nano))
		}
	}
	return pageOf(out, in.Paging, again, last.BeganAt, last.ID), nil
}

func (s *server) conversationOf(ctx context.Context, c store.Conversation) (out apitype.Conversation, err error) {
	out = apitype.Conversation{ID: c.ID.String(), Watch: "(removed)", From: s.c.Fleet.NameOf(c.AgentID), Program: c.Program, Protocol: c.Protocol, Server: c.Server, Port: int(c.Port), BeganAt: c.BeganAt.UTC(), Says: c.Says}
	if w, err := s.c.Watches.Find(c.WatchID.String()); err == nil {
		out.Watch = w.Name
	}
	if c.EndedAt != nil {
		ended := c.EndedAt.UTC()
		out.EndedAt = &ended
	}
	if c.PathID != nil {
		out.Path = c.PathID.String()
	}
	if c.RunID != nil {
		r, err := s.c.Store.Run(ctx, *c.RunID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return out, err
		}
		if err == nil {
			run := s.runOf(r)
			out.Route = &run
		}
	}
	f, measured, err := s.c.Conversations.FiguresOf(ctx, c)
	if measured {
		out.Figures = &f
	}
	return out, err
}
