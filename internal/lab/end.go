package lab

import (
	"fmt"

	"woodlark.example/internal/network/namespace"
	"woodlark.example/internal/network/world"
)

// Interface is the name of the interface of each host.
const Interface = namespace.Interface

// End is a host of a lab.
type End struct {
	*namespace.Host
	node int
	name string
}

// NewEnd makes the namespace and the interface of a host.
func NewEnd(m *world.Model, node int) (*End, error) {
	n := m.Nodes()[node]
	h, err := namespace.New(n.Addresses, m.MTU(node))
	if err != nil {
		return nil, fmt.Errorf("host %s: %w", n.Name, err)
	}
	return &End{h, node, n.Name}, nil
}

// Door is the way in, without files for names.
func (e *End) Door() Door { return Door{Namespace: e.Path()} }
