package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/people"
	"woodlark.example/internal/store"
)

// welcomePlace is where the console takes one-time links. What follows is behind a #, which browsers
// do not send, so that no log on the way has it.
const welcomePlace = "/welcome#"

// WelcomePath is the place of a one-time link in the console.
func WelcomePath(key string) string { return welcomePlace + url.PathEscape(key) }

// OnePerson names a person.
type OnePerson struct {
	Person string `path:"person" doc:"Identifier or name"`
}

func (s *server) registerPeople(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/session", "get-session", "Who makes this call, and what they may do", "Session"),
		func(ctx context.Context, _ *struct{}) (*body[apitype.Me], error) {
			w := people.Of(ctx)
			return &body[apitype.Me]{apitype.Me{Name: w.Name, Person: idOrNone(w.Person), Role: string(w.Role), Way: string(w.Way), EndsAt: w.EndsAt, Scope: w.Scope(), May: s.mayCall(w)}}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/people", "list-people", "Who may come in, by name", "People"),
		func(ctx context.Context, _ *struct{}) (*body[[]apitype.Person], error) {
			out := []apitype.Person{}
			for _, p := range s.c.People.All() {
				out = append(out, personOf(p))
			}
			return &body[[]apitype.Person]{out}, nil
		})
	add := operation(http.MethodPost, "/people", "add-person", "Let somebody in; a one-time link, by which they set a passphrase, is made apart", "People", http.StatusConflict)
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.PersonSpec]) (*body[apitype.Person], error) {
		role, err := people.ParseRole(in.Body.Role)
		if err != nil {
			return nil, s.problem(err)
		}
		scope, err := scopeFrom(in.Body.Scope)
		if err != nil {
			return nil, s.problem(err)
		}
		p, err := s.c.People.Add(ctx, in.Body.Name, in.Body.FullName, role, scope)
		return &body[apitype.Person]{personOf(p)}, s.problem(err)
	})
	huma.Register(a, operation(http.MethodPatch, "/people/{person}", "change-person", "Change what somebody may do, or whether they may come in", "People", http.StatusNotFound),
		func(ctx context.Context, in *struct {
			OnePerson
			Body apitype.PersonChange
		}) (*body[apitype.Person], error) {
			p, err := s.c.People.Find(in.Person)
			if err != nil {
				return nil, s.problem(err)
			}
			c := people.Change{FullName: in.Body.FullName, Ended: in.Body.Ended}
			if in.Body.Role != nil {
				role, err := people.ParseRole(*in.Body.Role)
				if err != nil {
					return nil, s.problem(err)
				}
				c.Role = &role
			}
			if in.Body.Scope != nil {
				scope, err := scopeFrom(in.Body.Scope)
				if err != nil {
					return nil, s.problem(err)
				}
				c.Scope = &scope
			}
			p, err = s.c.People.Alter(ctx, p.ID, c)
			return &body[apitype.Person]{personOf(p)}, s.problem(err)
		})
	welcome := operation(http.MethodPost, "/people/{person}/welcome", "welcome-person", "Make a link that is good once, by which somebody sets a passphrase; those before are good no more", "People", http.StatusNotFound)
	welcome.DefaultStatus = http.StatusCreated
	huma.Register(a, welcome, func(ctx context.Context, in *OnePerson) (*body[apitype.WelcomeLink], error) {
		p, err := s.c.People.Find(in.Person)
		if err != nil {
			return nil, s.problem(err)
		}
		key, until, err := s.c.People.Welcome(ctx, p.ID)
		return &body[apitype.WelcomeLink]{apitype.WelcomeLink{Name: p.Name, Path: WelcomePath(key), EndsAt: until}}, s.problem(err)
	})
	s.registerTokens(a)
	s.registerSignIns(a)
}

func idOrNone(id ident.ID) string {
	if id == (ident.ID{}) {
		return ""
	}
	return id.String()
}

func personOf(p people.Person) apitype.Person {
	state := "open"
	switch {
	case p.EndedAt != nil:
		state = "ended"
	case !p.Asked:
		state = "asked"
	}
	return apitype.Person{ID: p.ID.String(), Name: p.Name, FullName: p.FullName, Role: string(p.Role), Scope: scopeTo(p.Scope), State: state, CreatedAt: p.CreatedAt.UTC(), CreatedBy: p.CreatedBy, LastSeenAt: p.SeenAt, EndedAt: p.EndedAt}
}

func scopeFrom(in *apitype.Scope) (people.Scope, error) {
	if in == nil {
		return people.Scope{}, nil
	}
	return people.ReadScope(in.Sites, in.Labels)
}

func scopeTo(s people.Scope) *apitype.Scope {
	if s.All() {
		return nil
	}
	return &apitype.Scope{Sites: s.Sites, Labels: s.Labels}
}

// ofWhom is whose tokens and sessions a call may see: their own, or everybody's for an
// administrator.
func ofWhom(ctx context.Context) *ident.ID {
	w := people.Of(ctx)
	if w.May(people.Administrator) {
		return nil
	}
	return &w.Person
}

func (s *server) registerTokens(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/tokens", "list-tokens", "Keys of programs: one's own, or everybody's for an administrator", "People"),
		func(ctx context.Context, _ *struct{}) (*body[[]apitype.Token], error) {
			out := []apitype.Token{}
			for _, t := range s.c.People.Tokens(ofWhom(ctx)) {
				out = append(out, tokenOf(t))
			}
			return &body[[]apitype.Token]{out}, nil
		})
	add := operation(http.MethodPost, "/tokens", "add-token", "Make a key of a program, which may do no more than its person", "People", http.StatusNotFound)
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.TokenSpec]) (*body[apitype.Token], error) {
		w := people.Of(ctx)
		of := w.Person
		if in.Body.Person != "" {
			p, err := s.c.People.Find(in.Body.Person)
			switch {
			case err != nil && w.May(people.Administrator):
				return nil, s.problem(err)
			case err != nil, p.ID != w.Person && !w.May(people.Administrator):
				return nil, huma.Error403Forbidden("Only an administrator makes tokens of others.")
			}
			of = p.ID
		}
		if of == (ident.ID{}) {
			return nil, huma.Error422UnprocessableEntity("Say whose token it is: who has the state folder's token is no person.")
		}
		role := people.Viewer
		if in.Body.Role != "" {
			var err error
			if role, err = people.ParseRole(in.Body.Role); err != nil {
				return nil, s.problem(err)
			}
		}
		// A token that makes tokens makes none that may do more than itself.
		if !w.May(role) {
			return nil, huma.Error403Forbidden("A token of " + roleWords[role] + " is made by one.")
		}
		if w.Way == people.ByToken && w.Scoped() {
			return nil, huma.Error403Forbidden("A token for a part makes no others: sign in, or use one for everything.")
		}
		scope, err := scopeFrom(in.Body.Scope)
		if err != nil {
			return nil, s.problem(err)
		}
		t, key, err := s.c.People.AddToken(ctx, of, in.Body.Title, role, scope, in.Body.EndsAt)
		if err != nil {
			return nil, s.problem(err)
		}
		out := tokenOf(t)
		out.Key = key
		return &body[apitype.Token]{out}, nil
	})
	end := operation(http.MethodDelete, "/tokens/{id}", "end-token", "End a token at once", "People", http.StatusNotFound)
	end.DefaultStatus = http.StatusNoContent
	huma.Register(a, end, func(ctx context.Context, in *struct {
		ID string `path:"id"`
	}) (*struct{}, error) {
		for _, t := range s.c.People.Tokens(ofWhom(ctx)) {
			if t.ID.String() == in.ID {
				return nil, s.problem(s.c.People.EndToken(ctx, t.ID))
			}
		}
		return nil, s.problem(fmt.Errorf("there is no token %s: %w", cut(in.ID), store.ErrNotFound))
	})
}

func tokenOf(t people.Token) apitype.Token {
	return apitype.Token{ID: t.ID.String(), Person: t.Person.String(), Name: t.Name, Title: t.Title, Role: string(t.Role), Scope: scopeTo(t.Scope), State: t.State(time.Now()), CreatedAt: t.CreatedAt.UTC(), EndsAt: t.EndsAt, LastUsedAt: t.UsedAt, UsedFrom: t.UsedFrom}
}

func (s *server) registerSignIns(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/sessions", "list-sessions", "Sessions of the console: one's own, or everybody's for an administrator", "People"),
		func(ctx context.Context, _ *struct{}) (*body[[]apitype.SignedIn], error) {
			out := []apitype.SignedIn{}
			for _, x := range s.c.People.SignIns(ofWhom(ctx)) {
				out = append(out, apitype.SignedIn{ID: x.ID.String(), Name: x.Name, Person: idOrNone(x.Person), Way: string(x.Way), BeganAt: x.BeganAt.UTC(), EndsAt: x.EndsAt.UTC(), LastSeenAt: x.SeenAt.UTC(), Address: x.Address, Browser: x.Browser, Own: x.ID == people.Of(ctx).SignIn})
			}
			return &body[[]apitype.SignedIn]{out}, nil
		})
	end := operation(http.MethodDelete, "/sessions/{id}", "end-session", "End a session at once", "People", http.StatusNotFound)
	end.DefaultStatus = http.StatusNoContent
	huma.Register(a, end, func(ctx context.Context, in *struct {
		ID string `path:"id"`
	}) (*struct{}, error) {
		for _, x := range s.c.People.SignIns(ofWhom(ctx)) {
			if x.ID.String() == in.ID {
				return nil, s.problem(s.c.People.EndSignIn(ctx, x.ID))
			}
		}
		return nil, s.problem(fmt.Errorf("there is no session %s: %w", cut(in.ID), store.ErrNotFound))
	})
	change := operation(http.MethodPut, "/passphrase", "change-passphrase", "Set another passphrase of one's own; one's other sessions end", "People", http.StatusTooManyRequests)
	change.DefaultStatus = http.StatusNoContent
	huma.Register(a, change, func(ctx context.Context, in *body[apitype.NewPassphrase]) (*struct{}, error) {
		if people.Of(ctx).Way == people.ByToken {
			return nil, huma.Error403Forbidden("A token sets no passphrase; sign in to the console.")
		}
		return nil, s.signInProblem(s.c.People.Passphrase(ctx, people.Of(ctx), in.Body.Before, in.Body.Passphrase))
	})
}
