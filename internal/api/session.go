package api

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"log/slog"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/service/notices"
)

const (
	cookieName    = "woodlark_session"
	sessionLength = 12 * time.Hour
)

type signIn struct {
	Body struct {
		Token string `json:"token" maxLength:"200" doc:"The administrator's token"`
	}
}

type withCookie struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (s *server) registerSession(a huma.API) {
	op := operation(http.MethodPost, "/session", "sign-in", "Sign in to the console", "Session", http.StatusForbidden, http.StatusTooManyRequests)
	op.Security = []map[string][]string{}
	op.DefaultStatus = http.StatusNoContent
	huma.Register(a, op, func(ctx context.Context, in *signIn) (*withCookie, error) {
		who, now := callOf(ctx), time.Now()
		if why := s.fromOurPage(who); why != "" {
			return nil, huma.Error403Forbidden(why)
		}
		address := addressOf(who)
		if s.wrong.full(address, now) {
			return nil, huma.ErrorWithHeaders(huma.Error429TooManyRequests("Too many wrong tokens; try again in a minute."), http.Header{"Retry-After": {"60"}})
		}
		if !s.isToken(strings.TrimSpace(in.Body.Token)) {
			s.wrong.add(address, now)
			return nil, huma.Error401Unauthorized("That is not the administrator's token. 'woodlark serve' says at its start where it is kept.")
		}
		return &withCookie{s.cookie(who, s.sessions.begin(now.Add(sessionLength), now), int(sessionLength.Seconds()))}, nil
	})
	op = operation(http.MethodDelete, "/session", "sign-out", "Sign out of the console", "Session")
	op.DefaultStatus = http.StatusNoContent
	huma.Register(a, op, func(ctx context.Context, _ *struct{}) (*withCookie, error) {
		who := callOf(ctx)
		if cookie, err := who.Cookie(cookieName); err == nil {
			s.sessions.end(cookie.Value)
		}
		return &withCookie{s.cookie(who, "", -1)}, nil
	})
}

func (s *server) cookie(r *http.Request, value string, age int) http.Cookie {
	return http.Cookie{Name: cookieName, Value: value, Path: "/", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https"}
}

func (s *server) isToken(token string) bool {
	return s.Token != "" && subtle.ConstantTimeCompare([]byte(token), []byte(s.Token)) == 1
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

// authenticate lets in who has the token or a session. Signing in and the
// OpenAPI document are open to all.
func (s *server) authenticate(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		now := time.Now()
		pass := func() {
			next.ServeHTTP(w, r.WithContext(notices.WithActor(context.WithValue(r.Context(), callKey{}, r), "administrator from "+addressOf(r))))
		}
		if r.Method == http.MethodPost && r.URL.Path == "/api/v1/session" || strings.HasPrefix(r.URL.Path, "/api/v1/openapi") {
			pass()
			return
		}
		if token, isBearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); isBearer {
			switch {
			case s.wrong.full(addressOf(r), now):
				w.Header().Set("Retry-After", "60")
				refuse(w, r, http.StatusTooManyRequests, "Too many wrong tokens; try again in a minute.")
				return
			case s.isToken(token):
				pass()
				return
			}
			s.wrong.add(addressOf(r), now)
		} else if cookie, err := r.Cookie(cookieName); err == nil && s.sessions.has(cookie.Value, now) {
			if why := s.fromOurPage(r); why != "" {
				refuse(w, r, http.StatusForbidden, why)
				return
			}
			pass()
			return
		}
		w.Header().Set("WWW-Authenticate", "Bearer")
		refuse(w, r, http.StatusUnauthorized, "This call needs the administrator's token, as 'Authorization: Bearer …', or a session of the console.")
	})
}

// sessions are who is signed in to the console: of each only a hash, and when it ends.
// They outlive a restart where they have a file.
type sessions struct {
	file string
	mark string // of the token that they were begun with
	log  *slog.Logger

	mu   sync.Mutex
	ends map[string]time.Time
}

// mostSessions is how many there may be; beyond it the one that ends first goes.
const mostSessions = 500

type keptSessions struct {
	Token string               `json:"token_mark"`
	Ends  map[string]time.Time `json:"ends"`
}

func markOf(text string) string {
	sum := sha256.Sum256([]byte("woodlark session " + text))
	return hex.EncodeToString(sum[:])
}

func openSessions(file, token string, log *slog.Logger) *sessions {
	s := &sessions{file: file, mark: markOf("token " + token), log: log, ends: map[string]time.Time{}}
	if file == "" {
		return s
	}
	var kept keptSessions
	data, err := os.ReadFile(file)
	if err == nil && json.Unmarshal(data, &kept) == nil && kept.Token == s.mark && kept.Ends != nil {
		s.ends = kept.Ends
	}
	return s
}

// begin begins a session and returns what its cookie holds.
func (s *sessions) begin(end, now time.Time) string {
	b := make([]byte, 32)
	_, _ = rand.Read(b)
	value := hex.EncodeToString(b)
	s.mu.Lock()
	defer s.mu.Unlock()
	first := ""
	for mark, e := range s.ends {
		if !now.Before(e) {
			delete(s.ends, mark)
		} else if first == "" || e.Before(s.ends[first]) {
			first = mark
		}
	}
	if len(s.ends) >= mostSessions {
		delete(s.ends, first)
	}
	s.ends[markOf(value)] = end
	s.keep()
	return value
}

func (s *sessions) has(value string, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	end, ok := s.ends[markOf(value)]
	return ok && now.Before(end)
}

func (s *sessions) end(value string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.ends, markOf(value))
	s.keep()
}

// keep writes them down; mu is held.
func (s *sessions) keep() {
	if s.file == "" {
		return
	}
	data, err := json.Marshal(keptSessions{s.mark, s.ends})
	if err == nil {
		err = os.WriteFile(s.file+".part", data, 0o600)
	}
	if err == nil {
		err = os.Rename(s.file+".part", s.file)
	}
	if err != nil {
		s.log.Error("the sessions of the console cannot be kept; they end with this program", "error", err)
	}
}
