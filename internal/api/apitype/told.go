package apitype

import "time"

// Excess is a measure that is worse than normal.
type Excess struct {
	Measure string     `json:"measure" enum:"rtt,jitter,loss,delay_there,delay_back,jitter_there,jitter_back,loss_there,loss_back,mos,throughput_there,throughput_back,hops,resolve,answering"`
	Unit    string     `json:"unit" enum:"ms,ratio,bps,mos,count"`
	FromAt  time.Time  `json:"from_at"`
	ToAt    *time.Time `json:"to_at" doc:"Null while it goes on"`
	Normal  float64    `json:"normal" doc:"Expected at that time"`
	Low     float64    `json:"normal_low" doc:"Nine of ten readings lie between normal_low and normal_high"`
	High    float64    `json:"normal_high"`
	Now     float64    `json:"now" doc:"Over the last readings of the episode"`
	NowLow  float64    `json:"now_low" doc:"Of the 95 % interval of now"`
	NowHigh float64    `json:"now_high"`
	Worst   float64    `json:"worst"`
	Sent    int        `json:"sent" doc:"Of loss: probes that now rests on"`
	Lost    int        `json:"lost"`
	Count   int        `json:"readings" doc:"That now rests on"`
	Least   float64    `json:"tolerance" doc:"A smaller change is not worth caring about"`
}

// Span is a stretch of time.
type Span struct {
	FromAt time.Time `json:"from_at"`
	ToAt   time.Time `json:"to_at"`
}

// Moved is a change of route.
type Moved struct {
	At       time.Time `json:"at" doc:"When the new route was first seen"`
	BeforeAt time.Time `json:"before_at" doc:"When the old one was last seen"`
	Near     string    `json:"near" doc:"The last hop that both have; empty when it is the agent"`
	Hop      string    `json:"hop" doc:"The first hop that is another; empty when it does not answer"`
	HopName  string    `json:"hop_name"`
	Was      string    `json:"was" doc:"What stood there before"`
	WasName  string    `json:"was_name"`
	Old      []string  `json:"old_hops"`
	New      []string  `json:"new_hops"`
}

// Episode is a stretch of time in which a path was degraded or lost.
type Episode struct {
	ID         string     `json:"id"`
	PathID     string     `json:"path_id"`
	Kind       string     `json:"kind" enum:"degraded,lost"`
	FromAt     time.Time  `json:"from_at"`
	ToAt       *time.Time `json:"to_at" doc:"null while it goes on"`
	EarliestAt time.Time  `json:"began_earliest_at" doc:"It began between began_earliest_at and began_latest_at"`
	LatestAt   time.Time  `json:"began_latest_at"`
	ToldAt     time.Time  `json:"told_at" doc:"When it could be told"`
	OverToldAt *time.Time `json:"over_told_at" doc:"When its end could be told"`
	Times      int        `json:"times" doc:"That it came, with pauses of under half an hour"`
	Pauses     []Span     `json:"pauses"`
	Unmeasured []Span     `json:"unmeasured" doc:"Stretches in it without readings"`
	NewLevelAt *time.Time `json:"new_level_at,omitempty" doc:"Since when it is told as a new level"`
	Cause      string     `json:"cause" doc:"Code of the finding that it is put down to; empty when it is not known"`
	Sentence   string     `json:"sentence"`
	Findings   []Finding  `json:"findings"`
	Moved      *Moved     `json:"route_change,omitempty"`
	IncidentID *string    `json:"incident_id,omitempty" doc:"Of which it is a part"`
	Excesses   []Excess   `json:"excesses"`
}

// Incident is what several paths that got worse at the same time have in common.
type Incident struct {
	ID         string        `json:"id"`
	BeganAt    time.Time     `json:"began_at"`
	ToldAt     time.Time     `json:"told_at"`
	EndedAt    *time.Time    `json:"ended_at" doc:"null while it goes on"`
	Segments   []Segment     `json:"segments" doc:"One; several where a hop that several routes share does not answer"`
	Others     []Segment     `json:"other_segments" doc:"That would explain it as well"`
	Measure    string        `json:"measure" enum:"rtt,loss"`
	Excess     float64       `json:"excess" doc:"What the segment adds: ms, or a ratio of loss"`
	Unit       string        `json:"unit" enum:"ms,ratio"`
	Confidence float64       `json:"confidence"`
	Sentence   string        `json:"sentence"`
	Advice     string        `json:"advice"`
	Members    []IncidentFor `json:"paths"`
}

// Segment lies between two neighbours of a route.
type Segment struct {
	From     string `json:"from" doc:"Address, or name of an agent; empty when it does not answer"`
	FromName string `json:"from_name" doc:"With whose it is, where that is known"`
	To       string `json:"to"`
	ToName   string `json:"to_name"`
}

// IncidentFor is a path of an incident.
type IncidentFor struct {
	PathID string `json:"path_id" doc:"Empty when the path is gone"`
	From   string `json:"from"`
	To     string `json:"to"`
	Family string `json:"family"`
	Via    string `json:"via"`
}

// Property is something that a path keeps to, or has come to: no alarm.
type Property struct {
	Kind       string     `json:"kind" enum:"daily,weekly,crept,new_level"`
	Measure    string     `json:"measure"`
	Unit       string     `json:"unit"`
	SinceAt    time.Time  `json:"since_at"`
	ToldAt     time.Time  `json:"told_at"`
	Before     float64    `json:"before" doc:"Expected otherwise, or before"`
	Now        float64    `json:"now"`
	ADay       float64    `json:"a_day,omitempty" doc:"Of what crept"`
	Weekdays   []string   `json:"weekdays,omitempty"`
	From       string     `json:"from,omitempty" doc:"Local time of day, HH:MM"`
	To         string     `json:"to,omitempty"`
	Days       int        `json:"days,omitempty" doc:"On how many it was seen"`
	AcceptedAt *time.Time `json:"accepted_at"`
	EndedAt    *time.Time `json:"ended_at"`
	Waits      bool       `json:"waits" doc:"For somebody to accept it as normal"`
	AcceptsAt  *time.Time `json:"accepted_by_itself_at,omitempty" doc:"When it is taken for normal if nobody says anything"`
	Sentence   string     `json:"sentence"`
	Code       string     `json:"code"`
	Advice     string     `json:"advice"`
}

// Acceptance says that what a path has come to is normal.
type Acceptance struct {
	Kind    string `json:"kind" enum:"new_level,crept"`
	Measure string `json:"measure,omitempty" doc:"All that wait when left out"`
}

// Daily is a stretch of the day in which a path keeps getting worse.
type Daily struct {
	From   string `json:"from" doc:"Local time of day, HH:MM"`
	To     string `json:"to"`
	Days   int    `json:"days"`
	OfDays int    `json:"of_days"`
}
