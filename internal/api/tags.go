package api

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"slices"
	"strings"
)

// streamed are the calls whose answers go out as they are made, however long they are.
var streamed = []string{"/events", "/backup", "/export/readings"}

// tagged gives answers to GET an ETag of their content, and answers 304 to who has that
// already (RFC 9110, 13.1.2). What is streamed has none.
func tagged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet || slices.ContainsFunc(streamed, func(s string) bool { return strings.HasSuffix(r.URL.Path, s) }) {
			next.ServeHTTP(w, r)
			return
		}
		b := &buffered{header: w.Header(), status: http.StatusOK}
		next.ServeHTTP(b, r)
		if b.status == http.StatusOK {
			sum := sha256.Sum256(b.body.Bytes())
			// Weak: what is packed is other bytes.
			tag := `W/"` + hex.EncodeToString(sum[:12]) + `"`
			w.Header().Set("ETag", tag)
			w.Header().Set("Cache-Control", "no-cache")
			if has(r.Header.Get("If-None-Match"), tag) {
				w.Header().Del("Content-Type")
				w.WriteHeader(http.StatusNotModified)
				return
			}
		}
		w.WriteHeader(b.status)
		_, _ = w.Write(b.body.Bytes())
	})
}

// has compares weakly (RFC 9110, 8.8.3.2).
func has(header, tag string) bool {
	for _, x := range strings.Split(header, ",") {
		if x = strings.TrimSpace(x); x == "*" || strings.TrimPrefix(x, "W/") == strings.TrimPrefix(tag, "W/") {
			return true
		}
	}
	return false
}

type buffered struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (b *buffered) Header() http.Header         { return b.header }
func (b *buffered) WriteHeader(status int)      { b.status = status }
func (b *buffered) Write(p []byte) (int, error) { return b.body.Write(p) }
