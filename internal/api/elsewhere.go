package api

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"html"
	"net/http"
	"strings"
	"time"

	"woodlark.example/internal/oidc"
	"woodlark.example/internal/service/people"
)

// Pages by which somebody signs in elsewhere and comes back.
const (
	elsewhere       = "/sign-in/elsewhere"
	elsewhereBack   = elsewhere + "/back"
	elsewhereCookie = "woodlark_elsewhere"
	elsewhereFor    = 10 * time.Minute
)

// backAt is where the provider sends somebody back to: the address by which they reached us.
func (s *server) backAt(r *http.Request) string {
	scheme := "http"
	if secure(r) {
		scheme = "https"
	}
	return scheme + "://" + r.Host + elsewhereBack
}

// keptCookie holds what is kept on the way. It comes with a call that another site sends the browser
// on, so it is not as strict as that of a session; it lets nobody in.
func keptCookie(r *http.Request, value string, age int) *http.Cookie {
	c := &http.Cookie{Name: elsewhereCookie, Value: value, Path: "/", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: secure(r)}
	if c.Secure {
		c.Name = "__Host-" + c.Name
	}
	return c
}

func (s *server) beginElsewhere(w http.ResponseWriter, r *http.Request) {
	if s.Elsewhere == nil || !s.ownHost(r.Host) {
		s.sayElsewhere(w, http.StatusNotFound, "There is no sign-in elsewhere for this service.")
		return
	}
	to, kept, err := s.Elsewhere.Begin(r.Context(), s.backAt(r))
	if err != nil {
		s.Log.Error("the sign-in elsewhere cannot be begun", "error", err)
		s.sayElsewhere(w, http.StatusBadGateway, s.Elsewhere.Title()+" does not answer now. Try again in a moment, or sign in by passphrase.")
		return
	}
	if kept.To = r.URL.Query().Get("to"); len(kept.To) > 500 || !ownPlace(kept.To) {
		kept.To = "/"
	}
	text, err := json.Marshal(kept)
	if err != nil {
		s.sayElsewhere(w, http.StatusInternalServerError, "The sign-in could not be begun.")
		return
	}
	http.SetCookie(w, keptCookie(r, base64.RawURLEncoding.EncodeToString(text), int(elsewhereFor.Seconds())))
	w.Header().Set("Cache-Control", "no-store")
	http.Redirect(w, r, to, http.StatusSeeOther)
}

// ownPlace reports whether a place is one of this console's.
func ownPlace(to string) bool {
	return strings.HasPrefix(to, "/") && !strings.HasPrefix(to, "//") && !strings.ContainsAny(to, "\\\r\n\t")
}

func (s *server) endElsewhere(w http.ResponseWriter, r *http.Request) {
	now, address := time.Now(), addressOf(r)
	switch {
	case s.Elsewhere == nil || !s.ownHost(r.Host):
		s.sayElsewhere(w, http.StatusNotFound, "There is no sign-in elsewhere for this service.")
		return
	case s.wrong.full(address, now):
		w.Header().Set("Retry-After", "60")
		s.sayElsewhere(w, http.StatusTooManyRequests, "Too many sign-ins that came to nothing; try again in a minute.")
		return
	}
	var kept oidc.Kept
	if c, err := r.Cookie(keptCookie(r, "", 0).Name); err == nil {
		if text, err := base64.RawURLEncoding.DecodeString(c.Value); err == nil {
			_ = json.Unmarshal(text, &kept) // what cannot be read is no sign-in
		}
	}
	http.SetCookie(w, keptCookie(r, "", -1)) // it is good once
	q := r.URL.Query()
	if why := q.Get("error"); why != "" {
		s.sayElsewhere(w, http.StatusForbidden, s.Elsewhere.Title()+" did not let you in ("+cut(why)+").")
		return
	}
	who, err := s.Elsewhere.End(r.Context(), s.backAt(r), q.Get("code"), q.Get("state"), kept)
	if err != nil {
		s.wrong.add(address, now)
		s.Log.Warn("a sign-in elsewhere came to nothing", "peer", address, "error", err)
		status, says := http.StatusForbidden, s.Elsewhere.Title()+" did not say who you are. Begin anew."
		if errors.Is(err, oidc.ErrAway) {
			status, says = http.StatusBadGateway, s.Elsewhere.Title()+" does not answer now. Try again in a moment, or sign in by passphrase."
		}
		s.sayElsewhere(w, status, says)
		return
	}
	value, _, err := s.c.People.SignInElsewhere(r.Context(), who.Subject, who.Name, address, r.UserAgent())
	if err != nil {
		s.wrong.add(address, now)
		says := "You could not be let in now. Try again in a moment."
		if errors.Is(err, people.ErrNotLetIn) {
			says = sentence(err.Error())
		}
		s.sayElsewhere(w, http.StatusForbidden, says)
		return
	}
	c := s.cookie(r, value, int(people.SignInFor.Seconds()))
	http.SetCookie(w, &c)
	to := kept.To
	if !ownPlace(to) {
		to = "/"
	}
	// Not by a redirect: the browser would still be on its way from another site then, and send no
	// strict cookie.
	s.pageElsewhere(w, http.StatusOK, `<meta http-equiv="refresh" content="0;url=`+html.EscapeString(to)+`">`, `You are in. <a href="`+html.EscapeString(to)+`">Go on</a>`)
}

func (s *server) sayElsewhere(w http.ResponseWriter, status int, says string) {
	s.pageElsewhere(w, status, "", html.EscapeString(says)+` <a href="/sign-in">Sign in</a>`)
}

func (s *server) pageElsewhere(w http.ResponseWriter, status int, head, body string) {
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'")
	h.Set("Cache-Control", "no-store")
	h.Set("Referrer-Policy", "no-referrer") // the address has a code
	w.WriteHeader(status)
	_, _ = w.Write([]byte(`<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">` + head + `<title>Sign in – Woodlark</title></head><body><main><h1>Woodlark</h1><p>` + body + `</p></main></body></html>`))
}
