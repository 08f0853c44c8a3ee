// Package apitype holds what the HTTP interface says and takes, as JSON. The
// service, its client and the OpenAPI document all come from these types.
package apitype

import (
	"encoding/json"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/sweep"
	"woodlark.example/internal/plan"
)

// Status is how the service stands.
type Status struct {
	Version           string         `json:"version"`
	Now               time.Time      `json:"now_at"`
	Zone              string         `json:"zone" doc:"Time zone whose hours baselines go by"`
	Paths             map[string]int `json:"paths" doc:"Number of watched paths by state"`
	Watches           int            `json:"watches"`
	Agents            int            `json:"agents"`
	HeldBack          int            `json:"held_back" doc:"Readings that wait for the database"`
	DatabaseAwaySince *time.Time     `json:"database_away_since_at" doc:"Null while the database takes readings"`
	DatabaseAwayWhy   string         `json:"database_away_why" doc:"Empty while it does"`
	DiskFull          string         `json:"disk_full" doc:"Which disk of the service is full; empty when none is"`
	SetAside          int            `json:"set_aside" doc:"Things that agents keep aside because nobody takes them"`
	ClocksOff         []ClockOff     `json:"clocks_off" doc:"Agents whose clocks are off by a minute or more"`
	Summary           string         `json:"summary" doc:"How the paths stand, in one line"`
}

// ClockOff is how far the clock of an agent is off.
type ClockOff struct {
	Agent   string  `json:"agent"`
	OffsetS float64 `json:"offset_s" doc:"Ahead when above zero"`
}

// Agent is a measurement agent.
type Agent struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Site    string     `json:"site"`
	Kind    string     `json:"kind" enum:"builtin,simulated,remote"`
	Address string     `json:"address"`
	Version string     `json:"version"`
	SeenAt  *time.Time `json:"seen_at"`
	// Alive says that it can be told something now.
	Alive  bool         `json:"alive"`
	LostAt *time.Time   `json:"lost_at" doc:"When an agent on another machine last was connected; null while it is"`
	Labels string       `json:"labels"`
	Health *plan.Health `json:"health,omitempty" doc:"What it says of itself; left out when it said nothing yet"`
}

// Invite lets one agent on another machine join.
type Invite struct {
	Code    string    `json:"code" doc:"Shown once"`
	EndsAt  time.Time `json:"ends_at"`
	Command string    `json:"command" doc:"To be run on the other machine"`
}

// InviteOrder asks for an invite.
type InviteOrder struct {
	Name   string `json:"name,omitempty" doc:"That the agent gets; its machine's when left out"`
	Site   string `json:"site,omitempty"`
	Labels string `json:"labels,omitempty"`
	Lasts  string `json:"lasts,omitempty" doc:"How long it can be used, such as 24h"`
}

// TwoEndedOrder asks for a measurement with two ends.
type TwoEndedOrder struct {
	Kind    string          `json:"kind" enum:"throughput,stream"`
	From    string          `json:"from" doc:"Name of the agent at the near end"`
	To      string          `json:"to" doc:"Name of the agent at the far end, or ADDRESS:PORT of a responder or of a reflector"`
	Key     string          `json:"key,omitempty" doc:"Of a responder without a service, or of a reflector's authenticated mode"`
	For     string          `json:"for,omitempty" doc:"How long, of one direction. Default 10s"`
	DSCP    string          `json:"dscp,omitempty"`
	Request plan.TwoRequest `json:"request,omitempty" doc:"What else there is to say"`
}

// TwoEnded is a measurement with two ends.
type TwoEnded struct {
	ID        string                    `json:"id"`
	Kind      string                    `json:"kind"`
	From      string                    `json:"from"`
	To        string                    `json:"to"`
	Watch     string                    `json:"watch,omitempty"`
	StartedAt time.Time                 `json:"started_at"`
	EndedAt   *time.Time                `json:"ended_at"`
	Outcome   string                    `json:"outcome"`
	Reason    string                    `json:"reason"`
	Says      string                    `json:"says,omitempty" doc:"Of one that is going on: what it does now"`
	Share     float64                   `json:"share_ratio,omitempty" doc:"Of that: how far it is"`
	Live      []LiveSecond              `json:"live,omitempty" doc:"Of that: the run that goes on, second by second"`
	ThereBps  *float64                  `json:"there_bps" doc:"Payload, at the receiver"`
	BackBps   *float64                  `json:"back_bps"`
	MOS       *float64                  `json:"mos" doc:"Of the worse direction"`
	Through   *finding.ThroughputReport `json:"throughput,omitempty"`
	Stream    *finding.StreamReport     `json:"stream,omitempty"`
}

// LiveSecond is what arrived each way in about a second of a run that goes on.
type LiveSecond struct {
	Start    float64 `json:"start_s"`
	Length   float64 `json:"span_s"`
	ThereBps float64 `json:"there_bps"`
	BackBps  float64 `json:"back_bps"`
}

// Finding is one conclusion.
type Finding = finding.Finding

// FindingsOf is a list of findings that is never null.
func FindingsOf(list []finding.Finding) []Finding { return append([]Finding{}, list...) }

// Reading is one reading of a path.
type Reading struct {
	reading.Figures
	PathID string   `json:"path_id"`
	RunID  *string  `json:"run_id" doc:"The run it belongs to; null for a minute of a continuous watch"`
	Notes  []string `json:"notes" doc:"What is particular: short, held_back, resumed, cut, clock_set, on_demand, load_overlap, clock_wrong"`
}

// Band is what is normal of a measure at an hour.
type Band struct {
	Low    float64 `json:"low" doc:"Nine of ten readings lie between low and high"`
	Median float64 `json:"median"`
	High   float64 `json:"high"`
}

// Normal is what is normal for a path at the time of its last reading.
type Normal struct {
	RTTMs      *Band  `json:"rtt_ms,omitempty"`
	JitterMs   *Band  `json:"jitter_ms,omitempty"`
	LossRatio  *Band  `json:"loss_ratio,omitempty"`
	Resolution string `json:"resolution" doc:"hour_of_week, hour_of_day or overall"`
}

// Sketch is the last day of a path in small, one value a step; the baseline's
// band has one value an hour, from start_at on.
type Sketch struct {
	StartAt     time.Time  `json:"start_at"`
	StepS       int        `json:"step_s"`
	RTTMedianMs []*float64 `json:"rtt_median_ms"`
	LossRatio   []*float64 `json:"loss_ratio"`
	LowMs       []*float64 `json:"normal_low_ms" doc:"One an hour"`
	HighMs      []*float64 `json:"normal_high_ms" doc:"One an hour"`
}

// Path is a directed pair of an agent and a target, and how it stands.
type Path struct {
	ID            string     `json:"id"`
	From          string     `json:"from" doc:"Name of the agent"`
	FromSite      string     `json:"from_site"`
	To            string     `json:"to" doc:"Name or address of the target"`
	ToSite        string     `json:"to_site"`
	Family        int        `json:"family" enum:"4,6"`
	Via           string     `json:"via" doc:"Kind of probe: icmp, tcp:PORT, udp:PORT or stamp"`
	Watches       []string   `json:"watches"`
	Tags          []string   `json:"tags"`
	State         string     `json:"state" enum:"steady,degraded,lost,unmeasured"`
	SinceAt       *time.Time `json:"since_at" doc:"Since when it is in that state; null when not known"`
	Findings      []Finding  `json:"findings" doc:"The first is the headline"`
	Last          *Reading   `json:"last,omitempty"`
	Normal        *Normal    `json:"normal,omitempty" doc:"Left out without a baseline"`
	Excesses      []Excess   `json:"excesses" doc:"What of a degraded path is beyond normal"`
	Episodes      []Episode  `json:"episodes" doc:"Those that go on, the one that counts most first"`
	Properties    []Property `json:"properties" doc:"What it keeps to, or has come to"`
	LearningUntil *time.Time `json:"learning_until_at" doc:"Until then only the loss of all answers is told; null when what is normal is known"`
	Daily         *Daily     `json:"daily,omitempty"`
	Baseline      *Baseline  `json:"baseline,omitempty"`
	LastOver      *Episode   `json:"last_episode,omitempty"`
	Trace         *Sketch    `json:"trace,omitempty" doc:"Only in the list of paths"`
	Carries       *Carries   `json:"throughput,omitempty" doc:"What was last measured between its ends, by a watch if any does; left out when nothing was"`
	BesideCarries *Carries   `json:"site_throughput,omitempty" doc:"To another far end at the target's site, where one was measured: of the path it says the access's part only"`
}

// Carries is the last throughput between the ends of a path, beside what is usual.
type Carries struct {
	At    time.Time  `json:"at"`
	To    string     `json:"to" doc:"The far end that it was measured to"`
	There CarriesWay `json:"there"`
	Back  CarriesWay `json:"back"`
}

// CarriesWay is a direction of it: payload at the receiver.
type CarriesWay struct {
	Bps      *float64 `json:"bps"`
	Low      *float64 `json:"usual_low_bps" doc:"Null with less than five earlier runs of the same watch in 28 days"`
	High     *float64 `json:"usual_high_bps"`
	Readings int      `json:"readings" doc:"That the usual rests on"`
}

// Gap is a stretch of time without readings and its reason.
type Gap struct {
	FromAt  time.Time  `json:"from_at"`
	ToAt    *time.Time `json:"to_at"`
	Outcome string     `json:"outcome"`
	Reason  string     `json:"reason"`
}

// Series is a path's figures along time, as columns of equal length.
type Series struct {
	FromAt      time.Time    `json:"from_at"`
	ToAt        time.Time    `json:"to_at"`
	Resolution  string       `json:"resolution" enum:"probe,reading,10m,1h,1d"`
	Approximate bool         `json:"approximate" doc:"Quantiles are read from a sketch and within 0.5 %"`
	At          []time.Time  `json:"at"`
	SpanS       []float64    `json:"span_s"`
	RTTMinMs    []*float64   `json:"rtt_min_ms"`
	RTTMedianMs []*float64   `json:"rtt_median_ms" doc:"Of single probes: the round-trip time"`
	RTTP95Ms    []*float64   `json:"rtt_p95_ms"`
	RTTMaxMs    []*float64   `json:"rtt_max_ms"`
	LossRatio   []*float64   `json:"loss_ratio"`
	Sent        []int        `json:"sent"`
	Lost        []int        `json:"lost"`
	Outcome     []string     `json:"outcome" doc:"Only of single probes"`
	Normal      NormalSteps  `json:"normal"`
	Episodes    []Episode    `json:"episodes"`
	Gaps        []Gap        `json:"gaps"`
	Maintenance []Span       `json:"maintenance" doc:"Measured, but neither judged nor learnt from"`
	Loads       []LoadBeside `json:"loads" doc:"Load runs at the agent or on the access of its site, which may have disturbed what was measured"`
}

// LoadBeside is a load run beside other measurements.
type LoadBeside struct {
	FromAt time.Time  `json:"from_at"`
	ToAt   *time.Time `json:"to_at" doc:"Null while it goes on"`
	From   string     `json:"from"`
	To     string     `json:"to"`
}

// NormalSteps is the baseline's band along time: each value holds until the
// next.
type NormalSteps struct {
	At     []time.Time `json:"at"`
	LowMs  []float64   `json:"low_ms"`
	HighMs []float64   `json:"high_ms"`
}

// WatchSpec is what a watch measures.
type WatchSpec struct {
	Name     string   `json:"name" yaml:"name" doc:"Unique"`
	From     []string `json:"from" yaml:"from" doc:"Names of agents"`
	To       []string `json:"to" yaml:"to" doc:"Names or addresses"`
	Via      string   `json:"via,omitempty" yaml:"via" doc:"icmp, tcp:PORT, udp:PORT or stamp; several with commas. Default icmp"`
	Family   string   `json:"family,omitempty" yaml:"family" doc:"4, 6 or both; of targets that are names. Default 4"`
	Every    string   `json:"every,omitempty" yaml:"every" doc:"Time between runs, such as 5m; continuous when left out"`
	Interval string   `json:"interval,omitempty" yaml:"interval" doc:"Time between probes. Default 1s"`
	Probes   int      `json:"probes,omitempty" yaml:"probes" doc:"Probes of a run. Default 20"`
	Wait     string   `json:"wait,omitempty" yaml:"wait" doc:"For an answer. Default 2s"`
	Payload  int      `json:"payload_bytes,omitempty" yaml:"payload" doc:"Default 48"`
	DSCP     string   `json:"dscp,omitempty" yaml:"dscp" doc:"A name such as EF, or a number"`
	Paused   bool     `json:"paused,omitempty" yaml:"paused"`
	Tags     []string `json:"tags,omitempty" yaml:"tags"`
	Kind     string   `json:"kind,omitempty" yaml:"kind" enum:"ping,sweep,trace,throughput,stream" doc:"What is measured. Default ping. The targets of a sweep are prefixes, ranges and addresses"`
	Exclude  []string `json:"exclude,omitempty" yaml:"exclude" doc:"Of a sweep: what is left out"`
	Rate     float64  `json:"packets_per_second,omitempty" yaml:"rate" doc:"Of a sweep. Default 5000"`
	Random   bool     `json:"random,omitempty" yaml:"random" doc:"Of a sweep: in a random order"`
	Low      bool     `json:"low,omitempty" yaml:"low" doc:"Of a sweep: of a large IPv6 prefix, the addresses that are given by hand"`
	Beyond   bool     `json:"beyond,omitempty" yaml:"beyond" doc:"Of a sweep: confirms addresses that are neither private nor of documentation"`
	OneFlow  bool     `json:"one_flow,omitempty" yaml:"one_flow" doc:"Of a trace: follow one flow and look for no branches"`
	PathMTU  bool     `json:"find_path_mtu,omitempty" yaml:"path_mtu" doc:"Of a trace: find the largest packet that each hop gets"`
	For      string   `json:"for,omitempty" yaml:"for" doc:"Of throughput and streams: how long, of one direction. Default 10s"`
	Bits     float64  `json:"rate_bps,omitempty" yaml:"rate_bps" doc:"Of datagrams: bits of payload a second"`
	Protocol string   `json:"protocol,omitempty" yaml:"protocol" doc:"Of throughput: tcp or udp"`
	Streams  int      `json:"streams,omitempty" yaml:"streams" doc:"Of throughput: side by side"`
	Direct   string   `json:"direction,omitempty" yaml:"direction" doc:"Of throughput and streams: there, back, both or each"`
	Codec    string   `json:"codec,omitempty" yaml:"codec" doc:"Of streams: sent as a call of this codec"`
	Buffer   string   `json:"buffer,omitempty" yaml:"buffer" doc:"Of streams that are calls: fixed or adaptive de-jitter buffer"`
	Search   bool     `json:"search,omitempty" yaml:"search" doc:"Of throughput by UDP: the highest rate without loss, up to rate_bps"`
	Repeats  int      `json:"repeats,omitempty" yaml:"repeats" doc:"Of throughput: times in a row"`
	DayBytes int64    `json:"bytes_per_day_most,omitempty" yaml:"bytes_per_day" doc:"Of throughput: that it may send a day. Default 5 GiB"`
}

// WalkOrder asks for a walk from near to far.
type WalkOrder struct {
	From     string `json:"from" doc:"Name of the agent"`
	To       string `json:"to" doc:"Name or address of the target"`
	Address  string `json:"address,omitempty" doc:"Of a target that is a name, where it is known otherwise"`
	Family   string `json:"family,omitempty" enum:"4,6" doc:"Of a target that is a name"`
	Port     int    `json:"port,omitempty" minimum:"1" maximum:"65535" doc:"A TCP port of the target"`
	Probes   int    `json:"probes,omitempty" doc:"To the gateway and to the target. Default 100"`
	Interval string `json:"interval,omitempty" doc:"Between probes. Default 20ms"`
}

// Walk is a walk from near to far.
type Walk struct {
	From     string         `json:"from"`
	Target   string         `json:"target"`
	Address  string         `json:"address" doc:"That was measured; empty when none was known"`
	Steps    []finding.Step `json:"steps" doc:"From near to far, as far as it went"`
	Findings []Finding      `json:"findings"`
}

// SweepOrder asks for a sweep on demand.
type SweepOrder struct {
	From    string   `json:"from" doc:"Name of the agent"`
	To      []string `json:"to" doc:"Prefixes, ranges (192.0.2.10-20) and addresses"`
	Exclude []string `json:"exclude,omitempty"`
	Via     string   `json:"via,omitempty" doc:"icmp, tcp:PORT; several with commas. Default icmp"`
	Rate    float64  `json:"packets_per_second,omitempty" doc:"Default 5000"`
	Wait    string   `json:"wait,omitempty" doc:"For answers, after each round. Default 1s"`
	Random  bool     `json:"random,omitempty"`
	Low     bool     `json:"low,omitempty"`
	Beyond  bool     `json:"beyond,omitempty"`
}

// Sweep is a sweep that was made, or is going on.
type Sweep struct {
	ID        string        `json:"id"`
	Watch     string        `json:"watch" doc:"Empty for one on demand"`
	From      string        `json:"from"`
	Prefixes  []string      `json:"prefixes"`
	StartAt   time.Time     `json:"started_at"`
	EndedAt   *time.Time    `json:"ended_at"`
	Outcome   string        `json:"outcome" enum:"running,done,failed,missed,cancelled"`
	Reason    string        `json:"reason"`
	Addresses uint64        `json:"addresses"`
	Answered  uint64        `json:"answered"`
	Sent      int           `json:"sent" doc:"Packets so far, while it runs"`
	Of        int           `json:"of"`
	Report    *sweep.Report `json:"report,omitempty" doc:"Left out in lists, and as long as there is none"`
}

// Watch is a watch and what it costs.
type Watch struct {
	ID string `json:"id"`
	WatchSpec
	Paths        int        `json:"paths"`
	ProbesPerDay float64    `json:"probes_per_day,omitzero" doc:"Over all its paths; left out when it is not known beforehand"`
	BytesPerDay  float64    `json:"bytes_per_day,omitzero" doc:"Both ways, IP layer; left out when it is not known beforehand, as for what TCP moves"`
	NextDueAt    *time.Time `json:"next_due_at" doc:"null when continuous or paused"`
	LastRun      *Run       `json:"last_run,omitempty" doc:"The last failed or missed one, or of a periodic watch the last"`
}

// Run is one execution of a measurement.
type Run struct {
	ID       string     `json:"id"`
	Watch    string     `json:"watch" doc:"Empty for a run on demand"`
	PathID   string     `json:"path_id"`
	From     string     `json:"from"`
	To       string     `json:"to"`
	Family   int        `json:"family"`
	Via      string     `json:"via" doc:"Kind of probe"`
	StartAt  time.Time  `json:"started_at"`
	EndedAt  *time.Time `json:"ended_at"`
	Address  string     `json:"address" doc:"That was measured, once it is known"`
	Outcome  string     `json:"outcome" enum:"running,done,failed,missed,cancelled"`
	Reason   string     `json:"reason"`
	Heard    int        `json:"heard" doc:"Probes whose fate is known, while it runs"`
	Of       int        `json:"of"`
	Reading  *Reading   `json:"reading,omitempty" doc:"While it runs, of the probes so far"`
	RTTsMs   []*float64 `json:"rtts_ms" doc:"Of the newest probes, in the order of sending; null for those that were not answered. Empty in lists"`
	Findings []Finding  `json:"findings"`
}

// Measurement asks for a measurement on demand.
type Measurement struct {
	From     string   `json:"from" doc:"Name of the agent"`
	To       []string `json:"to"`
	Via      string   `json:"via,omitempty" doc:"icmp, tcp:PORT, udp:PORT or stamp; several with commas"`
	Family   string   `json:"family,omitempty"`
	Probes   int      `json:"probes,omitempty"`
	Interval string   `json:"interval,omitempty"`
	Wait     string   `json:"wait,omitempty"`
	Payload  int      `json:"payload_bytes,omitempty"`
	DSCP     string   `json:"dscp,omitempty"`
}

// Notice is something to know of the service itself.
type Notice struct {
	At   time.Time `json:"at"`
	Kind string    `json:"kind"`
	Text string    `json:"text"`
}

// Change is a line of the record of who changed what.
type Change struct {
	ID     string          `json:"id"`
	At     time.Time       `json:"at"`
	Who    string          `json:"who"`
	What   string          `json:"what" doc:"Such as watch_removed, agent_joined, baseline_pinned"`
	Name   string          `json:"name" doc:"Of what was changed"`
	Detail json.RawMessage `json:"detail" doc:"What it was before, and is after"`
}
