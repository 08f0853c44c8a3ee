package remote_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/signed"
)

// TestAServiceFromBeforeTheAgentSigned: one that was restored from a backup of that time knows the key
// that the agent showed then, and is told again by what it signs. An agent without that key, or with
// another, stays locked out.
func TestAServiceFromBeforeTheAgentSigned(t *testing.T) {
	private := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{5}, ed25519.SeedSize))
	for former, lockedOut := range map[string]bool{"k": false, "": true, "another": true} {
		t.Run(former, func(t *testing.T) {
			var signs atomic.Bool
			connected := make(chan struct{}, 10)
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				shows := r.Header.Get("Authorization") == "Bearer k"
				switch {
				case r.URL.Path == "/api/v1/agent/key" && shows:
					var o remote.KeyOrder
					assert.NoError(t, unpacked(r, &o))
					assert.Equal(t, []byte(private.Public().(ed25519.PublicKey)), o.PublicKey)
					signs.Store(true)
					w.WriteHeader(http.StatusNoContent)
				case !signed.Is(r) || !signs.Load():
					w.WriteHeader(http.StatusUnauthorized)
				case r.URL.Path == "/api/v1/agent/plan":
					_ = json.NewEncoder(w).Encode(protocol.Plan{})
				case r.URL.Path == "/api/v1/agent/commands":
					_ = json.NewEncoder(w).Encode(protocol.Command{Kind: protocol.StillThere})
					_ = http.NewResponseController(w).Flush()
					connected <- struct{}{}
					<-r.Context().Done()
				}
			}))
			defer s.Close()
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			l := &remote.Link{Base: s.URL, Signs: private, Former: former, Log: slog.New(slog.DiscardHandler)}
			ended := make(chan error, 1)
			go func() { ended <- l.Run(ctx, &worker{holds: make(chan struct{})}) }()
			if lockedOut {
				require.ErrorIs(t, <-ended, remote.ErrLockedOut)
				assert.False(t, signs.Load())
				return
			}
			<-connected
			cancel()
			require.NoError(t, <-ended)
		})
	}
}
