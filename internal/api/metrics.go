package api

import (
	"net/http"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"woodlark.example/core/baseline"
	"woodlark.example/internal/controller"
)

var (
	pathsDesc     = prometheus.NewDesc("woodlark_paths", "Watched paths by state.", []string{"state"}, nil)
	rttDesc       = prometheus.NewDesc("woodlark_path_rtt_median_seconds", "Median round-trip time of a path's last reading.", []string{"from", "to", "family"}, nil)
	lossDesc      = prometheus.NewDesc("woodlark_path_loss_ratio", "Loss of a path's last reading.", []string{"from", "to", "family"}, nil)
	heldBackDesc  = prometheus.NewDesc("woodlark_readings_held_back", "Readings that wait for the database.", nil, nil)
	databaseDesc  = prometheus.NewDesc("woodlark_database_up", "1 while the database takes readings.", nil, nil)
	familyOfLabel = map[int]string{4: "4", 6: "6"}
)

// collector reads the metrics off the controller when they are asked for.
type collector struct{ c *controller.Controller }

func (collector) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{pathsDesc, rttDesc, lossDesc, heldBackDesc, databaseDesc} {
		out <- d
	}
}

func (x collector) Collect(out chan<- prometheus.Metric) {
	views := x.c.Views(controller.Filter{})
	for state, n := range count(views) {
		out <- prometheus.MustNewConstMetric(pathsDesc, prometheus.GaugeValue, float64(n), state)
	}
	for _, v := range views {
		if v.Last == nil || v.Verdict.State == baseline.StateUnmeasured {
			continue
		}
		labels := []string{v.Agent.Name, v.Target, familyOfLabel[int(v.Family)]}
		if rtt, ok := v.Last.Reading.RTT.Median.Get(); ok {
			out <- prometheus.MustNewConstMetric(rttDesc, prometheus.GaugeValue, rtt.Seconds(), labels...)
		}
		if ratio, ok := v.Last.Reading.Loss().Value().Get(); ok {
			out <- prometheus.MustNewConstMetric(lossDesc, prometheus.GaugeValue, ratio, labels...)
		}
	}
	out <- prometheus.MustNewConstMetric(heldBackDesc, prometheus.GaugeValue, float64(x.c.HeldBack()))
	up := 1.0
	if !x.c.Away().IsZero() {
		up = 0
	}
	out <- prometheus.MustNewConstMetric(databaseDesc, prometheus.GaugeValue, up)
}

func (s *server) metrics() http.Handler {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collector{s.c}, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true})
}
