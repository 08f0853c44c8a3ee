package host

import (
	"cmp"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// Talk is a far end that a program of this machine talks to: of an established TCP connection,
// or of a connected UDP socket.
type Talk struct {
	Program  string // its command's name; empty when it is another user's and this one may not see it
	Protocol string // tcp, udp
	Server   netip.AddrPort
}

// Talks looks at whom the programs of this machine talk to. It is not safe for concurrent use.
type Talks struct {
	programs map[uint32]string // by the inode of their sockets
}

// Look is whom they talk to now, each once: what the kernel says of its sockets (sock_diag,
// netlink), and /proc of their programs. Far ends on this machine are left out.
func (t *Talks) Look() ([]Talk, error) {
	sockets := map[uint32]Talk{}
	for _, ask := range []struct {
		protocol string
		family   uint8
		of       func(uint8) ([]*netlink.Socket, error)
	}{{"tcp", unix.AF_INET, netlink.SocketDiagTCP}, {"tcp", unix.AF_INET6, netlink.SocketDiagTCP}, {"udp", unix.AF_INET, netlink.SocketDiagUDP}, {"udp", unix.AF_INET6, netlink.SocketDiagUDP}} {
		list, err := ask.of(ask.family)
		if err != nil {
			return nil, fmt.Errorf("ask the kernel for its %s sockets: %w", strings.ToUpper(ask.protocol), err)
		}
		for _, s := range list {
			if s.State != netlink.TCP_ESTABLISHED { // a connected UDP socket, too
				continue
			}
			server, _ := netip.AddrFromSlice(s.ID.Destination)
			if server = server.Unmap(); !server.IsValid() || server.IsUnspecified() || server.IsLoopback() || server.IsMulticast() {
				continue
			}
			sockets[s.INode] = Talk{Protocol: ask.protocol, Server: netip.AddrPortFrom(server, s.ID.DestinationPort)}
		}
	}
	t.name(sockets)
	var out []Talk
	for inode, talk := range sockets {
		talk.Program = t.programs[inode]
		if !slices.Contains(out, talk) {
			out = append(out, talk)
		}
	}
	slices.SortFunc(out, func(a, b Talk) int {
		if c := strings.Compare(a.Program, b.Program); c != 0 {
			return c
		}
		return a.Server.Compare(b.Server)
	})
	return out, nil
}

// name finds the programs of sockets that were not seen before, and forgets those that are gone.
func (t *Talks) name(sockets map[uint32]Talk) {
	named := make(map[uint32]string, len(sockets))
	missing := false
	for inode := range sockets {
		program, is := t.programs[inode]
		if named[inode] = program; !is {
			missing = true
		}
	}
	t.programs = named
	if !missing {
		return
	}
	processes, _ := filepath.Glob("/proc/[0-9]*")
	slices.SortFunc(processes, func(a, b string) int { // of several that share a socket, the eldest
		return cmp.Or(cmp.Compare(len(a), len(b)), cmp.Compare(a, b))
	})
	for _, p := range processes {
		files, err := os.ReadDir(p + "/fd")
		if err != nil {
			continue // another user's, or gone
		}
		for _, f := range files {
			link, err := os.Readlink(p + "/fd/" + f.Name())
			if err != nil {
				continue
			}
			text, is := strings.CutPrefix(link, "socket:[")
			if !is {
				continue
			}
			inode, err := strconv.ParseUint(strings.TrimSuffix(text, "]"), 10, 32)
			if _, wanted := sockets[uint32(inode)]; err != nil || !wanted || named[uint32(inode)] != "" {
				continue
			}
			if name, err := os.ReadFile(p + "/comm"); err == nil {
				named[uint32(inode)] = strings.TrimSpace(string(name))
			}
		}
	}
}
