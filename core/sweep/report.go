package sweep

import (
	"net/netip"
	"time"

	"woodlark.example/core/figure"
)

// Report is a sweep as it is written for machines, the same on the command line
// and over HTTP. The unit is in each key; what is not known is null.
type Report struct {
	Prefixes         []string          `json:"prefixes" doc:"As they were asked for: prefixes, ranges, addresses"`
	Excluded         []string          `json:"excluded"`
	From             string            `json:"from"`
	Via              string            `json:"via"`
	StartedAt        time.Time         `json:"started_at"`
	Addresses        uint64            `json:"addresses"`
	Probed           uint64            `json:"probed" doc:"Addresses that were asked at least once"`
	Answered         uint64            `json:"answered" doc:"Addresses that answered"`
	ElapsedMs        float64           `json:"elapsed_ms"`
	Sent             uint64            `json:"sent" doc:"Packets"`
	PacketsPerSecond float64           `json:"packets_per_second" doc:"While sending"`
	Unsent           uint64            `json:"unsent" doc:"Packets that the host did not let out"`
	UnsentReason     string            `json:"unsent_reason"`
	Dropped          int               `json:"dropped" doc:"Answers that the host's own buffer had no room for"`
	Refused          map[string]uint64 `json:"refused,omitempty" doc:"Error answers, by what they said"`
	Cut              bool              `json:"cut" doc:"It was stopped before its end"`
	Warnings         []string          `json:"warnings"`
	Hosts            []HostReport      `json:"hosts" doc:"That answered, in order of their addresses"`
	ComparedAt       *time.Time        `json:"compared_with_at" doc:"When the sweep before of the same addresses was made; null when there was none"`
	New              []string          `json:"new" doc:"Answered now and not then; null without a sweep before"`
	Gone             []string          `json:"gone" doc:"Answered then and not now"`
	Slower           []SlowerReport    `json:"slower"`
}

// HostReport is one address that answered.
type HostReport struct {
	Address    string   `json:"address"`
	RTTMs      *float64 `json:"rtt_ms" doc:"The least; null when it could not be timed"`
	Name       string   `json:"name" doc:"By reverse lookup; empty when it has none or was not asked for"`
	MAC        string   `json:"mac" doc:"Hardware address, where it is on the own link"`
	By         string   `json:"by" doc:"What it answered first; neighbour when only its link did"`
	Open       []uint16 `json:"open_ports"`
	Closed     []uint16 `json:"closed_ports"`
	Other      string   `json:"answered_from" doc:"The address that answered in its place; empty when it did itself"`
	Timestamps string   `json:"timestamps"`
}

// SlowerReport is an address that answers later than it did.
type SlowerReport struct {
	Address  string  `json:"address"`
	RTTMs    float64 `json:"rtt_ms"`
	BeforeMs float64 `json:"before_ms"`
}

// Heard are the hosts of a report.
func (r Report) Heard() []Heard {
	list := make([]Heard, 0, len(r.Hosts))
	for _, h := range r.Hosts {
		a, err := netip.ParseAddr(h.Address)
		if err != nil {
			continue
		}
		heard := Heard{Addr: a}
		if h.RTTMs != nil {
			heard.RTT = figure.FromMillis(*h.RTTMs)
		}
		list = append(list, heard)
	}
	return list
}

// CompareWith notes how the sweep differs from the one before it of the same
// addresses. A sweep that was cut cannot tell what is gone.
func (r *Report) CompareWith(before Report) {
	d := Compare(before.Heard(), r.Heard())
	at := before.StartedAt
	r.ComparedAt, r.New, r.Gone, r.Slower = &at, texts(d.New), texts(d.Gone), []SlowerReport{}
	if r.Cut {
		r.Gone = nil
	}
	for _, s := range d.Slower {
		r.Slower = append(r.Slower, SlowerReport{s.Addr.String(), figure.Millis(s.Now), figure.Millis(s.Before)})
	}
}

func texts(list []netip.Addr) []string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.String()
	}
	return out
}
