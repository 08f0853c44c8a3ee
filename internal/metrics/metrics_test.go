package metrics_test

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus/testutil"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	"google.golang.org/protobuf/proto"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/metrics"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

func TestMain(m *testing.M) { os.Exit(storetest.Main(m)) }

// measured is a service with a path of two hours of 10 ms, of which the last minute loses 6 of 60,
// and a path that nothing was measured of.
func measured(t *testing.T) *metrics.Registry {
	t.Helper()
	c, err := service.New(t.Context(), service.Options{Store: storetest.New(t), Zone: time.UTC})
	require.NoError(t, err)
	require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: "quay", Kind: "simulated"}, nil))
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "192.0.2.2"}}, false)
	require.NoError(t, err)
	a, err := c.Fleet.Named("quay")
	require.NoError(t, err)
	end := time.Now().Truncate(time.Minute)
	upload := func(ago, lost int) {
		at := end.Add(-time.Duration(ago) * time.Minute)
		var probes []reading.Probe
		for i := range 60 {
			p := reading.Probe{DueAt: at.Add(time.Duration(i) * time.Second)}
			if i >= lost {
				p.Outcome, p.RTT = reading.Answered, 10*time.Millisecond
			}
			probes = append(probes, p)
		}
		r := protocol.Record{Path: w.Paths[0], Reading: reading.Of(at, time.Minute, 60, time.Second, probes), Packed: reading.Pack(at, probes)}
		require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: a.ID, Readings: []protocol.Record{r}}))
	}
	for ago := 120; ago > 1; ago-- {
		upload(ago, 0)
	}
	_, err = c.Paths.TakeBaseline(t.Context(), w.Paths[0], 3*time.Hour, true)
	require.NoError(t, err)
	upload(1, 6)
	return metrics.New(metrics.Options{Service: c, Version: "0.1.0"})
}

const labels = `family="4",from="quay",to="192.0.2.1",via="icmp"`

func TestWhatIsGiven(t *testing.T) {
	r := measured(t)
	web := httptest.NewServer(r.Handler())
	defer web.Close()
	q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, web.URL, nil)
	require.NoError(t, err)
	q.Header.Set("Accept", "application/openmetrics-text; version=1.0.0")
	answer, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	text := string(b)
	assert.True(t, strings.HasSuffix(text, "# EOF\n"), "OpenMetrics ends so")
	for _, line := range []string{
		`woodlark_paths{state="unmeasured"} 1.0`, `woodlark_paths{state="lost"} 0.0`, `woodlark_path_rtt_median_seconds{` + labels + `} 0.01`, `woodlark_path_rtt_p95_seconds{` + labels + `} 0.01`, `woodlark_path_loss_ratio{` + labels + `} 0.1`, `woodlark_path_jitter_seconds{` + labels + `} 0.0`,
		`woodlark_path_state{family="4",from="quay",state="unmeasured",to="192.0.2.2",via="icmp"} 1.0`, `woodlark_agent_up{agent="quay"} `, `woodlark_database_up 1.0`, `woodlark_messages{state="waiting"} 0.0`, `woodlark_build_info{go="`, `woodlark_database_connections{state="most"} `, `woodlark_disk_full 0.0`,
		`woodlark_path_rtt_normal_seconds{bound="expected",` + labels + `} 0.01`, `woodlark_path_loss_normal_ratio{bound="expected",` + labels + `} 0.0`, `woodlark_path_reading_age_seconds{` + labels + `} `, `woodlark_database_ping_seconds `,
	} {
		assert.Contains(t, text, "\n"+line)
	}
	// By ITU-T G.107: 10 ms and a tenth lost with G.711.
	mos := regexp.MustCompile(`woodlark_path_mos\{` + regexp.QuoteMeta(labels) + `\} ([0-9.]+)`).FindStringSubmatch(text)
	require.Len(t, mos, 2)
	assert.Regexp(t, `^[23]\.`, mos[1])
	assert.NotContains(t, text, `woodlark_path_rtt_median_seconds{family="4",from="quay",to="192.0.2.2"`, "unknown is absent")
	problems, err := testutil.GatherAndLint(r.Registry)
	require.NoError(t, err)
	for _, p := range problems {
		assert.Fail(t, p.Metric+": "+p.Text)
	}
}

// TestCallsAreTimedByRoute, so that callers cannot make more of them.
func TestCallsAreTimedByRoute(t *testing.T) {
	r := measured(t)
	router := chi.NewRouter()
	router.Use(r.Time)
	router.Get("/things/{id}", func(http.ResponseWriter, *http.Request) {})
	router.Get("/stream", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		w.WriteHeader(http.StatusOK)
	})
	for _, x := range []struct{ method, path string }{{"GET", "/things/1"}, {"GET", "/things/2"}, {"GET", "/nothing"}, {"BREW", "/else"}, {"GET", "/stream"}} {
		router.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest(x.method, x.path, nil))
	}
	n, err := testutil.GatherAndCount(r.Registry, "woodlark_http_request_duration_seconds")
	require.NoError(t, err)
	assert.Equal(t, 3, n)
}

// TestFiguresArePushed by OTLP, also once the collector is back.
func TestFiguresArePushed(t *testing.T) {
	r := measured(t)
	var mu sync.Mutex
	got, tries := map[string]float64{}, 0
	box := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, _ := io.ReadAll(q.Body)
		mu.Lock()
		defer mu.Unlock()
		if tries++; tries < 3 {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		var m collector.ExportMetricsServiceRequest
		assert.Equal(t, "/v1/metrics", q.URL.Path)
		assert.NoError(t, proto.Unmarshal(body, &m))
		for _, of := range m.ResourceMetrics {
			for _, a := range of.Resource.Attributes {
				if a.Key == "service.name" {
					got[a.Value.GetStringValue()] = 1
				}
			}
			for _, s := range of.ScopeMetrics {
				for _, x := range s.Metrics {
					for _, p := range x.GetGauge().GetDataPoints() {
						got[x.Name] = p.GetAsDouble()
					}
				}
			}
		}
	}))
	defer box.Close()
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error)
	go func() {
		ended <- r.Push(ctx, box.URL+"/v1/metrics", 10*time.Millisecond, "0.1.0", slog.New(slog.DiscardHandler))
	}()
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(got) > 0
	}, time.Minute, 5*time.Millisecond)
	stop()
	require.NoError(t, <-ended)
	assert.InDelta(t, 0.1, got["woodlark_path_loss_ratio"], 1e-9)
	assert.InDelta(t, 0.01, got["woodlark_path_rtt_median_seconds"], 1e-9)
	assert.Contains(t, got, "woodlark")
}
