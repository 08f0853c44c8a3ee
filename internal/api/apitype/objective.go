package apitype

import "time"

// Objective is a named set of limits.
type Objective struct {
	Name   string             `json:"name"`
	Source string             `json:"source,omitempty" doc:"Where the limits come from"`
	Limits map[string]float64 `json:"limits" doc:"By measure: loss_ratio, rtt_ms, delay_ms (one way), jitter_ms, spread_ms (mean less minimum), variation_ms, and at least: mos, there_bps, back_bps, availability_ratio"`
	Ready  bool               `json:"ready_made,omitempty" readOnly:"true"`
}

// Fitness is how much of a time a path was within an objective.
type Fitness struct {
	PathID    string        `json:"path_id"`
	From      string        `json:"from"`
	To        string        `json:"to"`
	Family    int           `json:"family"`
	Via       string        `json:"via"`
	Objective string        `json:"objective"`
	FromAt    time.Time     `json:"from_at"`
	ToAt      time.Time     `json:"to_at"`
	MeasuredS float64       `json:"measured_s"`
	WithinS   float64       `json:"within_s"`
	Share     *float64      `json:"within_ratio" doc:"Of the measured time; null when nothing was measured"`
	Lines     []FitnessLine `json:"measures"`
	Worst     []FitnessSpan `json:"worst" doc:"What cost most of it, three at most"`
	Steps     []FitnessStep `json:"steps" doc:"The time in 96 steps"`
}

// FitnessStep is a part of a time, held against an objective.
type FitnessStep struct {
	FromAt time.Time          `json:"from_at"`
	SpanS  float64            `json:"span_s"`
	Share  *float64           `json:"within_ratio" doc:"null when nothing was measured"`
	Mean   map[string]float64 `json:"mean" doc:"Of each measure that was measured, over the time"`
	Worst  map[string]float64 `json:"worst"`
}

// FitnessLine is one measure against its limit.
type FitnessLine struct {
	Measure string   `json:"measure"`
	Limit   float64  `json:"limit"`
	AtLeast bool     `json:"at_least" doc:"The limit is the least that is good"`
	Share   *float64 `json:"within_ratio"`
	Median  float64  `json:"median"`
	Mean    float64  `json:"mean" doc:"Over the time"`
	Worst   float64  `json:"worst"`
	Met     bool     `json:"met" doc:"The median is within; of loss and availability the mean"`
}

// FitnessSpan is a time outside of the limits.
type FitnessSpan struct {
	FromAt   time.Time `json:"from_at"`
	ToAt     time.Time `json:"to_at"`
	Measure  string    `json:"measure" doc:"That was off by most"`
	Value    float64   `json:"value"`
	CostS    float64   `json:"cost_s" doc:"Its time, weighted by how far off it was"`
	Sentence string    `json:"sentence,omitempty" doc:"What is told of the episode that it lies in: cause, hop"`
	Advice   string    `json:"advice,omitempty"`
}
