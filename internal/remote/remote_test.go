package remote_test

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/remote"
)

// kept is a service that keeps what is uploaded.
type kept struct {
	mu   sync.Mutex
	list []plan.Upload
}

func (k *kept) Upload(_ context.Context, u plan.Upload) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.list = append(k.list, u)
	return nil
}

func (k *kept) uploads() []plan.Upload {
	k.mu.Lock()
	defer k.mu.Unlock()
	return append([]plan.Upload{}, k.list...)
}

// worker is an agent that does what it is told at once.
type worker struct {
	mu    sync.Mutex
	tasks []plan.Task
	holds chan struct{} // a sweep lasts until it ends, or is stopped
}

func (w *worker) SetPlan(tasks []plan.Task)  { w.mu.Lock(); w.tasks = tasks; w.mu.Unlock() }
func (w *worker) SetSweeps([]plan.SweepTask) {}
func (w *worker) SetTraces([]plan.TraceTask) {}
func (w *worker) HeldBack() int              { return 0 }
func (w *worker) Deliver([]plan.Trace)       {}
func (w *worker) Measure(_ context.Context, o plan.Order, heard func(int, reading.Probe)) {
	for i := range o.Paths {
		heard(i, reading.Probe{Number: 7 + i, Outcome: reading.Answered, RTT: time.Millisecond})
	}
}
func (w *worker) Sweep(ctx context.Context, _ ident.ID, _ plan.SweepOrder, sent func(uint64)) {
	sent(42)
	select {
	case <-w.holds:
	case <-ctx.Done():
	}
}
func (w *worker) Trace(_ context.Context, o plan.TraceOrder, heard func(int, route.Probe)) []plan.Trace {
	heard(0, route.Probe{TTL: 3})
	return []plan.Trace{{ID: o.Targets[0].ID, Target: o.Targets[0].Target, Outcome: plan.Done}}
}
func (w *worker) Standing() (json.RawMessage, error) { return json.RawMessage(`{"host":"pier"}`), nil }
func (w *worker) Walk(_ context.Context, o plan.WalkOrder) (finding.WalkReport, error) {
	return finding.WalkReport{Target: o.Target}, nil
}
func (w *worker) Expect(t plan.Ticket) (string, error) { return "192.0.2.7:7474", nil }
func (w *worker) TwoEnded(_ context.Context, o plan.TwoEndedOrder, heard func(plan.TwoGoing)) plan.TwoEnded {
	heard(plan.TwoGoing{Says: "there", Share: 0.5, Seconds: 2, There: 1000, Back: 500})
	return plan.TwoEnded{ID: o.ID, Kind: o.Kind, Outcome: plan.Done, Report: json.RawMessage(`{}`)}
}

// side is the service's side over HTTP, as bare as it can be.
type side struct {
	*httptest.Server
	hand    *remote.Hand
	service *kept
	fetched atomic.Int64
	same    atomic.Int64
	shut    atomic.Bool // nobody has this key any more
}

func serve(t *testing.T) *side {
	s := &side{service: &kept{}}
	s.hand = remote.NewHand(ident.New(), "pier", s.service)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /api/v1/agent/plan", func(w http.ResponseWriter, r *http.Request) {
		p, tag := s.hand.Plan()
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
		line, ctx, ok := s.hand.Connect(r.Context())
		if !ok {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		flush := http.NewResponseController(w)
		_ = json.NewEncoder(w).Encode(plan.Command{Kind: plan.StillThere})
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
		var list []plan.Reply
		assert.NoError(t, unpacked(r, &list))
		for _, x := range list {
			s.hand.Reply(x)
		}
	})
	mux.HandleFunc("POST /api/v1/agent/health", func(w http.ResponseWriter, r *http.Request) {
		var h plan.Health
		assert.NoError(t, unpacked(r, &h))
		s.hand.NoteHealth(h)
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
	l := &remote.Link{Base: s.URL, Key: "key", Log: slog.New(slog.DiscardHandler), Health: func() plan.Health { return plan.Health{Version: "9", HeldBack: 3} }}
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
	require.Eventually(t, func() bool { ok, _ := s.hand.Connected(); return ok }, 10*time.Second, time.Millisecond)
	return ended
}

func TestWhatAnAgentIsTold(t *testing.T) {
	s, w := serve(t), &worker{holds: make(chan struct{})}
	s.hand.SetPlan([]plan.Task{{Target: "192.0.2.9"}})
	s.linked(t, w)
	targets := func() []plan.Task { w.mu.Lock(); defer w.mu.Unlock(); return w.tasks }
	require.Eventually(t, func() bool { return len(targets()) == 1 }, 10*time.Second, time.Millisecond)
	before := s.fetched.Load()
	s.hand.SetPlan([]plan.Task{{Target: "192.0.2.9"}})
	s.hand.SetPlan([]plan.Task{{Target: "192.0.2.9"}, {Target: "192.0.2.10"}})
	require.Eventually(t, func() bool { return len(targets()) == 2 }, 10*time.Second, time.Millisecond, "it is told when its plan is another")
	assert.LessOrEqual(t, s.fetched.Load()-before, int64(2), "and not when it is the same")
	require.Eventually(t, func() bool { return s.hand.HeldBack() == 3 }, 10*time.Second, time.Millisecond)

	var probes []reading.Probe
	s.hand.Measure(t.Context(), plan.Order{Probes: 1, Paths: []plan.OrderPath{{}, {}}}, func(i int, p reading.Probe) {
		assert.Equal(t, 7+i, p.Number)
		probes = append(probes, p)
	})
	assert.Len(t, probes, 2)
	id := ident.New()
	traces := s.hand.Trace(t.Context(), plan.TraceOrder{Targets: []plan.TraceTarget{{ID: id, Target: "x"}}}, func(_ int, p route.Probe) { assert.Equal(t, 3, p.TTL) })
	require.Len(t, traces, 1)
	assert.Equal(t, id, traces[0].ID)
	standing, err := s.hand.Standing()
	require.NoError(t, err)
	assert.JSONEq(t, `{"host":"pier"}`, string(standing))
	walk, err := s.hand.Walk(t.Context(), plan.WalkOrder{Target: "holm"})
	require.NoError(t, err)
	assert.Equal(t, "holm", walk.Target)
	at, err := s.hand.Expect(plan.Ticket{})
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.7:7474", at)
	x := s.hand.TwoEnded(t.Context(), plan.TwoEndedOrder{ID: id, Kind: plan.Stream}, func(g plan.TwoGoing) {
		assert.Equal(t, plan.TwoGoing{Says: "there", Share: 0.5, Seconds: 2, There: 1000, Back: 500}, g)
	})
	assert.Equal(t, plan.Done, x.Outcome)
	s.hand.Deliver(traces)
	assert.Len(t, s.service.uploads(), 1)

	ctx, cancel := context.WithCancel(t.Context())
	var told atomic.Uint64
	s.hand.Sweep(ctx, id, plan.SweepOrder{}, func(n uint64) { told.Store(n); cancel() })
	assert.Equal(t, uint64(42), told.Load())
	last := s.service.uploads()
	require.Len(t, last[len(last)-1].Sweeps, 1, "what nobody waits for any more has failed, with its reason")
	assert.Equal(t, plan.Failed, last[len(last)-1].Sweeps[0].Outcome)
}

func TestAnAgentThatIsAway(t *testing.T) {
	s := serve(t)
	run, path := ident.New(), ident.New()
	s.hand.Measure(t.Context(), plan.Order{Paths: []plan.OrderPath{{Run: run, Path: path}}}, nil)
	list := s.service.uploads()
	require.Len(t, list, 1)
	assert.Equal(t, run, list[0].Runs[0].ID)
	assert.Equal(t, plan.Failed, list[0].Runs[0].Outcome)
	assert.Contains(t, list[0].Runs[0].Reason, `agent "pier" is not connected since`)
	_, err := s.hand.Expect(plan.Ticket{})
	require.ErrorIs(t, err, remote.ErrAway)
	x := s.hand.TwoEnded(t.Context(), plan.TwoEndedOrder{}, nil)
	assert.Equal(t, plan.Failed, x.Outcome)

	// It comes, its connection breaks in the middle of a sweep, and it comes again.
	w := &worker{holds: make(chan struct{})}
	s.linked(t, w)
	done := make(chan struct{})
	go func() {
		s.hand.Sweep(context.Background(), ident.New(), plan.SweepOrder{}, func(uint64) { s.CloseClientConnections() })
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("nobody was told that the connection broke")
	}
	require.Eventually(t, func() bool { ok, _ := s.hand.Connected(); return ok }, 20*time.Second, time.Millisecond)
	assert.Positive(t, s.same.Load(), "it asked for its plan again, and it was the same")
}

func TestAnAgentThatIsLockedOut(t *testing.T) {
	s := serve(t)
	ended := s.linked(t, &worker{holds: make(chan struct{})})
	s.shut.Store(true)
	s.hand.Remove()
	select {
	case err := <-ended:
		require.ErrorIs(t, err, remote.ErrLockedOut)
	case <-time.After(20 * time.Second):
		t.Fatal("it does not end")
	}
	_, _, ok := s.hand.Connect(t.Context())
	assert.False(t, ok)
}

// TestASecondConnection: the newest holds, the earlier one ends.
func TestASecondConnection(t *testing.T) {
	h := remote.NewHand(ident.New(), "pier", &kept{})
	_, first, ok := h.Connect(t.Context())
	require.True(t, ok)
	line, second, ok := h.Connect(t.Context())
	require.True(t, ok)
	<-first.Done()
	require.NoError(t, second.Err())
	go func() {
		c := <-line
		h.Reply(plan.Reply{Command: c.ID, Last: true, Error: "no such walk"})
	}()
	_, err := h.Walk(t.Context(), plan.WalkOrder{})
	require.EqualError(t, err, "no such walk")
	h.Reply(plan.Reply{Command: ident.New(), Last: true}) // to nothing that was asked
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
	_, err := remote.Join(t.Context(), s.URL, "code", remote.JoinRequest{Name: "pier"}, nil)
	require.ErrorContains(t, err, "certificate")
	own := x509.NewCertPool()
	own.AddCert(s.Certificate())
	me, err := remote.Join(t.Context(), s.URL, "code", remote.JoinRequest{Name: "pier"}, own)
	require.NoError(t, err)
	assert.Equal(t, "pier", me.Name)
}
