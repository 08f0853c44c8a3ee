package apitype

import (
	"time"

	"woodlark.example/core/reading"
)

// Conversation is a program of an agent's machine that talked to a server, with what was measured
// while it did.
type Conversation struct {
	ID       string     `json:"id"`
	Watch    string     `json:"watch" doc:"That follows it"`
	From     string     `json:"from" doc:"Agent"`
	Program  string     `json:"program" doc:"Name of its command; empty where the agent may not see it"`
	Protocol string     `json:"protocol" enum:"tcp,udp"`
	Server   string     `json:"server" doc:"Its address"`
	Port     int        `json:"port"`
	BeganAt  time.Time  `json:"began_at" doc:"When it was first seen: an agent looks every two seconds"`
	EndedAt  *time.Time `json:"ended_at" doc:"When it was last seen; null while it goes on"`
	Path     string     `json:"path,omitempty" doc:"Whose readings of that time are its own; left out when it is not measured"`
	Says     string     `json:"says,omitempty" doc:"Why it is not measured"`
	Route    *Run       `json:"route,omitempty" doc:"The trace that was made as it began"`
	// Figures are those of the probes sent while it lasted, of its last twelve hours.
	Figures *reading.Figures `json:"figures,omitempty" doc:"Of the probes that were sent while it lasted, of its last twelve hours; left out when there are none yet"`
}
