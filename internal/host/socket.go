package host

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Socket is a kind of socket that measuring uses.
type Socket struct {
	Kind    string `json:"kind"`
	Allowed bool   `json:"allowed"`
	// Grant is the command that would allow it; empty when it is, or when none
	// would.
	Grant string `json:"grant"`
}

// sockets tries each kind.
func sockets() []Socket {
	const capability = "setcap cap_net_raw+ep $(command -v woodlark)"
	var out []Socket
	for _, k := range []struct {
		name                   string
		family, kind, protocol int
		grant                  string
	}{
		{"ICMP over IPv4, raw", unix.AF_INET, unix.SOCK_RAW, unix.IPPROTO_ICMP, capability},
		{"ICMP over IPv6, raw", unix.AF_INET6, unix.SOCK_RAW, unix.IPPROTO_ICMPV6, capability},
		{"ICMP over IPv4, unprivileged", unix.AF_INET, unix.SOCK_DGRAM, unix.IPPROTO_ICMP, `sysctl net.ipv4.ping_group_range="0 2147483647"`},
		{"ICMP over IPv6, unprivileged", unix.AF_INET6, unix.SOCK_DGRAM, unix.IPPROTO_ICMPV6, `sysctl net.ipv4.ping_group_range="0 2147483647"`},
		{"packets of the link", unix.AF_PACKET, unix.SOCK_DGRAM, 0, capability},
	} {
		fd, err := unix.Socket(k.family, k.kind|unix.SOCK_CLOEXEC, k.protocol)
		if err == nil {
			_ = unix.Close(fd)
			out = append(out, Socket{Kind: k.name, Allowed: true})
			continue
		}
		s := Socket{Kind: k.name}
		if err == unix.EPERM || err == unix.EACCES {
			s.Grant = k.grant
		}
		out = append(out, s)
	}
	return out
}

// Listener is a socket of this machine that takes what comes to a port.
type Listener struct {
	Protocol string `json:"protocol"` // tcp or udp
	Address  string `json:"address"`  // empty for all
	Port     int    `json:"port"`
}

// Listening lists who listens at a port here.
func Listening(port int) ([]Listener, error) {
	out := []Listener{}
	for _, t := range []struct{ file, protocol, state string }{
		{"tcp", "tcp", "0A"}, {"tcp6", "tcp", "0A"}, {"udp", "udp", "07"}, {"udp6", "udp", "07"},
	} {
		f, err := os.Open("/proc/thread-self/net/" + t.file)
		if os.IsNotExist(err) {
			continue // this kernel has no such family
		}
		if err != nil {
			return nil, fmt.Errorf("list the sockets: %w", err)
		}
		lines := bufio.NewScanner(f)
		for lines.Scan() {
			fields := strings.Fields(lines.Text())
			if len(fields) < 4 || fields[3] != t.state {
				continue
			}
			address, number, ok := strings.Cut(fields[1], ":")
			n, err := strconv.ParseUint(number, 16, 16)
			if ok && err == nil && int(n) == port {
				out = append(out, Listener{t.protocol, readable(address), port})
			}
		}
		err = lines.Err()
		f.Close()
		if err != nil {
			return nil, fmt.Errorf("list the sockets: %w", err)
		}
	}
	return out, nil
}
