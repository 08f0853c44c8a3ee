package api

import (
	"net/http"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"woodlark.example/core/guard"
	"woodlark.example/internal/service"
)

var (
	pathsDesc     = prometheus.NewDesc("woodlark_paths", "Watched paths by state.", []string{"state"}, nil)
	rttDesc       = prometheus.NewDesc("woodlark_path_rtt_median_seconds", "Median round-trip time of a path's last reading.", []string{"from", "to", "family", "via"}, nil)
	lossDesc      = prometheus.NewDesc("woodlark_path_loss_ratio", "Loss of a path's last reading.", []string{"from", "to", "family", "via"}, nil)
	asideDesc     = prometheus.NewDesc("woodlark_set_aside", "Things that agents set aside because nobody takes them.", nil, nil)
	clockDesc     = prometheus.NewDesc("woodlark_agent_clock_offset_seconds", "How far the clock of an agent is off, where it is off.", []string{"agent"}, nil)
	diskDesc      = prometheus.NewDesc("woodlark_disk_full", "1 while a disk that the service needs is full.", nil, nil)
	heldBackDesc  = prometheus.NewDesc("woodlark_readings_held_back", "Readings that wait for the database.", nil, nil)
	databaseDesc  = prometheus.NewDesc("woodlark_database_up", "1 while the database takes readings.", nil, nil)
	familyOfLabel = map[int]string{4: "4", 6: "6"}
)

// collector reads the metrics off the service when they are asked for.
type collector struct{ c *service.Service }

func (collector) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{pathsDesc, rttDesc, lossDesc, heldBackDesc, databaseDesc, asideDesc, clockDesc, diskDesc} {
		out <- d
	}
}

func (x collector) Collect(out chan<- prometheus.Metric) {
	views := x.c.Views(service.Filter{})
	for state, n := range count(views) {
		out <- prometheus.MustNewConstMetric(pathsDesc, prometheus.GaugeValue, float64(n), state)
	}
	for _, v := range views {
		if v.Last == nil || v.Verdict.State == guard.StateUnmeasured {
			continue
		}
		labels := []string{v.Agent.Name, v.Target, familyOfLabel[int(v.Family)], v.Via}
		if rtt, ok := v.Last.Reading.RTT.Median.Get(); ok {
			out <- prometheus.MustNewConstMetric(rttDesc, prometheus.GaugeValue, rtt.Seconds(), labels...)
		}
		if ratio, ok := v.Last.Reading.Loss().Value().Get(); ok {
			out <- prometheus.MustNewConstMetric(lossDesc, prometheus.GaugeValue, ratio, labels...)
		}
	}
	out <- prometheus.MustNewConstMetric(heldBackDesc, prometheus.GaugeValue, float64(x.c.Fleet.HeldBack()))
	up := 1.0
	if since, _ := x.c.Notices.Away(); !since.IsZero() {
		up = 0
	}
	full := 0.0
	if x.c.Notices.Disk() != "" {
		full = 1
	}
	out <- prometheus.MustNewConstMetric(diskDesc, prometheus.GaugeValue, full)
	out <- prometheus.MustNewConstMetric(asideDesc, prometheus.GaugeValue, float64(x.c.Fleet.SetAside()))
	for name, off := range x.c.Fleet.Clocks() {
		out <- prometheus.MustNewConstMetric(clockDesc, prometheus.GaugeValue, off.Seconds(), name)
	}
	out <- prometheus.MustNewConstMetric(databaseDesc, prometheus.GaugeValue, up)
}

func (s *server) metrics() http.Handler {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collector{s.c}, collectors.NewGoCollector(collectors.WithGoCollectorMemStatsMetricsDisabled()), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true})
}
