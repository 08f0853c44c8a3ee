// Package metrics gives what an operator and a dashboard need of a service as figures by name
// and label: asked for in OpenMetrics, or pushed by OTLP. Units are the base ones: seconds,
// bits a second, ratios of 0 to 1.
//
//	r := metrics.New(metrics.Options{Service: s, Version: "0.1.0"})
//	router.Handle("/metrics", r.Handler())
package metrics

import (
	"context"
	"net/http"
	"runtime"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/core/objective"
	"woodlark.example/internal/service"
)

// Options of a Registry; all are needed.
type Options struct {
	Service *service.Service
	Version string
}

// Registry knows all figures of a service.
type Registry struct {
	*prometheus.Registry
	calls *prometheus.HistogramVec
}

// New reads figures off a service when they are asked for.
func New(o Options) *Registry {
	r := &Registry{prometheus.NewRegistry(), prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "woodlark_http_request_duration_seconds", Help: "How long calls over HTTP took, but for streams.", Buckets: []float64{.002, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10}}, []string{"method", "route", "code"})}
	r.MustRegister(collector{o}, r.calls, collectors.NewGoCollector(collectors.WithGoCollectorMemStatsMetricsDisabled()), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return r
}

// Handler answers in OpenMetrics, or in the text form of before.
func (r *Registry) Handler() http.Handler {
	return promhttp.HandlerFor(r.Registry, promhttp.HandlerOpts{EnableOpenMetrics: true})
}

// Time times calls by their route, of which there are as many as the interface has.
func (r *Registry) Time(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		seen := middleware.NewWrapResponseWriter(w, q.ProtoMajor)
		began := time.Now()
		next.ServeHTTP(seen, q)
		if seen.Header().Get("Content-Type") == "text/event-stream" {
			return // it took as long as somebody listened
		}
		route := "other"
		if c := chi.RouteContext(q.Context()); c != nil && c.RoutePattern() != "" && c.RoutePattern() != "/*" {
			route = c.RoutePattern()
		}
		status := seen.Status()
		if status == 0 {
			status = http.StatusOK
		}
		r.calls.WithLabelValues(methodOf(q.Method), route, strconv.Itoa(status)).Observe(time.Since(began).Seconds())
	})
}

// methodOf is a method by its name; callers make up others.
func methodOf(m string) string {
	switch m {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
		return m
	}
	return "other"
}

// one figure and how it is made known.
type one struct {
	*prometheus.Desc
	kind prometheus.ValueType
}

func gauge(name, help string, labels ...string) one {
	return one{prometheus.NewDesc("woodlark_"+name, help, labels, nil), prometheus.GaugeValue}
}

func ofPath(name, help string, more ...string) one {
	return gauge("path_"+name, help, append([]string{"from", "to", "family", "via"}, more...)...)
}

var (
	paths       = gauge("paths", "Watched paths by state.", "state")
	state       = ofPath("state", "1 for the state that a path is in: steady, degraded, lost or unmeasured; 0 for the others.", "state")
	age         = ofPath("reading_age_seconds", "How long ago the last reading of a path ended.")
	rttMedian   = ofPath("rtt_median_seconds", "Median round-trip time of a path's last reading.")
	rtt95       = ofPath("rtt_p95_seconds", "95 % quantile of the round-trip times of a path's last reading.")
	rttNormal   = ofPath("rtt_normal_seconds", "What the median round trip of a path is normally at this hour: expected, and the band (low, high) that nine of ten readings lie in.", "bound")
	jitter      = ofPath("jitter_seconds", "Jitter of a path's last reading: the mean difference of successive round trips.")
	loss        = ofPath("loss_ratio", "Loss of a path's last reading.")
	lossNormal  = ofPath("loss_normal_ratio", "What the loss of a path is normally at this hour: expected, and the upper end (high) of the band.", "bound")
	mos         = ofPath("mos", "MOS of a call over a path (ITU-T G.107, G.711), estimated of its last reading's mean round trip and loss, half of each for one way.")
	carries     = ofPath("throughput_bits_per_second", "Throughput that was last measured for a path, there and back.", "way")
	agentUp     = gauge("agent_up", "1 while an agent is connected.", "agent")
	agentSeen   = gauge("agent_seen_age_seconds", "How long ago an agent was last heard of.", "agent")
	clockOff    = gauge("agent_clock_offset_seconds", "How far the clock of an agent is off, where it is off.", "agent")
	runs        = gauge("runs_hour", "Runs that began within the last hour, by outcome.", "outcome")
	messages    = gauge("messages", "Messages to people that wait or are held back.", "state")
	aside       = gauge("set_aside", "Things that agents set aside because nobody takes them.")
	heldBack    = gauge("readings_held_back", "Readings that wait for the database.")
	diskFull    = gauge("disk_full", "1 while a disk that the service needs is full.")
	databaseUp  = gauge("database_up", "1 while the database takes readings.")
	databaseRTT = gauge("database_ping_seconds", "How long the database takes to answer.")
	connections = gauge("database_connections", "Connections to the database: in use, idle, and the most there may be.", "state")
	waited      = one{prometheus.NewDesc("woodlark_database_waits_total", "How often a connection was waited for.", nil, nil), prometheus.CounterValue}
	build       = gauge("build_info", "1, with the version of the program.", "version", "go")
)

// all figures; those of paths are for each path.
var all = []one{paths, state, age, rttMedian, rtt95, rttNormal, jitter, loss, lossNormal, mos, carries, agentUp, agentSeen, clockOff, runs, messages, aside, heldBack, diskFull, databaseUp, databaseRTT, connections, waited, build}

// collector reads figures off the service when they are asked for.
type collector struct{ Options }

func (collector) Describe(out chan<- *prometheus.Desc) {
	for _, d := range all {
		out <- d.Desc
	}
}

const askTime = 5 * time.Second

func (x collector) Collect(out chan<- prometheus.Metric) {
	give := func(d one, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d.Desc, d.kind, v, labels...)
	}
	ctx, cancel := context.WithTimeout(context.Background(), askTime)
	defer cancel()
	x.ofPaths(give, time.Now())
	x.ofAgents(give, time.Now())
	x.ofDatabase(ctx, give)
	s := x.Service
	give(heldBack, float64(s.Fleet.HeldBack()))
	give(aside, float64(s.Fleet.SetAside()))
	give(diskFull, truth(s.Notices.Disk() != ""))
	give(build, 1, x.Version, runtime.Version())
}

func truth(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

func (x collector) ofPaths(give func(one, float64, ...string), now time.Time) {
	counts := map[guard.State]int{}
	for _, st := range guard.States() {
		counts[st] = 0
	}
	for _, v := range x.Service.Views(service.Filter{}) {
		counts[v.Verdict.State]++
		labels := []string{v.Agent.Name, v.Target, strconv.Itoa(int(v.Family)), v.Via}
		with := func(more string) []string { return append(labels[:4:4], more) }
		for _, st := range guard.States() {
			give(state, truth(st == v.Verdict.State), with(string(st))...)
		}
		if v.Baseline != nil {
			normal(give, v.Baseline, now, with)
		}
		if t := v.Throughput; t != nil {
			for way, bps := range map[string]*float64{"there": t.There.Bps, "back": t.Back.Bps} {
				if bps != nil {
					give(carries, *bps, with(way)...)
				}
			}
		}
		if v.Last == nil {
			continue
		}
		r := v.Last.Reading
		give(age, max(0, now.Sub(r.At.Add(r.Span)).Seconds()), labels...)
		if v.Verdict.State == guard.StateUnmeasured {
			continue
		}
		f := r.Figures()
		for d, ms := range map[one]*float64{rttMedian: f.RTTMedianMs, rtt95: f.RTTP95Ms, jitter: f.JitterMs} {
			if ms != nil {
				give(d, *ms/1000, labels...)
			}
		}
		ratio, known := r.Loss().Value().Get()
		if !known {
			continue
		}
		give(loss, ratio, labels...)
		if f.RTTMeanMs != nil {
			give(mos, objective.CallQuality(time.Duration(*f.RTTMeanMs*float64(time.Millisecond)), ratio), labels...)
		}
	}
	for st, n := range counts {
		give(paths, float64(n), string(st))
	}
}

func normal(give func(one, float64, ...string), b *baseline.Baseline, now time.Time, with func(string) []string) {
	if n, ok := b.At(baseline.RTT, now); ok {
		for bound, ms := range map[string]float64{"low": n.Low, "expected": n.Expected, "high": n.High} {
			give(rttNormal, ms/1000, with(bound)...)
		}
	}
	if n, ok := b.At(baseline.Loss, now); ok {
		for bound, ratio := range map[string]float64{"expected": n.Expected, "high": n.High} {
			give(lossNormal, ratio, with(bound)...)
		}
	}
}

func (x collector) ofAgents(give func(one, float64, ...string), now time.Time) {
	for _, a := range x.Service.Fleet.Views() {
		give(agentUp, truth(a.Connected), a.Name)
		if a.SeenAt != nil {
			give(agentSeen, max(0, now.Sub(*a.SeenAt).Seconds()), a.Name)
		}
	}
	for name, off := range x.Service.Fleet.Clocks() {
		give(clockOff, off.Seconds(), name)
	}
}

// ofDatabase gives what the database knows; nothing of it while that is away.
func (x collector) ofDatabase(ctx context.Context, give func(one, float64, ...string)) {
	s := x.Service
	since, _ := s.Notices.Away()
	give(databaseUp, truth(since.IsZero()))
	pool := s.Store.Pool()
	give(connections, float64(pool.InUse), "in use")
	give(connections, float64(pool.Idle), "idle")
	give(connections, float64(pool.MaxOpenConnections), "most")
	give(waited, float64(pool.WaitCount))
	began := time.Now()
	if !since.IsZero() || s.Store.Ping(ctx) != nil {
		return
	}
	give(databaseRTT, time.Since(began).Seconds())
	if outcomes, err := s.Store.Outcomes(ctx, began.Add(-time.Hour)); err == nil {
		for outcome, n := range outcomes {
			give(runs, float64(n), outcome)
		}
	}
	if states, err := s.Store.MessageStates(ctx); err == nil {
		for st, n := range states {
			give(messages, float64(n), st)
		}
	}
}
