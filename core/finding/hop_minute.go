package finding

import (
	"time"

	"woodlark.example/core/route"
)

// HopMinute is what one minute of a trace found at each hop.
type HopMinute struct {
	At    time.Time       `json:"at"` // its start
	Route string          `json:"route"`
	Hops  []HopMinuteLine `json:"hops"`
}

// HopMinuteLine is one hop of a HopMinute. A figure that is not known is null.
type HopMinuteLine struct {
	TTL          int      `json:"ttl"`
	Addresses    []string `json:"addresses"` // who answered, most flows first; empty when nobody did
	Probes       int      `json:"probes"`
	Answered     int      `json:"answered"`
	CarriedRatio *float64 `json:"carried_loss_ratio"`
	RTTMs        *float64 `json:"rtt_median_ms"`
	CarriedMs    *float64 `json:"carried_added_ms"`
}

// Minute is what a trace saw in a minute by itself. Key names the route that was in
// use then; targetSpares is as in Traced.
func Minute(at time.Time, r route.Route, key string, targetSpares bool) HopMinute {
	return Traced{Route: r, TargetSpares: targetSpares}.Report().minute(at, key)
}

// AsMinute is a whole trace as the minute in which it began.
func (r TraceReport) AsMinute() HopMinute {
	return r.minute(r.StartedAt.Truncate(time.Minute), r.Route().Key())
}

func (r TraceReport) minute(at time.Time, key string) HopMinute {
	m := HopMinute{At: at.UTC(), Route: key, Hops: []HopMinuteLine{}}
	for _, h := range r.Hops {
		l := HopMinuteLine{TTL: h.TTL, Addresses: []string{}, Probes: h.Probes, Answered: h.Answered, CarriedRatio: h.CarriedRatio, RTTMs: h.RTTMs, CarriedMs: h.CarriedMs}
		for _, n := range h.Nodes {
			l.Addresses = append(l.Addresses, n.Address)
		}
		m.Hops = append(m.Hops, l)
	}
	return m
}
