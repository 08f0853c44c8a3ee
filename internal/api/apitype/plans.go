package apitype

import "time"

// Plan is a measurement that is kept under a name.
type Plan struct {
	ID        string    `json:"id"`
	Name      string    `json:"name"`
	Kind      string    `json:"kind"`
	How       Values    `json:"how" doc:"What the kind is told: its fields"`
	Revision  int       `json:"revision"`
	ChangedBy string    `json:"changed_by"`
	ChangedAt time.Time `json:"changed_at"`
}

// PlanChange is a plan as it is to be kept.
type PlanChange struct {
	Name     string `json:"name" maxLength:"100"`
	Kind     string `json:"kind" doc:"A kind that is planned, such as accept"`
	How      Values `json:"how" doc:"What the kind is told: its fields"`
	Revision int    `json:"revision,omitempty" doc:"That was read, when it is changed: another's change is not lost"`
}

// Estimate asks what a measurement takes.
type Estimate struct {
	Kind string `json:"kind" doc:"A kind that is planned, such as accept"`
	How  Values `json:"how" doc:"What the kind is told: its fields"`
}
