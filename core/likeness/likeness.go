// Package likeness makes of what was measured on a path the properties of a network that behaves so:
// the delay's distribution and memory, loss and its runs, order, rate and queue each way, route and
// MTU. What was not measured is named and left neutral.
//
//	l := likeness.Of(likeness.Measured{Probes: probes, Every: time.Second, Size: 84})
package likeness

import (
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/delay"
	"woodlark.example/core/reading"
)

// Measured is what is known of a path over a span.
type Measured struct {
	// Probes went to the far end and back, one Every so often, each of Size bytes with its IP header.
	Probes []reading.Probe
	Every  time.Duration
	Size   int
	// There and Back are what streams met; nil where none was sent.
	There, Back *Way
	// Offset says that the delays of There and Back are each off by what the two clocks are apart.
	Offset bool
	// CarriedThere and CarriedBack are what throughput tests reached.
	CarriedThere, CarriedBack *Carried
	Hops                      []Hop
	MTU                       int // of the path; 0 when not known
}

// Way is what a stream met in one direction.
type Way struct {
	Every      time.Duration
	Sent       int
	Lost       int // of Sent; −1 when it is not known which way packets were lost
	Runs       int // in which they were lost
	Received   int
	Duplicates int
	Reordered  int
	Held       time.Duration // how much later the reordered came than they would have; 0 when not known
	Quantiles  []Quantile    // of the delay, ascending
	Memory     delay.Memory
}

// Quantile is a delay that a part of all do not exceed.
type Quantile struct {
	Part  float64
	Delay time.Duration
}

// Carried is what a throughput test reached in one direction.
type Carried struct {
	IP         capacity.Rate   // of IP packets
	Spans      []capacity.Rate // likewise, of its parts, without the warm-up
	Rest, Load time.Duration   // median RTT before and meanwhile; 0 when not known
	// Most is the longest round trip that the sender's own kernel saw, smoothed, of any second;
	// 0 when not known.
	Most time.Duration
	// Whole says that nothing had to be sent again: a queue on the way was never full.
	Whole bool
	Held  capacity.Cause
}

// Hop is a router on the way there, or the target as the last.
type Hop struct {
	Address string // empty when it stayed silent
	Name    string
	RTT     time.Duration // median; 0 when not known
}

// Likeness is a network that behaves as the path did.
type Likeness struct {
	Hops  []Link    `json:"hops" nullable:"false" doc:"The routers on the way, and the target as the last; none when the route is not known"`
	There Direction `json:"there"`
	Back  Direction `json:"back"`
	MTU   int       `json:"mtu,omitzero" doc:"Of the path, in bytes of IP; left out when not known"`
	Notes []string  `json:"notes" nullable:"false" doc:"What was not measured, and how it is given"`
}

// Link is a hop and how much of the delay the link to it has.
type Link struct {
	Address string  `json:"address" doc:"Empty when it stayed silent"`
	Name    string  `json:"name"`
	ThereMs float64 `json:"there_ms" doc:"One-way delay of the link that leads to it, in milliseconds"`
	BackMs  float64 `json:"back_ms"`
}

// Direction is what packets meet one way.
type Direction struct {
	DelayMs     float64  `json:"delay_ms" doc:"The least, one way, in milliseconds, without what sending takes at the rate"`
	Varies      []Bin    `json:"varies" nullable:"false" doc:"What is added to it, as parts of a histogram"`
	MemoryMs    float64  `json:"memory_ms" doc:"After that the correlation of what varies has fallen to 1/e; 0 when each packet's is its own"`
	MemoryShare float64  `json:"memory_share_ratio" doc:"Part of the variance that lasts"`
	LossRatio   float64  `json:"loss_ratio" doc:"Without outages"`
	LossRun     float64  `json:"loss_run" doc:"Mean of packets lost in a row where they come in bursts; 0 when at random"`
	LossEvery   int      `json:"loss_every,omitzero" doc:"One of so many is lost, regularly"`
	Outages     []Outage `json:"outages" nullable:"false" doc:"Spans in which nothing came through"`
	Duplicates  float64  `json:"duplicates_ratio"`
	Reorders    float64  `json:"reorders_ratio" doc:"Part of the packets that is held back"`
	HeldMs      float64  `json:"held_ms" doc:"For so long, in milliseconds"`
	RateBps     float64  `json:"rate_bps,omitzero" doc:"At the IP layer; left out when not known"`
	QueueMs     float64  `json:"queue_ms,omitzero" doc:"Before the rate; left out when not known"`
	Policed     bool     `json:"policed,omitzero" doc:"What exceeds the rate is dropped at once"`
}

// Bin of a histogram.
type Bin struct {
	FromMs float64 `json:"from_ms"`
	ToMs   float64 `json:"to_ms"`
	Part   float64 `json:"part"`
}

// Outage is a span after the beginning in which nothing came through.
type Outage struct {
	FromS float64 `json:"from_s"`
	ToS   float64 `json:"to_s"`
}
