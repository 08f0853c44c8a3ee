package kind

import "woodlark.example/internal/network"

// Socket is from where a host sends; specs embed it.
type Socket struct {
	Source    Addr   `json:"source" help:"address to send from, of the host that measures"`
	Interface string `json:"interface" flag:"interface" help:"interface to send by, of the host that measures"`
}

// Options are those of a socket.
func (s Socket) Options() network.SocketOptions {
	return network.SocketOptions{Source: s.Source.Addr, Interface: s.Interface}
}
