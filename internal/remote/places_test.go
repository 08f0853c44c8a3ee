package remote_test

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
)

// TestAServiceThatIsStoppedIsLeft: one that takes calls, and answers none, as a process that is
// stopped does, is left for another, with what was being handed over to it.
func TestAServiceThatIsStoppedIsLeft(t *testing.T) {
	over := make(chan struct{})
	uploading := make(chan struct{}, 10)
	stopped := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/api/v1/agent/plan":
			_ = json.NewEncoder(w).Encode(protocol.Plan{})
			return
		case "/api/v1/agent/commands":
			w.Header().Set(protocol.SpeaksHeader, "1")
			_ = json.NewEncoder(w).Encode(protocol.Command{Kind: protocol.StillThere})
			_ = http.NewResponseController(w).Flush()
		case "/api/v1/agent/uploads":
			uploading <- struct{}{}
		}
		select {
		case <-over:
		case <-r.Context().Done():
		}
	}))
	defer stopped.Close()
	defer close(over)
	taken := make(chan struct{}, 10)
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/api/v1/agent/plan":
			_ = json.NewEncoder(w).Encode(protocol.Plan{})
		case "/api/v1/agent/commands":
			_ = json.NewEncoder(w).Encode(protocol.Command{Kind: protocol.StillThere})
			_ = http.NewResponseController(w).Flush()
			<-r.Context().Done()
		case "/api/v1/agent/uploads":
			taken <- struct{}{}
		}
	}))
	defer other.Close()
	ctx, cancel := context.WithCancel(t.Context())
	l := &remote.Link{Base: stopped.URL + "," + other.URL, Key: "key", Log: slog.New(slog.DiscardHandler)}
	ended := make(chan error, 1)
	go func() { ended <- l.Run(ctx, &worker{holds: make(chan struct{})}) }()
	defer func() {
		cancel()
		<-ended
	}()
	handed := make(chan error, 1)
	go func() { handed <- l.Upload(ctx, protocol.Upload{}) }()
	<-uploading
	began := time.Now()
	err := <-handed
	require.Error(t, err)
	assert.ErrorContains(t, err, "it is silent")
	assert.Less(t, time.Since(began), 15*time.Second, "it speaks each second, and is given three")
	require.NoError(t, l.Upload(ctx, protocol.Upload{}))
	<-taken
}
