package api

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/people"
)

// originOf is the address of the console that a call comes from.
func originOf(r *http.Request) string {
	scheme := "http"
	if secure(r) {
		scheme = "https"
	}
	return scheme + "://" + r.Host
}

// byConsole says why somebody may not add or end a passkey: a token stands in for them, and lets
// nobody in by another way.
func byConsole(ctx context.Context) error {
	if people.Of(ctx).Way == people.ByToken {
		return huma.Error403Forbidden("A token adds and ends no passkeys; sign in to the console.")
	}
	return nil
}

func (s *server) registerPasskeys(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/passkeys", "list-passkeys", "One's own passkeys", "People"),
		func(ctx context.Context, _ *struct{}) (*body[[]apitype.Passkey], error) {
			out := []apitype.Passkey{}
			for _, k := range s.c.People.Passkeys(people.Of(ctx).Person) {
				out = append(out, passkeyOf(k))
			}
			return &body[[]apitype.Passkey]{out}, nil
		})
	begin := operation(http.MethodPost, "/passkeys/begin", "begin-passkey", "What a device of one's own is asked, so that one has a passkey", "People")
	huma.Register(a, begin, func(ctx context.Context, _ *struct{}) (*body[apitype.Asked], error) {
		if err := byConsole(ctx); err != nil {
			return nil, err
		}
		options, key, err := s.c.People.BeginPasskey(people.Of(ctx), originOf(callOf(ctx)))
		return &body[apitype.Asked]{apitype.Asked{Key: key, Options: options}}, s.problem(err)
	})
	add := operation(http.MethodPost, "/passkeys", "add-passkey", "Keep the passkey that a device made", "People")
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.PasskeyAnswer]) (*body[apitype.Passkey], error) {
		if err := byConsole(ctx); err != nil {
			return nil, err
		}
		answer, err := json.Marshal(in.Body.Answer)
		if err != nil {
			return nil, s.problem(err)
		}
		k, err := s.c.People.AddPasskey(ctx, people.Of(ctx), in.Body.Key, in.Body.Title, answer)
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.Passkey]{passkeyOf(k)}, nil
	})
	end := operation(http.MethodDelete, "/passkeys/{id}", "end-passkey", "End a passkey of one's own at once", "People", http.StatusNotFound)
	end.DefaultStatus = http.StatusNoContent
	huma.Register(a, end, func(ctx context.Context, in *struct {
		ID string `path:"id"`
	}) (*struct{}, error) {
		if err := byConsole(ctx); err != nil {
			return nil, err
		}
		id, err := ident.Parse(in.ID)
		if err != nil {
			id = ident.ID{} // there is none of that name
		}
		return nil, s.problem(s.c.People.EndPasskey(ctx, people.Of(ctx).Person, id))
	})
	ask := openToAll(operation(http.MethodPost, "/session/passkey/begin", "begin-passkey-sign-in", "What a device is asked, so that somebody signs in by a passkey", "Session", http.StatusForbidden, http.StatusTooManyRequests))
	huma.Register(a, ask, func(ctx context.Context, _ *struct{}) (*body[apitype.Asked], error) {
		var out apitype.Asked
		_, err := s.fromStranger(ctx, func(string, string) (_ string, _ people.Who, err error) {
			out.Options, out.Key, err = s.c.People.BeginPasskeySignIn(originOf(callOf(ctx)))
			return "", people.Who{}, err
		})
		return &body[apitype.Asked]{out}, err
	})
	in := openToAll(operation(http.MethodPost, "/session/passkey", "sign-in-by-passkey", "Sign in to the console by a passkey", "Session", http.StatusForbidden, http.StatusTooManyRequests))
	in.DefaultStatus = http.StatusNoContent
	huma.Register(a, in, func(ctx context.Context, in *body[apitype.PasskeyAnswer]) (*withCookie, error) {
		return s.fromStranger(ctx, func(address, browser string) (string, people.Who, error) {
			answer, err := json.Marshal(in.Body.Answer)
			if err != nil {
				return "", people.Who{}, err
			}
			return s.c.People.SignInByPasskey(ctx, in.Body.Key, answer, address, browser)
		})
	})
}

func passkeyOf(k people.Passkey) apitype.Passkey {
	return apitype.Passkey{ID: k.ID.String(), Title: k.Title, Host: k.Host, CreatedAt: k.CreatedAt.UTC(), LastUsedAt: k.UsedAt}
}
