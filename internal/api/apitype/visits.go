package apitype

import (
	"time"

	"woodlark.example/core/visitor"
)

// Visit is what a browser measured that came by a guest link.
type Visit struct {
	ID        string    `json:"id"`
	LinkID    string    `json:"link_id"`
	Title     string    `json:"title" doc:"Of the link"`
	StartedAt time.Time `json:"started_at"`
	EndedAt   time.Time `json:"ended_at"`
	Address   string    `json:"address" doc:"That it came from"`
	Outcome   string    `json:"outcome" enum:"done,left" doc:"left: the visitor went away before the end"`
	Need      string    `json:"need"`
	Seats     int       `json:"seats"`
	Answer    string    `json:"answer,omitempty" doc:"fit, fit_with_limits, not_fit or not_told; left out where the visitor went away"`
	Sentence  string    `json:"sentence,omitempty"`
	Words     string    `json:"words,omitempty" doc:"The visitor's own"`
	// Of one alone.
	Agent   string      `json:"user_agent,omitempty" doc:"What its browser calls itself"`
	Problem string      `json:"problem,omitempty"`
	Route   string      `json:"route_run,omitempty" doc:"The run that traces the way to the visitor, where that is allowed"`
	Found   *VisitFound `json:"found,omitempty" doc:"Of one visit: its figures; those by 'visitor' rest on the visitor's word"`
}

// VisitFound are the figures of a visit.
type VisitFound visitor.Found
