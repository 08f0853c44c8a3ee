package api

import (
	"io/fs"
	"net/http"
	"path"
	"strings"
)

// console serves the built console. Every address that is no file is one of
// its pages. Nothing of it needs a token: what it shows does.
func (s *server) console(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
	if s.Console == nil || strings.HasPrefix(name, "api/") || r.Method != http.MethodGet && r.Method != http.MethodHead {
		http.NotFound(w, r)
		return
	}
	if info, err := fs.Stat(s.Console, name); err != nil || info.IsDir() {
		name = "index.html"
	}
	if strings.HasPrefix(name, "assets/") {
		w.Header().Set("Cache-Control", "public, max-age=31536000, immutable") // their names change with their content
	} else {
		w.Header().Set("Cache-Control", "no-cache")
	}
	http.ServeFileFS(w, r, s.Console, name)
}
