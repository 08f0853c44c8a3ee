package trial

import (
	"fmt"
	"net"
	"net/netip"
)

// freePort is one of loopback that nobody has.
func freePort() (uint16, error) {
	c, err := net.ListenPacket("udp4", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("find a free port: %w", err)
	}
	defer c.Close()
	at, err := netip.ParseAddrPort(c.LocalAddr().String())
	return at.Port(), err
}
