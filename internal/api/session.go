package api

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
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
	op := operation(http.MethodPost, "/session", "sign-in", "Sign in to the console", "Session")
	op.Security = []map[string][]string{}
	op.DefaultStatus = http.StatusNoContent
	huma.Register(a, op, func(_ context.Context, in *signIn) (*withCookie, error) {
		if !s.isToken(strings.TrimSpace(in.Body.Token)) {
			return nil, huma.Error401Unauthorized("That is not the administrator's token. 'woodlark serve' says at its start where it is kept.")
		}
		return &withCookie{s.cookie(s.session(time.Now().Add(sessionLength)), int(sessionLength.Seconds()))}, nil
	})
	op = operation(http.MethodDelete, "/session", "sign-out", "Sign out of the console", "Session")
	op.DefaultStatus = http.StatusNoContent
	huma.Register(a, op, func(context.Context, *struct{}) (*withCookie, error) {
		return &withCookie{s.cookie("", -1)}, nil
	})
}

func (s *server) cookie(value string, age int) http.Cookie {
	return http.Cookie{Name: cookieName, Value: value, Path: "/", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteStrictMode}
}

// session is a session's value: when it ends, and a mark that only who knows
// the token can make. So sessions outlive a restart and nothing is stored.
func (s *server) session(end time.Time) string {
	text := strconv.FormatInt(end.Unix(), 10)
	return text + "." + s.sign(text)
}

func (s *server) sign(text string) string {
	mac := hmac.New(sha256.New, []byte(s.Token))
	mac.Write([]byte("session " + text))
	return hex.EncodeToString(mac.Sum(nil))
}

func (s *server) isSession(value string) bool {
	text, mark, ok := strings.Cut(value, ".")
	end, err := strconv.ParseInt(text, 10, 64)
	return ok && err == nil && time.Now().Unix() < end && hmac.Equal([]byte(mark), []byte(s.sign(text)))
}

func (s *server) isToken(token string) bool {
	return s.Token != "" && subtle.ConstantTimeCompare([]byte(token), []byte(s.Token)) == 1
}

// authenticate lets in who has the token or a session. Signing in and the
// OpenAPI document are open to all.
func (s *server) authenticate(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		open := r.Method == http.MethodPost && r.URL.Path == "/api/v1/session" || strings.HasPrefix(r.URL.Path, "/api/v1/openapi")
		token, isBearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		cookie, err := r.Cookie(cookieName)
		if open || isBearer && s.isToken(token) || err == nil && s.isSession(cookie.Value) {
			next.ServeHTTP(w, r)
			return
		}
		w.Header().Set("Content-Type", "application/problem+json")
		w.Header().Set("WWW-Authenticate", "Bearer")
		w.WriteHeader(http.StatusUnauthorized)
		_ = json.NewEncoder(w).Encode(huma.ErrorModel{Title: "Unauthorized", Status: http.StatusUnauthorized,
			Detail: "This call needs the administrator's token, as 'Authorization: Bearer …', or a session of the console."})
	})
}
