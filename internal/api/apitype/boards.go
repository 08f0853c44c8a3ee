package apitype

import (
	"time"

	"woodlark.example/internal/service/boards"
)

// BoardSpec is a page of one's own: its parts, from left to right and from top to bottom.
type BoardSpec struct {
	Name  string        `json:"name" yaml:"name" maxLength:"100"`
	Parts []boards.Part `json:"parts" yaml:"parts" maxItems:"40"`
	// Beside administrators, who see all.
	SharedWith []string `json:"shared_with,omitempty" yaml:"shared_with,omitempty" maxItems:"200" doc:"Names of the people who see it, beside administrators; all do when there are none"`
}

// BoardChange is what a board is to be from now on.
type BoardChange struct {
	BoardSpec
	Revision int `json:"revision" doc:"That which it was made from: when somebody else changed the board meanwhile, this is refused"`
}

// Board is a board as it is kept.
type Board struct {
	ID string `json:"id"`
	BoardSpec
	Revision  int       `json:"revision" doc:"It grows with each change"`
	ChangedBy string    `json:"changed_by"`
	ChangedAt time.Time `json:"changed_at"`
}
