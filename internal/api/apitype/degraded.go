package apitype

import "time"

// Degraded is the report of degraded paths over a period.
type Degraded struct {
	FromAt    time.Time        `json:"from_at"`
	ToAt      time.Time        `json:"to_at"`
	Watched   int              `json:"watched" doc:"Paths that are watched"`
	Summary   string           `json:"summary"`
	Incidents []Incident       `json:"incidents" doc:"Of the period, those that go on first"`
	Now       []Path           `json:"now" doc:"Degraded or lost at the end of the period, worst first; with the findings of now when it ends now"`
	Daily     []Path           `json:"daily" doc:"Steady now, but worse at the same hours of most days"`
	Ended     []PathEpisodes   `json:"ended" doc:"Episodes of the period that are over"`
	Recurs    []PathProperties `json:"recurs" doc:"What comes back at hours of its own"`
	Crept     []PathProperties `json:"crept" doc:"What got slowly worse over days or weeks"`
	NewLevels []PathProperties `json:"new_levels" doc:"What stayed, and waits to be accepted"`
	Accepted  []PathProperties `json:"accepted" doc:"What was taken for normal in the last week before the end of the period"`
	NotJudged []NotJudged      `json:"not_judged" doc:"Paths that could not be judged, and why"`
	Never     []Path           `json:"never_answered" doc:"Never answered since they are measured"`
	Healthy   int              `json:"healthy" doc:"Paths of which there is nothing to tell"`
	Says      string           `json:"healthy_sentence"`
}

// PathProperties is a path and what it keeps to or has come to.
type PathProperties struct {
	Path       PathName   `json:"path"`
	Properties []Property `json:"properties"`
}

// PathName is a path by its ends.
type PathName struct {
	ID     string `json:"id"`
	From   string `json:"from"`
	To     string `json:"to"`
	Family int    `json:"family"`
	Via    string `json:"via"`
}

// NotJudged is a path that could not be judged, and why.
type NotJudged struct {
	Path  PathName   `json:"path"`
	Why   string     `json:"why" enum:"unmeasured,learning,no_baseline"`
	Until *time.Time `json:"until_at" doc:"Of learning: when it is over"`
	Says  string     `json:"sentence"`
}

// PathEpisodes is a path and the episodes of a period.
type PathEpisodes struct {
	Path     Path      `json:"path"`
	Episodes []Episode `json:"episodes"`
}
