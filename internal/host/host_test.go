package host

import (
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// inOwnNetwork runs f in a network of its own: two ends of a cable, an address
// with a gateway behind it, a neighbour, and a listener.
func inOwnNetwork(t *testing.T, f func(t *testing.T)) {
	t.Helper()
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread() // and never unlocked: the thread ends with its namespace
		if !assert.NoError(t, unix.Unshare(unix.CLONE_NEWNET), "this test needs root") {
			return
		}
		cable := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: "quay0", MTU: 1400}, PeerName: "quay1"}
		if !assert.NoError(t, netlink.LinkAdd(cable)) {
			return
		}
		for _, name := range []string{"lo", "quay0", "quay1"} {
			l, err := netlink.LinkByName(name)
			if !assert.NoError(t, err) || !assert.NoError(t, netlink.LinkSetUp(l)) {
				return
			}
		}
		l, err := netlink.LinkByName("quay0")
		assert.NoError(t, err)
		for _, a := range []string{"192.0.2.20/24", "2001:db8:1::20/64"} {
			parsed, err := netlink.ParseAddr(a)
			assert.NoError(t, err)
			parsed.Flags = unix.IFA_F_NODAD
			if parsed.IP.To4() != nil {
				parsed.Flags = 0
			}
			assert.NoError(t, netlink.AddrAdd(l, parsed))
		}
		assert.NoError(t, netlink.RouteAdd(&netlink.Route{LinkIndex: l.Attrs().Index, Gw: net.ParseIP("192.0.2.1"), Priority: 50}))
		assert.NoError(t, netlink.NeighAdd(&netlink.Neigh{LinkIndex: l.Attrs().Index, IP: net.ParseIP("192.0.2.1"), State: netlink.NUD_PERMANENT, HardwareAddr: net.HardwareAddr{2, 0, 0, 0, 0, 1}}))
		f(t)
	}()
	<-done
}

func TestStanding(t *testing.T) {
	inOwnNetwork(t, func(t *testing.T) {
		s, err := Read()
		if !assert.NoError(t, err) {
			return
		}
		var quay Interface
		for _, i := range s.Interfaces {
			if i.Name == "quay0" {
				quay = i
			}
		}
		assert.True(t, quay.Up)
		assert.Equal(t, "up", quay.Carrier)
		assert.Equal(t, 1400, quay.MTU)
		assert.Nil(t, quay.SpeedBPS, "a made-up cable has no speed, whatever its driver says")
		assert.Equal(t, s.Clock.Synchronised, s.Clock.ErrorMs != nil)
		assert.Contains(t, quay.Addresses, "192.0.2.20/24")
		assert.Contains(t, quay.Addresses, "2001:db8:1::20/64")
		assert.Equal(t, []Gateway{{Family: 4, Address: "192.0.2.1", Interface: "quay0", Metric: 50, Neighbour: "permanent"}}, s.Gateways)
		assert.Contains(t, s.Neighbours, Neighbour{Address: "192.0.2.1", Hardware: "02:00:00:00:00:01", Interface: "quay0", State: "permanent"})
		assert.True(t, s.Sockets[0].Allowed, "root may open raw sockets")

		far, err := Toward(netip.MustParseAddr("198.51.100.9"))
		assert.NoError(t, err)
		assert.Equal(t, Way{Target: "198.51.100.9", Source: "192.0.2.20", Interface: "quay0", Gateway: "192.0.2.1", MTU: 1400}, far)
		near, err := Toward(netip.MustParseAddr("192.0.2.77"))
		assert.NoError(t, err)
		assert.Empty(t, near.Gateway, "on the link")
		_, err = Toward(netip.MustParseAddr("2001:db8:9::1"))
		assert.ErrorIs(t, err, ErrNoWay)
	})
}

func TestListening(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	found, err := Listening(port)
	require.NoError(t, err)
	assert.Contains(t, found, Listener{"tcp", "127.0.0.1", port})
	require.NoError(t, l.Close())
	found, err = Listening(port)
	require.NoError(t, err)
	assert.NotContains(t, found, Listener{"tcp", "127.0.0.1", port})
}

func TestAddressesAsTheKernelWritesThem(t *testing.T) {
	for text, want := range map[string]string{
		"0100007F": "127.0.0.1", "00000000": "", "00000000000000000000000000000000": "",
		"0000000000000000FFFF00000100007F": "127.0.0.1", "B80D0120000000000000000001000000": "2001:db8::1", "xyz": "xyz",
	} {
		assert.Equal(t, want, readable(text), text)
	}
}

func TestResolvers(t *testing.T) {
	file := filepath.Join(t.TempDir(), "resolv.conf")
	require.NoError(t, os.WriteFile(file, []byte("# made by hand\nnameserver 192.0.2.53\nnameserver 2001:db8::53\nsearch holm.example northquay.example\noptions timeout:2\n"), 0o600))
	servers, search := resolvers(file)
	assert.Equal(t, []string{"192.0.2.53", "2001:db8::53"}, servers)
	assert.Equal(t, []string{"holm.example", "northquay.example"}, search)
	servers, _ = resolvers(file + ".none")
	assert.Empty(t, servers)
}
