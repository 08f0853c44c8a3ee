package api

import (
	"io/fs"
	"net/http"
	"strings"
)

// Starting answers while the service is not there yet: why says how far it is.
func Starting(console fs.FS, why func() string) http.Handler {
	s := &server{Options: Options{Console: console}}
	return secureHeaders(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/healthz":
			s.healthz(w, r)
		case r.URL.Path == "/readyz":
			http.Error(w, "not ready: "+why(), http.StatusServiceUnavailable)
		case strings.HasPrefix(r.URL.Path, "/api/") || r.URL.Path == "/metrics":
			w.Header().Set("Retry-After", "1")
			refuse(w, r, http.StatusServiceUnavailable, "The service is starting: "+why()+". Measuring goes on meanwhile.")
		default:
			s.console(w, r)
		}
	}))
}
