package remote_test

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/kind"
	_ "woodlark.example/internal/kind/all"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
)

// kept is a service that keeps what is uploaded.
type kept struct {
	mu   sync.Mutex
	list []protocol.Upload
}

func (k *kept) Upload(_ context.Context, u protocol.Upload) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.list = append(k.list, u)
	return nil
}

func (k *kept) uploads() []protocol.Upload {
	k.mu.Lock()
	defer k.mu.Unlock()
	return append([]protocol.Upload{}, k.list...)
}

// worker is an agent that does what it is told at once.
type worker struct {
	mu    sync.Mutex
	tasks []protocol.Task
	holds chan struct{} // a sweep lasts until it ends, or is stopped
}

func (w *worker) SetPlan(p protocol.Plan) { w.mu.Lock(); w.tasks = p.Tasks; w.mu.Unlock() }
func (w *worker) HeldBack() int           { return 0 }
func (w *worker) Do(ctx context.Context, o protocol.RunOrder, heard func(kind.Progress)) ([]protocol.Made, error) {
	switch o.Kind {
	case "ping":
		for i := range o.Lanes {
			heard(kind.Progress{Lane: i, Done: 1, Of: 1, More: reading.Probe{Number: 7 + i, Outcome: reading.Answered, RTT: time.Millisecond}})
		}
	case "trace":
		heard(kind.Progress{More: route.Probe{TTL: 3}})
	case "stream":
		heard(kind.Progress{Done: 2000, Of: 4000, Says: "there", More: nearend.Progress{There: 1000, Back: 500}})
	case "sweep":
		heard(kind.Progress{Done: 42, Of: 100})
		select {
		case <-w.holds:
		case <-ctx.Done():
		}
	default:
		return nil, errors.New("no such " + o.Kind)
	}
	var made []protocol.Made
	for _, l := range o.Lanes {
		made = append(made, protocol.Made{Run: l.Run, Kind: o.Kind, Lane: l.Lane, Outcome: protocol.Done})
	}
	return made, nil
}
func (w *worker) Locate(_ context.Context, o protocol.LocateOrder) ([]kind.Lane, error) {
	return []kind.Lane{{Target: o.Targets[0], Address: netip.MustParseAddr("192.0.2.7")}}, nil
}
func (w *worker) Standing() (json.RawMessage, error)       { return json.RawMessage(`{"host":"pier"}`), nil }
func (w *worker) Expect(t protocol.Ticket) (string, error) { return "192.0.2.7:7474", nil }

// orderOf is an order of a kind with so many lanes.
func orderOf(name string, lanes int) protocol.RunOrder {
	o := protocol.RunOrder{Kind: name, Version: 1}
	for range lanes {
		o.Lanes = append(o.Lanes, protocol.RunLane{Run: ident.New(), Lane: kind.Lane{Target: "holm"}})
	}
	return o
}

// side is the service's side over HTTP, as bare as it can be.
type side struct {
	*httptest.Server
	worker  *remote.Proxy
	service *kept
	fetched atomic.Int64
	same    atomic.Int64
	shut    atomic.Bool // nobody has this key any more
}

func serve(t *testing.T) *side {
	s := &side{service: &kept{}}
	s.worker = remote.NewProxy(ident.New(), "pier", s.service)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /api/v1/agent/plan", func(w http.ResponseWriter, r *http.Request) {
		p, tag := s.worker.Plan()
		s.fetched.Add(1)
		w.Header().Set("ETag", tag)
		if r.Header.Get("If-None-Match") == tag {
			s.same.Add(1)
			w.WriteHeader(http.StatusNotModified)
			return
		}
		_ = json.NewEncoder(w).Encode(p)
	})
	mux.HandleFunc("GET /api/v1/agent/commands", func(w http.ResponseWriter, r *http.Request) {
		line, ctx, ok := s.worker.Connect(r.Context())
		if !ok {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		flush := http.NewResponseController(w)
		_ = json.NewEncoder(w).Encode(protocol.Command{Kind: protocol.StillThere})
		_ = flush.Flush()
		for {
			select {
			case c := <-line:
				_ = json.NewEncoder(w).Encode(c)
				_ = flush.Flush()
			case <-ctx.Done():
				return
			}
		}
	})
	mux.HandleFunc("POST /api/v1/agent/replies", func(w http.ResponseWriter, r *http.Request) {
		var list []protocol.Reply
		assert.NoError(t, unpacked(r, &list))
		for _, x := range list {
			s.worker.Reply(x)
		}
	})
	mux.HandleFunc("POST /api/v1/agent/health", func(w http.ResponseWriter, r *http.Request) {
		var h protocol.Health
		assert.NoError(t, unpacked(r, &h))
		s.worker.NoteHealth(h)
	})
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.shut.Load() || r.Header.Get("Authorization") != "Bearer key" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		mux.ServeHTTP(w, r)
	}))
	t.Cleanup(func() { s.CloseClientConnections(); s.Close() })
	return s
}

// linked runs an agent's side until the test ends.
func (s *side) linked(t *testing.T, w *worker) <-chan error {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	l := &remote.Link{Base: s.URL, Key: "key", Log: slog.New(slog.DiscardHandler), Health: func() protocol.Health { return protocol.Health{Version: "9", HeldBack: 3} }}
	ended := make(chan error, 1)
	go func() { ended <- l.Run(ctx, w); close(ended) }()
	t.Cleanup(func() {
		cancel()
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			t.Error("the link does not end")
		}
	})
	require.Eventually(t, func() bool { ok, _ := s.worker.Connected(); return ok }, time.Minute, time.Millisecond)
	return ended
}

func TestWhatAnAgentIsTold(t *testing.T) {
	s, w := serve(t), &worker{holds: make(chan struct{})}
	s.worker.SetPlan(protocol.Plan{Tasks: []protocol.Task{{Target: "192.0.2.9"}}})
	s.linked(t, w)
	targets := func() []protocol.Task { w.mu.Lock(); defer w.mu.Unlock(); return w.tasks }
	require.Eventually(t, func() bool { return len(targets()) == 1 }, time.Minute, time.Millisecond)
	before := s.fetched.Load()
	s.worker.SetPlan(protocol.Plan{Tasks: []protocol.Task{{Target: "192.0.2.9"}}})
	s.worker.SetPlan(protocol.Plan{Tasks: []protocol.Task{{Target: "192.0.2.9"}, {Target: "192.0.2.10"}}})
	require.Eventually(t, func() bool { return len(targets()) == 2 }, time.Minute, time.Millisecond, "it is told when its plan is another")
	assert.LessOrEqual(t, s.fetched.Load()-before, int64(2), "and not when it is the same")
	require.Eventually(t, func() bool { return s.worker.HeldBack() == 3 }, time.Minute, time.Millisecond)

	heard := func(name string, lanes int) (list []kind.Progress, made []protocol.Made) {
		made, err := s.worker.Do(t.Context(), orderOf(name, lanes), func(p kind.Progress) { list = append(list, p) })
		require.NoError(t, err)
		return list, made
	}
	probes, made := heard("ping", 2)
	require.Len(t, probes, 2)
	for i, p := range probes {
		assert.Equal(t, 7+i, p.More.(reading.Probe).Number, "as the kind tells it")
	}
	assert.Len(t, made, 2)
	hops, _ := heard("trace", 1)
	assert.Equal(t, 3, hops[0].More.(route.Probe).TTL)
	bytes, _ := heard("stream", 1)
	assert.Equal(t, kind.Progress{Done: 2000, Of: 4000, Says: "there", More: nearend.Progress{There: 1000, Back: 500}}, bytes[0])
	standing, err := s.worker.Standing()
	require.NoError(t, err)
	assert.JSONEq(t, `{"host":"pier"}`, string(standing))
	lanes, err := s.worker.Locate(t.Context(), protocol.LocateOrder{Kind: "ping", Version: 1, Targets: []string{"holm"}})
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.7", lanes[0].Address.String())
	at, err := s.worker.Expect(protocol.Ticket{})
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.7:7474", at)
	_, err = s.worker.Do(t.Context(), orderOf("dowse", 1), nil)
	require.EqualError(t, err, "no such dowse")

	ctx, cancel := context.WithCancel(t.Context())
	var told atomic.Int64
	_, err = s.worker.Do(ctx, orderOf("sweep", 1), func(p kind.Progress) { told.Store(p.Done); cancel() })
	assert.Equal(t, int64(42), told.Load())
	require.ErrorIs(t, err, context.Canceled, "nobody waits for it any more")
}

func TestAnAgentThatIsAway(t *testing.T) {
	s := serve(t)
	_, err := s.worker.Do(t.Context(), orderOf("ping", 1), nil)
	require.ErrorIs(t, err, remote.ErrAway)
	require.ErrorContains(t, err, `agent "pier" is not connected since`)
	_, err = s.worker.Expect(protocol.Ticket{})
	require.ErrorIs(t, err, remote.ErrAway)

	// It comes, its connection breaks in the middle of a sweep, and it comes again.
	w := &worker{holds: make(chan struct{})}
	s.linked(t, w)
	done := make(chan struct{})
	go func() {
		_, err := s.worker.Do(context.Background(), orderOf("sweep", 1), func(kind.Progress) { s.CloseClientConnections() })
		assert.ErrorIs(t, err, remote.ErrAway)
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("nobody was told that the connection broke")
	}
	require.Eventually(t, func() bool { ok, _ := s.worker.Connected(); return ok }, time.Minute, time.Millisecond)
	assert.Positive(t, s.same.Load(), "it asked for its plan again, and it was the same")
}

func TestAnAgentThatIsLockedOut(t *testing.T) {
	s := serve(t)
	ended := s.linked(t, &worker{holds: make(chan struct{})})
	s.shut.Store(true)
	s.worker.Remove()
	select {
	case err := <-ended:
		require.ErrorIs(t, err, remote.ErrLockedOut)
	case <-time.After(20 * time.Second):
		t.Fatal("it does not end")
	}
	_, _, ok := s.worker.Connect(t.Context())
	assert.False(t, ok)
}

// TestASecondConnection: the newest holds, the earlier one ends.
func TestASecondConnection(t *testing.T) {
	h := remote.NewProxy(ident.New(), "pier", &kept{})
	_, first, ok := h.Connect(t.Context())
	require.True(t, ok)
	line, second, ok := h.Connect(t.Context())
	require.True(t, ok)
	<-first.Done()
	require.NoError(t, second.Err())
	go func() {
		c := <-line
		h.Reply(protocol.Reply{Command: c.ID, Last: true, Error: "no such walk"})
	}()
	_, err := h.Do(t.Context(), orderOf("walk", 1), nil)
	require.EqualError(t, err, "no such walk")
	h.Reply(protocol.Reply{Command: ident.New(), Last: true}) // to nothing that was asked
	connected, _ := h.Connected()
	assert.True(t, connected)
}

// TestAnAgentTrustsWhomItIsTold: a service whose certificate an authority of our own gave.
func TestAnAgentTrustsWhomItIsTold(t *testing.T) {
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_ = json.NewEncoder(w).Encode(remote.JoinAnswer{Name: "pier", Key: "k"})
	}))
	defer s.Close()
	s.Config.ErrorLog = slog.NewLogLogger(slog.DiscardHandler, slog.LevelError)
	_, err := remote.Join(t.Context(), s.URL, "code", remote.JoinRequest{Name: "pier"}, nil, "")
	require.ErrorContains(t, err, "certificate")
	own := x509.NewCertPool()
	own.AddCert(s.Certificate())
	me, err := remote.Join(t.Context(), s.URL, "code", remote.JoinRequest{Name: "pier"}, own, "")
	require.NoError(t, err)
	assert.Equal(t, "pier", me.Name)
	// Or one that shows the key that the invite says, and no other.
	me, err = remote.Join(t.Context(), s.URL, "code", remote.JoinRequest{Name: "pier"}, nil, keys.Pin(s.Certificate()))
	require.NoError(t, err)
	assert.Equal(t, "pier", me.Name)
	_, err = remote.Join(t.Context(), s.URL, "code", remote.JoinRequest{Name: "pier"}, own, "sha256:"+strings.Repeat("0", 64))
	require.ErrorIs(t, err, keys.ErrOtherKey, "whoever vouches for it")
}

// TestAServiceOfTheReleaseBefore: what it would refuse for good waits until it is updated.
func TestAServiceOfTheReleaseBefore(t *testing.T) {
	uploads := 0
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, strconv.Itoa(protocol.Version), r.Header.Get(protocol.VersionHeader))
		uploads++
		w.WriteHeader(http.StatusNoContent)
	}))
	t.Cleanup(s.Close)
	var log bytes.Buffer
	l := &remote.Link{Base: s.URL, Key: "key", Log: slog.New(slog.NewTextHandler(&log, nil))}
	require.NoError(t, l.Upload(t.Context(), protocol.Upload{}))
	require.NoError(t, l.Upload(t.Context(), protocol.Upload{}))
	assert.Equal(t, 1, strings.Count(log.String(), "older release than this agent"), "told once")
	err := l.Upload(t.Context(), protocol.Upload{Made: []protocol.Made{{Run: ident.New()}}})
	require.ErrorContains(t, err, "older release")
	assert.NotErrorIs(t, err, protocol.ErrRefused, "it is not set aside")
	assert.Equal(t, 2, uploads)
}
