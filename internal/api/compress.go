package api

import (
	"io"
	"net/http"

	"github.com/andybalholm/brotli"
	"github.com/go-chi/chi/v5/middleware"
)

// compressed packs what is text, by br, gzip or deflate, as the caller likes best.
func compressed(next http.Handler) http.Handler {
	c := middleware.NewCompressor(5, "application/json", "application/problem+json", "text/csv", "text/html", "text/css", "text/javascript", "application/javascript", "image/svg+xml", "application/openapi+json")
	c.SetEncoder("br", func(w io.Writer, level int) io.Writer { return brotli.NewWriterLevel(w, level) })
	return c.Handler(next)
}
