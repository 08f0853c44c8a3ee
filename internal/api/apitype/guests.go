package apitype

import "time"

// GuestLinkSpec is a link by which somebody outside sees one thing, and nothing else.
type GuestLinkSpec struct {
	What       string     `json:"what" enum:"path,incident,report,run,board,readiness"`
	ID         string     `json:"subject_id,omitempty" doc:"Of the path, incident, run or board"`
	Title      string     `json:"title"`
	Notes      string     `json:"notes,omitempty" doc:"Shown above all else"`
	EndsAt     time.Time  `json:"ends_at"`
	Passphrase string     `json:"passphrase,omitempty" doc:"Asked for; none when left out. It is taken, and not given back"`
	Frozen     bool       `json:"frozen,omitempty" doc:"It shows what it showed when it was made; else what is so when it is opened"`
	Last       string     `json:"last,omitempty" doc:"Of a path or report: how far back from when it is opened, such as 24h"`
	FromAt     *time.Time `json:"from_at,omitempty" doc:"Of a path or report: from when; with to_at, instead of last"`
	ToAt       *time.Time `json:"to_at,omitempty"`
	Objective  string     `json:"objective,omitempty" doc:"That paths are held against"`
	Need       string     `json:"need,omitempty" doc:"Of a readiness test: the name of a need that is ready-made, or the text of a file"`
	Seats      int        `json:"seats,omitempty" doc:"Of a readiness test: how many use it at once"`
	Sites      []string   `json:"sites,omitempty" doc:"Of a report: of paths with these sites at either end"`
	Agents     []string   `json:"agents,omitempty"`
	Targets    []string   `json:"targets,omitempty"`
	Tags       []string   `json:"tags,omitempty"`
	Labels     []string   `json:"labels,omitempty" doc:"Of agents"`
}

// GuestLink is a link.
type GuestLink struct {
	LinkID string `json:"id"`
	GuestLinkSpec
	Path    string     `json:"path,omitempty" doc:"Where it leads, behind the service's address. Told once, when it is made: it holds the secret"`
	Asks    bool       `json:"asks_for_passphrase"`
	State   string     `json:"state" enum:"open,ended,over"`
	MadeBy  string     `json:"made_by"`
	MadeAt  time.Time  `json:"made_at"`
	EndedAt *time.Time `json:"ended_at,omitempty" doc:"By hand, before its time"`
}

// GuestOpening is that somebody came by a link.
type GuestOpening struct {
	At      time.Time `json:"at"`
	Address string    `json:"address"`
	Outcome string    `json:"outcome" enum:"opened,asked,wrong passphrase,over"`
}
