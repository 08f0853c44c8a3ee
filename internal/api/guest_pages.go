package api

import (
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/service/guests"
	"woodlark.example/internal/store"
)

const (
	guestPlace  = "/guest/"
	guestCookie = "woodlark_guest"
	guestStay   = time.Hour // that a passphrase is not asked for again
	// guestPolicy is the policy of guests' pages: they fetch nothing and run nothing.
	guestPolicy = "default-src 'none'; style-src 'unsafe-inline'; img-src data:; form-action 'self'; frame-ancestors 'none'; base-uri 'none'"
)

// visitors are those who came with a passphrase that fits. The key is this process's own: after
// its end they are asked again.
type visitors struct{ key [32]byte }

func newVisitors() (v visitors) {
	if _, err := rand.Read(v.key[:]); err != nil {
		panic(err) // there is no safety without it
	}
	return v
}

func (v visitors) sign(link ident.ID, until int64) []byte {
	h := hmac.New(sha256.New, v.key[:])
	h.Write(link[:])
	_ = binary.Write(h, binary.BigEndian, until)
	return h.Sum(nil)
}

// cookie is what a visitor of a link is known by until a time.
func (v visitors) cookie(link ident.ID, until time.Time) string {
	b := binary.BigEndian.AppendUint64(nil, uint64(until.Unix()))
	return base64.RawURLEncoding.EncodeToString(append(b, v.sign(link, until.Unix())...))
}

func (v visitors) knows(link ident.ID, value string, now time.Time) bool {
	b, err := base64.RawURLEncoding.DecodeString(value)
	if err != nil || len(b) != 8+sha256.Size {
		return false
	}
	until := int64(binary.BigEndian.Uint64(b))
	return now.Unix() < until && hmac.Equal(b[8:], v.sign(link, until))
}

// guestPage shows what a guest link is of, to who has its secret. It needs no token and gives
// none; nothing can be changed by it.
func (s *server) guestPage(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Security-Policy", guestPolicy)
	h.Set("Referrer-Policy", "no-referrer") // the address is the secret
	h.Set("Cache-Control", "no-store")
	h.Set("X-Robots-Tag", "noindex, nofollow")
	now, address := time.Now(), addressOf(r)
	if s.guessing.full(address, now) {
		h.Set("Retry-After", "60")
		s.guestSays(w, http.StatusTooManyRequests, "Too many wrong links or passphrases came from here; try again in a minute.", false)
		return
	}
	secret, phrase := chi.URLParam(r, "secret"), ""
	if r.Method == http.MethodPost {
		r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
		if err := r.ParseForm(); err != nil {
			s.guestSays(w, http.StatusBadRequest, "That could not be read.", true)
			return
		}
		phrase = r.PostForm.Get("passphrase")
	}
	html, l, err := s.c.Guests.Open(r.Context(), secret, phrase, func(link ident.ID) bool {
		c, err := r.Cookie(guestCookie)
		return err == nil && s.visitors.knows(link, c.Value, now)
	}, address)
	switch {
	case err == nil:
		if phrase != "" && l.Passphrase != "" {
			http.SetCookie(w, &http.Cookie{Name: guestCookie, Value: s.visitors.cookie(l.ID, now.Add(guestStay)), Path: guestPlace + secret, MaxAge: int(guestStay.Seconds()), HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https"})
		}
		if l.What == guests.Readiness {
			s.visitPage(w, r)
			return
		}
		h.Set("Content-Type", "text/html; charset=utf-8")
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(html))
	case errors.Is(err, guests.ErrNone):
		s.guessing.add(address, now)
		s.guestSays(w, http.StatusNotFound, "There is no such link. Look whether all of it was copied.", false)
	case errors.Is(err, guests.ErrOver):
		s.guestSays(w, http.StatusGone, "This link is over. Ask who sent it for another.", false)
	case errors.Is(err, guests.ErrPassphrase):
		s.guestSays(w, http.StatusUnauthorized, "What this link shows is protected by a passphrase.", true)
	case errors.Is(err, guests.ErrWrong):
		s.guessing.add(address, now)
		s.guestSays(w, http.StatusForbidden, "That is not the passphrase.", true)
	case errors.Is(err, guests.ErrTooMany):
		h.Set("Retry-After", "600")
		s.guestSays(w, http.StatusTooManyRequests, "There were too many wrong passphrases; try again in ten minutes.", false)
	case errors.Is(err, store.ErrNotFound):
		s.guestSays(w, http.StatusGone, "What this link was of is not there any more. Ask who sent it for another.", false)
	default:
		s.Log.Error("a guest's page could not be made", "link", l.ID, "error", err)
		s.guestSays(w, http.StatusServiceUnavailable, "It cannot be shown now; try again in a moment.", false)
	}
}

// guestSays is a page of a sentence, with a field for a passphrase where that is asked for.
func (s *server) guestSays(w http.ResponseWriter, status int, says string, asks bool) {
	var d document.Document
	d.Say("%s", says)
	if asks {
		d.Add(document.Ask{Label: "Passphrase", Name: "passphrase", Button: "Show it"})
	}
	var out bytes.Buffer
	if err := document.HTML(&out, document.About{Title: "Woodlark", Made: ""}, d); err != nil {
		http.Error(w, says, status)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Length", fmt.Sprint(out.Len()))
	w.WriteHeader(status)
	_, _ = w.Write(out.Bytes())
}
