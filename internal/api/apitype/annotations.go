package apitype

import "time"

// AnnotationSpec is what a person writes of a path, or of all, at a time or over a span.
type AnnotationSpec struct {
	PathID string     `json:"path_id,omitempty" doc:"Of all paths when left out"`
	At     time.Time  `json:"at"`
	Until  *time.Time `json:"until_at,omitempty" doc:"Of a span"`
	Author string     `json:"author,omitempty" doc:"Who is signed in when left out"`
	Text   string     `json:"text" doc:"Up to 4,000 bytes"`
}

// Annotation is an annotation.
type Annotation struct {
	ID string `json:"id"`
	AnnotationSpec
	From   string    `json:"from,omitempty"`
	To     string    `json:"to,omitempty"`
	MadeAt time.Time `json:"made_at"`
}
