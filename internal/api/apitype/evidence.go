package apitype

import "time"

// Evidence is a measurement that was made because of an episode, or the last of its kind before.
type Evidence struct {
	Phase string    `json:"phase" enum:"before,opening,closing"`
	What  string    `json:"what" doc:"Such as: route, route back, near to far, by tcp:443"`
	At    time.Time `json:"at"`
	Run   *Run      `json:"run,omitempty" doc:"The run that was made; GET /runs/{id} has what it found"`
	Says  string    `json:"says,omitempty" doc:"Why none was made, if none was"`
}
