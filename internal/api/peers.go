package api

import (
	"crypto/subtle"
	"encoding/base64"
	"net"
	"net/http"
	"net/netip"
)

// The headers by which a service hands a caller on to the one that works on the database: what that
// knows it by, from where the caller came, and by which scheme.
const (
	HandedOn     = "Woodlark-Handed-On"
	HandedOnFrom = "Woodlark-Handed-On-From"
	HandedOnBy   = "Woodlark-Handed-On-By"
)

// handedOn takes a caller that another service hands on for the caller itself; who only says so does not
// pass for another.
func (s *server) handedOn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		shown, from, by := r.Header.Get(HandedOn), r.Header.Get(HandedOnFrom), r.Header.Get(HandedOnBy)
		for _, name := range []string{HandedOn, HandedOnFrom, HandedOnBy} {
			r.Header.Del(name)
		}
		secret, err := base64.RawURLEncoding.DecodeString(shown)
		if shown == "" || err != nil || len(s.Peers) == 0 || subtle.ConstantTimeCompare(secret, s.Peers) != 1 {
			if shown != "" { // of a turn before: it looks anew
				NotNow(w, r, "The service that handed this call on knows of another turn; try again.")
				return
			}
			next.ServeHTTP(w, r)
			return
		}
		if a, err := netip.ParseAddr(from); err == nil {
			r.RemoteAddr = net.JoinHostPort(a.String(), "0")
		}
		if r.Header.Del("X-Forwarded-Proto"); by != "" {
			r.Header.Set("X-Forwarded-Proto", by)
		}
		r.TLS = nil // that is between the services
		next.ServeHTTP(w, r)
	})
}

// NotNow refuses a call that may be made again in a moment.
func NotNow(w http.ResponseWriter, r *http.Request, why string) {
	w.Header().Set("Retry-After", "1")
	refuse(w, r, http.StatusServiceUnavailable, why)
}
