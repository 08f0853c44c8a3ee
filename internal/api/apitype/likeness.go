package apitype

import "woodlark.example/core/likeness"

// LikeWorld is a network that behaves as a path did.
type LikeWorld struct {
	Likeness likeness.Likeness `json:"likeness"`
	World    string            `json:"world" doc:"The file of a simulated network that behaves so"`
	From     string            `json:"from" doc:"The host of that network at the near end"`
	To       string            `json:"to" doc:"And at the far end"`
}
