package agent

import (
	"encoding/json"
	"fmt"

	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
)

// Ground is what measurements ask of a host and its links, and where it stands.
type Ground interface {
	kind.Ground
	kind.Links
	Standing() (json.RawMessage, error)
}

// Standing is this machine's own; see protocol.Stander.
func (a *Agent) Standing() (json.RawMessage, error) {
	if a.options.Ground == nil {
		return nil, fmt.Errorf("agent %s %w", a.options.Name, protocol.ErrNoStanding)
	}
	return a.options.Ground.Standing()
}
