package api

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/service/people"
)

const (
	cookieName = "woodlark_session"
	// safeCookie is its name where browsers speak TLS to us: they take it from nobody else then, and
	// for nothing but this host.
	safeCookie = "__Host-" + cookieName
)

type signIn struct {
	Body struct {
		Token      string `json:"token,omitempty" maxLength:"200" doc:"The token in the service's state folder; or else a name and a passphrase"`
		Name       string `json:"name,omitempty" maxLength:"200"`
		Passphrase string `json:"passphrase,omitempty" maxLength:"1000"`
	}
}

type withCookie struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

// openToAll is a call that needs nobody.
func openToAll(o huma.Operation) huma.Operation {
	o.Security = []map[string][]string{}
	delete(o.Metadata, roleKey)
	delete(o.Extensions, roleExtension)
	delete(o.Extensions, partExtension)
	return o
}

func (s *server) registerSession(a huma.API) {
	op := openToAll(operation(http.MethodPost, "/session", "sign-in", "Sign in to the console", "Session", http.StatusForbidden, http.StatusTooManyRequests))
	op.DefaultStatus = http.StatusNoContent
	huma.Register(a, op, func(ctx context.Context, in *signIn) (*withCookie, error) {
		return s.fromStranger(ctx, func(address, browser string) (string, people.Who, error) {
			if in.Body.Token != "" {
				if w, is := s.byToken(ctx, strings.TrimSpace(in.Body.Token), address); !is || w.Way != people.ByMachine {
					return "", w, errNotToken
				}
				return s.c.People.SignInByMachine(ctx, address, browser)
			}
			return s.c.People.SignIn(ctx, in.Body.Name, in.Body.Passphrase, address, browser)
		})
	})
	op = operation(http.MethodDelete, "/session", "sign-out", "Sign out of the console", "Session")
	op.DefaultStatus = http.StatusNoContent
	huma.Register(a, op, func(ctx context.Context, _ *struct{}) (*withCookie, error) {
		who := callOf(ctx)
		if value := cookieOf(who); value != "" {
			if err := s.c.People.SignOut(ctx, value); err != nil {
				s.Log.Error("a session that ended could not be removed", "error", err)
			}
		}
		return &withCookie{s.cookie(who, "", -1)}, nil
	})
	ways := openToAll(operation(http.MethodGet, "/session/ways", "list-ways-in", "The ways by which one may come in, for who is not in yet", "Session"))
	huma.Register(a, ways, func(context.Context, *struct{}) (*body[apitype.WaysIn], error) {
		var w apitype.WaysIn
		if s.Elsewhere != nil {
			w.Elsewhere = s.Elsewhere.Title()
		}
		return &body[apitype.WaysIn]{w}, nil
	})
	greet := openToAll(operation(http.MethodPost, "/welcome/look", "look-at-welcome", "What a one-time link is for; it is not used up by that", "Session", http.StatusGone))
	huma.Register(a, greet, func(ctx context.Context, in *body[struct {
		Secret string `json:"secret" maxLength:"200"`
	}]) (*body[apitype.Welcomed], error) {
		var g people.Greeted
		_, err := s.fromStranger(ctx, func(string, string) (_ string, _ people.Who, err error) {
			g, err = s.c.People.Greet(ctx, in.Body.Secret)
			return "", people.Who{}, err
		})
		return &body[apitype.Welcomed]{apitype.Welcomed{Name: g.Name, First: g.First}}, err
	})
	accept := openToAll(operation(http.MethodPost, "/welcome", "accept-welcome", "Set a passphrase by a one-time link, which is used up by that, and sign in", "Session", http.StatusGone, http.StatusConflict))
	accept.DefaultStatus = http.StatusNoContent
	huma.Register(a, accept, func(ctx context.Context, in *body[apitype.WelcomeAnswer]) (*withCookie, error) {
		return s.fromStranger(ctx, func(address, browser string) (string, people.Who, error) {
			p, err := s.c.People.Accept(people.With(ctx, people.Who{Address: address}), in.Body.Secret, in.Body.Name, in.Body.FullName, in.Body.Passphrase)
			if err != nil {
				return "", people.Who{}, err
			}
			return s.c.People.SignInWelcomed(ctx, p.ID, address, browser)
		})
	})
}

var errNotToken = errors.New("That is not the administrator's token. 'woodlark serve' says at its start where it is kept.")

// fromStranger does what somebody asks who is not in yet, within bounds, and gives them a cookie if
// they are then.
func (s *server) fromStranger(ctx context.Context, do func(address, browser string) (string, people.Who, error)) (*withCookie, error) {
	who, now := callOf(ctx), time.Now()
	if why := s.fromOurPage(who); why != "" {
		return nil, huma.Error403Forbidden(why)
	}
	address := addressOf(who)
	if s.wrong.full(address, now) {
		return nil, tooOften("Too many wrong tokens; try again in a minute.", "60")
	}
	value, _, err := do(address, who.UserAgent())
	if err != nil {
		if errors.Is(err, people.ErrNotIn) || errors.Is(err, people.ErrWelcome) || errors.Is(err, errNotToken) {
			s.wrong.add(address, now)
		}
		return nil, s.signInProblem(err)
	}
	if value == "" {
		return nil, nil
	}
	return &withCookie{s.cookie(who, value, int(people.SignInFor.Seconds()))}, nil
}

func tooOften(says, after string) error {
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests(says), http.Header{"Retry-After": {after}})
}

// signInProblem is problem for who is not in yet.
func (s *server) signInProblem(err error) error {
	switch {
	case errors.Is(err, people.ErrNotIn), errors.Is(err, errNotToken): // ErrNoPasskey is one, too
		return huma.Error401Unauthorized(sentence(err.Error()))
	case errors.Is(err, people.ErrTooOften):
		return tooOften(sentence(err.Error()), "300")
	case errors.Is(err, people.ErrWelcome):
		return huma.NewError(http.StatusGone, sentence(err.Error()))
	}
	return s.problem(err)
}

// sentence is a text that begins with a capital and ends with a full stop.
func sentence(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + strings.TrimSuffix(text[1:], ".") + "."
}

// secure reports whether a call came by TLS, here or to the proxy before us.
func secure(r *http.Request) bool {
	return r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https"
}

func (s *server) cookie(r *http.Request, value string, age int) http.Cookie {
	c := http.Cookie{Name: cookieName, Value: value, Path: "/", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: secure(r)}
	if c.Secure {
		c.Name = safeCookie
	}
	return c
}

// cookieOf is what the cookie of a call holds; empty without one.
func cookieOf(r *http.Request) string {
	name := cookieName
	if secure(r) {
		name = safeCookie
	}
	if c, err := r.Cookie(name); err == nil {
		return c.Value
	}
	return ""
}

// byToken is who has a token; that of a service that has just begun is looked for.
func (s *server) byToken(ctx context.Context, token, address string) (people.Who, bool) {
	who, is := s.c.People.ByToken(ctx, token, address)
	if !is && s.c.SeekMembers(ctx) {
		who, is = s.c.People.ByToken(ctx, token, address)
	}
	return who, is
}

type callKey struct{}

// callOf is the call itself.
func callOf(ctx context.Context) *http.Request {
	r, _ := ctx.Value(callKey{}).(*http.Request)
	if r == nil {
		r = &http.Request{Header: http.Header{}}
	}
	return r
}

// openPlaces are calls that strangers may make: they come in by them.
var openPlaces = []string{"GET /api/v1/session/ways", "POST /api/v1/session", "POST /api/v1/session/passkey", "POST /api/v1/session/passkey/begin", "POST /api/v1/welcome", "POST /api/v1/welcome/look"}

// authenticate lets in who has a token or a session. Coming in and the OpenAPI document are
// open to all.
func (s *server) authenticate(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		now, address := time.Now(), addressOf(r)
		pass := func(who people.Who) {
			next.ServeHTTP(w, r.WithContext(people.With(context.WithValue(r.Context(), callKey{}, r), who)))
		}
		if slices.Contains(openPlaces, r.Method+" "+r.URL.Path) || strings.HasPrefix(r.URL.Path, "/api/v1/openapi") {
			pass(people.Who{Name: "somebody", Address: address})
			return
		}
		if token, isBearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); isBearer {
			if s.wrong.full(address, now) {
				w.Header().Set("Retry-After", "60")
				refuse(w, r, http.StatusTooManyRequests, "Too many wrong tokens; try again in a minute.")
				return
			}
			if who, is := s.byToken(r.Context(), token, address); is {
				pass(who)
				return
			}
			s.wrong.add(address, now)
		} else if who, is := s.c.People.BySession(r.Context(), cookieOf(r), address); is {
			if why := s.fromOurPage(r); why != "" {
				refuse(w, r, http.StatusForbidden, why)
				return
			}
			pass(who)
			return
		}
		w.Header().Set("WWW-Authenticate", "Bearer")
		refuse(w, r, http.StatusUnauthorized, "This call needs a token, as 'Authorization: Bearer …', or a session of the console.")
	})
}
