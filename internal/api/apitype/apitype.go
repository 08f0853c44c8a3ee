// Package apitype holds what the HTTP interface says and takes, as JSON. The
// service, its client and the OpenAPI document all come from these types.
package apitype

import (
	"encoding/json"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/sweep"
	"woodlark.example/internal/protocol"
)

// Status is how the service stands.
type Status struct {
	Version           string         `json:"version"`
	Now               time.Time      `json:"now_at"`
	Zone              string         `json:"zone" doc:"Time zone whose hours baselines go by"`
	Paths             map[string]int `json:"paths" doc:"Number of watched paths by state"`
	Watches           int            `json:"watches"`
	Agents            int            `json:"agents"`
	Services          []ServiceOf    `json:"services,omitempty" doc:"Those that share the database; left out where one works on it alone"`
	HeldBack          int            `json:"held_back" doc:"Readings that wait for the database"`
	DatabaseAwaySince *time.Time     `json:"database_away_since_at" doc:"Null while the database takes readings"`
	DatabaseAwayWhy   string         `json:"database_away_why" doc:"Empty while it does"`
	DiskFull          string         `json:"disk_full" doc:"Which disk of the service is full; empty when none is"`
	SetAside          int            `json:"set_aside" doc:"Things that agents keep aside because nobody takes them"`
	ClocksOff         []ClockOff     `json:"clocks_off" doc:"Agents whose clocks are off by a minute or more"`
	Summary           string         `json:"summary" doc:"How the paths stand, in one line"`
}

// ServiceOf is a service of several on one database.
type ServiceOf struct {
	Address string    `json:"address" doc:"Where the others reach it"`
	Says    string    `json:"says"`
	Version string    `json:"version"`
	Works   bool      `json:"works" doc:"On the database; the others hand their callers on to it"`
	BeganAt time.Time `json:"began_at"`
	SeenAt  time.Time `json:"seen_at" doc:"Each five seconds while it is there"`
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
	Alive  bool             `json:"alive"`
	LostAt *time.Time       `json:"lost_at" doc:"When an agent on another machine last was connected; null while it is"`
	Labels string           `json:"labels"`
	Health *protocol.Health `json:"health,omitempty" doc:"What it says of itself; left out when it said nothing yet"`
}

// Invite lets one agent on another machine join.
type Invite struct {
	Code    string    `json:"code" doc:"Shown once"`
	EndsAt  time.Time `json:"ends_at"`
	Command string    `json:"command" doc:"To be run on the other machine"`
	Trust   string    `json:"trust,omitempty" doc:"The one key that the agent is to trust: the SHA-256 of the public key of a certificate that this service made itself"`
	Join    []string  `json:"join,omitempty" nullable:"false" doc:"Where the services are reached that share the database; an agent is told all of them. Left out where one works on it alone"`
}

// InviteOrder asks for an invite.
type InviteOrder struct {
	Name   string `json:"name,omitempty" doc:"That the agent gets; its machine's when left out"`
	Site   string `json:"site,omitempty"`
	Labels string `json:"labels,omitempty"`
	Lasts  string `json:"lasts,omitempty" doc:"How long it can be used, such as 24h"`
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
// band has one value an hour, from start_at on. All are empty when nothing is known of that day.
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

// PathRow is what a list shows of a path.
type PathRow struct {
	ID           string     `json:"id"`
	From         string     `json:"from"`
	To           string     `json:"to"`
	Family       int        `json:"family" enum:"4,6"`
	Via          string     `json:"via"`
	State        string     `json:"state" enum:"steady,degraded,lost,unmeasured"`
	SinceAt      *time.Time `json:"since_at,omitempty" doc:"Left out when not known, as all below"`
	Sentence     string     `json:"sentence,omitempty" doc:"What matters most"`
	RTTMs        *float64   `json:"rtt_median_ms,omitempty" doc:"Of the last reading"`
	LossRatio    *float64   `json:"loss_ratio,omitempty"`
	NormalLowMs  *float64   `json:"normal_low_ms,omitempty" doc:"Of what is worse, what was normal before"`
	NormalHighMs *float64   `json:"normal_high_ms,omitempty"`
	NormalLoss   *float64   `json:"normal_loss_ratio,omitempty"`
	Throughput   *Carries   `json:"throughput,omitempty"`
}

// PathChoices are by what paths can be selected.
type PathChoices struct {
	Sites      []string `json:"sites" nullable:"false"`
	Agents     []string `json:"agents" nullable:"false"`
	Tags       []string `json:"tags" nullable:"false"`
	Throughput bool     `json:"throughput" doc:"Whether any was measured"`
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
	Evidence    []Taken      `json:"evidence" doc:"When evidence of episodes was taken"`
	Annotations []Annotation `json:"annotations" doc:"What people wrote of the path, and of all"`
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

// Walk is a walk from near to far.
type Walk struct {
	From     string         `json:"from"`
	Target   string         `json:"target"`
	Address  string         `json:"address" doc:"That was measured; empty when none was known"`
	Steps    []finding.Step `json:"steps" doc:"From near to far, as far as it went"`
	Findings []Finding      `json:"findings"`
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

// Run is one execution of a measurement.
type Run struct {
	ID       string          `json:"id"`
	Kind     string          `json:"kind"`
	Watch    string          `json:"watch" doc:"Empty for a run on demand"`
	PathID   string          `json:"path_id" doc:"Of kinds whose results are readings of a path; else empty"`
	From     string          `json:"from"`
	To       string          `json:"to"`
	Family   int             `json:"family" doc:"0 where the kind does not tell them apart"`
	Via      string          `json:"via" doc:"Kind of probe; empty where there is no choice"`
	StartAt  time.Time       `json:"started_at"`
	EndedAt  *time.Time      `json:"ended_at"`
	Address  string          `json:"address" doc:"That was measured, once it is known"`
	Outcome  string          `json:"outcome" enum:"running,done,failed,missed,cancelled"`
	Reason   string          `json:"reason"`
	Heard    int             `json:"heard" doc:"Probes whose fate is known, while it runs; of other kinds how far it is, of 'of'"`
	Of       int             `json:"of"`
	Counts   string          `json:"counts,omitempty" doc:"What heard and of count, such as probes; left out where they are time"`
	Says     string          `json:"says,omitempty" doc:"Which of its steps goes on"`
	ThereBps *float64        `json:"there_bps,omitempty" doc:"Payload, at the receiver"`
	BackBps  *float64        `json:"back_bps,omitempty"`
	MOS      *float64        `json:"mos,omitempty" doc:"Of the worse direction"`
	Answered *int64          `json:"answered_count,omitempty" doc:"Probes, addresses, hops or steps"`
	Asked    *int64          `json:"asked_count,omitempty"`
	Live     []LiveSecond    `json:"live,omitempty" doc:"Of what goes on between two ends, second by second"`
	Reading  *Reading        `json:"reading,omitempty" doc:"While it runs, of the probes so far"`
	RTTsMs   []*float64      `json:"rtts_ms" doc:"Of the newest probes, in the order of sending; null for those that were not answered. Empty in lists"`
	Findings []Finding       `json:"findings"`
	Result   json.RawMessage `json:"result,omitempty" doc:"What it found, in the form of its kind; while it runs what there is so far. Left out in lists"`
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

// Heard is what a run told as it went, in the form of its kind.
type Heard struct {
	More    []json.RawMessage `json:"heard"`
	Address string            `json:"address,omitempty" doc:"That is measured, as soon as it is known"`
	Next    int               `json:"next" doc:"To ask with as 'after' for what is told from now on"`
	Over    bool              `json:"over" doc:"Nothing comes any more"`
}

// Kind is a kind of measurement.
type Kind struct {
	Name       string  `json:"name"`
	Version    int     `json:"version"`
	Summary    string  `json:"summary"`
	OneTarget  bool    `json:"one_target" doc:"It has one target"`
	TwoEnds    bool    `json:"two_ends" doc:"A far end takes part: an agent, or a responder with its key"`
	Load       bool    `json:"load" doc:"It fills the path"`
	Paths      bool    `json:"paths" doc:"Its results are readings of paths, which have baselines"`
	Continuous bool    `json:"continuous" doc:"A watch of it may go on without end"`
	Least      string  `json:"repeat_least" doc:"The least time between the runs of a watch"`
	Fields     []Field `json:"fields"`
}

// Field is one of the things that the spec of a kind says.
type Field struct {
	Name   string   `json:"name" doc:"In JSON"`
	Option string   `json:"option" doc:"On a command line; empty when there is none"`
	Type   string   `json:"type" enum:"bool,int,number,text,span,rate,packets,via,family,class,address,list,object,amount,share,need"`
	Help   string   `json:"help"`
	Usual  string   `json:"usual" doc:"What it is in a watch or a run when it is left out; empty for nothing"`
	Enum   []string `json:"enum,omitempty"`
	OfHand bool     `json:"of_hand,omitempty" doc:"Not of a watch"`
}

// Taken is when something was measured as evidence of an episode.
type Taken struct {
	At    time.Time `json:"at"`
	What  string    `json:"what"`
	Phase string    `json:"phase" enum:"opening,closing"`
}

// WaysIn are the ways by which one may come in beside name and passphrase.
type WaysIn struct {
	Elsewhere string `json:"elsewhere,omitempty" doc:"What people call the provider where they may sign in, by /sign-in/elsewhere"`
}

// Passkey is a key that a person's device holds.
type Passkey struct {
	ID         string     `json:"id"`
	Title      string     `json:"title"`
	Host       string     `json:"host" doc:"Name of the console that it is good for"`
	CreatedAt  time.Time  `json:"created_at"`
	LastUsedAt *time.Time `json:"last_used_at,omitempty"`
}

// Asked is what a device is asked, as the browser hands it on.
type Asked struct {
	Key     string `json:"key" doc:"By which the answer is found; good once, for five minutes"`
	Options any    `json:"options" doc:"As PublicKeyCredential's parseCreationOptionsFromJSON and parseRequestOptionsFromJSON take them"`
}

// PasskeyAnswer is what a device answered.
type PasskeyAnswer struct {
	Key    string `json:"key" maxLength:"200"`
	Title  string `json:"title,omitempty" maxLength:"200" doc:"Of a new one: by which you know the device"`
	Answer any    `json:"answer" doc:"As PublicKeyCredential's toJSON gives it"`
}
