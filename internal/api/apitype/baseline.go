package apitype

import (
	"encoding/json"
	"time"
)

// Baseline is what is normal for a path.
type Baseline struct {
	ID       string            `json:"id"`
	PathID   string            `json:"path_id"`
	From     string            `json:"from"`
	To       string            `json:"to"`
	Family   int               `json:"family"`
	Via      string            `json:"via"`
	TakenAt  time.Time         `json:"taken_at"`
	Pinned   bool              `json:"pinned"`
	Readings int               `json:"readings" doc:"Readings that it rests on"`
	FromAt   time.Time         `json:"from_at" doc:"Of the window that it was taken from"`
	ToAt     time.Time         `json:"to_at"`
	Zone     string            `json:"zone" doc:"Whose hours it goes by"`
	Learning *time.Time        `json:"learning_until_at" doc:"Null when what is normal is known"`
	RTTMs    *Band             `json:"rtt_ms,omitempty" doc:"Over all hours"`
	JitterMs *Band             `json:"jitter_ms,omitempty"`
	Loss     *float64          `json:"loss_ratio"`
	Hours    []Hour            `json:"hours" doc:"By hour of a working day, where the data carries it; only for one path"`
	Measures []BaselineMeasure `json:"measures" doc:"By measure; only for one path"`
}

// BaselineMeasure is what is normal of one measure.
type BaselineMeasure struct {
	Measure  string       `json:"measure"`
	Unit     string       `json:"unit"`
	Days     int          `json:"days" doc:"That it rests on"`
	Readings int          `json:"readings"`
	Overall  Band         `json:"overall"`
	Week     []Band       `json:"week" doc:"By hour of the week, from Sunday 00:00 local time on: 168"`
	Recurs   []Recurrence `json:"recurs" doc:"What comes back at the same hours and is expected then"`
}

// Recurrence is what comes back at the same hours.
type Recurrence struct {
	Weekdays []string `json:"weekdays"`
	From     string   `json:"from" doc:"Local time of day, HH:MM"`
	To       string   `json:"to"`
	Shift    float64  `json:"shift" doc:"By how much worse it may get then"`
}

// StoredBaseline is a baseline that is kept.
type StoredBaseline struct {
	ID       string    `json:"id"`
	TakenAt  time.Time `json:"taken_at"`
	Pinned   bool      `json:"pinned"`
	InUse    bool      `json:"in_use"`
	Readings int       `json:"readings"`
}

// BaselineFile is a baseline as it is exported and imported.
type BaselineFile struct {
	Form     string          `json:"form" enum:"woodlark-baseline-1"`
	From     string          `json:"from"`
	To       string          `json:"to"`
	Family   int             `json:"family"`
	Via      string          `json:"via"`
	Baseline json.RawMessage `json:"baseline"`
}

// Difference is what differs of a measure between two baselines.
type Difference struct {
	Measure string `json:"measure"`
	Unit    string `json:"unit"`
	A       Band   `json:"a" doc:"Over all hours, of the first"`
	B       Band   `json:"b"`
	Weekday string `json:"weekday" doc:"Of the hour at which they differ most"`
	Hour    int    `json:"hour"`
	WorstA  Band   `json:"worst_a" doc:"At that hour"`
	WorstB  Band   `json:"worst_b"`
	Differs bool   `json:"differs" doc:"What one expects lies outside the band of the other, and further than is worth caring about"`
}

// Hour is what is normal at an hour of the day.
type Hour struct {
	Hour  int   `json:"hour"`
	RTTMs *Band `json:"rtt_ms,omitempty"`
}
