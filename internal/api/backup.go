package api

import (
	"bufio"
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// registerBackup hands out all that the service knows, secrets of channels and the administrator's
// token among it.
func (s *server) registerBackup(a huma.API) {
	op := operation(http.MethodGet, "/backup", "make-backup", "All that the service knows, as it is at one moment, in one file (a tar archive, packed by gzip), for 'woodlark restore'. It holds secrets. One that is cut off has no manifest at its end", "Care", http.StatusConflict)
	op.Responses = map[string]*huma.Response{"200": {Description: "A backup", Content: map[string]*huma.MediaType{"application/gzip": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}}
	huma.Register(a, op, func(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
		if s.Backup == nil {
			return nil, huma.Error503ServiceUnavailable("This service makes no backups.")
		}
		if !s.backing.CompareAndSwap(false, true) {
			return nil, huma.Error409Conflict("A backup is being made; ask again when it is done.")
		}
		return &huma.StreamResponse{Body: func(c huma.Context) {
			defer s.backing.Store(false)
			s.c.Notices.Changed(ctx, "backup_made", "backup", nil, nil)
			c.SetHeader("Content-Type", "application/gzip")
			c.SetHeader("Content-Disposition", `attachment; filename="woodlark-`+time.Now().UTC().Format("20060102-150405")+`.backup"`)
			w := bufio.NewWriterSize(c.BodyWriter(), 1<<16)
			err := s.Backup(ctx, w)
			if err == nil {
				err = w.Flush()
			}
			if err != nil {
				s.Log.Error("a backup was not made whole", "error", err)
				panic(http.ErrAbortHandler) // so that who takes it sees that it was cut off
			}
		}}, nil
	})
}
