package host

import (
	"net/netip"
	"os"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	space "woodlark.example/core/sweep"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/sweep"
	"woodlark.example/internal/probe/walk"
)

// shyPeer puts the far end of the cable into another network, with an address
// that answers on the link but no pings.
func shyPeer(t *testing.T, end <-chan struct{}) {
	ready, own := make(chan struct{}), make(chan int, 1)
	go func() {
		runtime.LockOSThread()
		if !assert.NoError(t, unix.Unshare(unix.CLONE_NEWNET)) {
			close(ready)
			return
		}
		fd, err := unix.Open("/proc/thread-self/ns/net", unix.O_RDONLY|unix.O_CLOEXEC, 0)
		assert.NoError(t, err)
		assert.NoError(t, os.WriteFile("/proc/sys/net/ipv4/icmp_echo_ignore_all", []byte("1"), 0o600))
		own <- fd
		<-ready // until the cable's end is here
		if l, err := netlink.LinkByName("quay1"); assert.NoError(t, err) {
			a, _ := netlink.ParseAddr("192.0.2.2/24")
			assert.NoError(t, netlink.AddrAdd(l, a))
			assert.NoError(t, netlink.LinkSetUp(l))
		}
		own <- fd
		<-end
		_ = unix.Close(fd)
	}()
	fd := <-own
	l, err := netlink.LinkByName("quay1")
	if assert.NoError(t, err) {
		assert.NoError(t, netlink.LinkSetNsFd(l, fd))
	}
	close(ready)
	<-own
}

func TestWhatOnlyTheLinkTells(t *testing.T) {
	inOwnNetwork(t, func(t *testing.T) {
		end := make(chan struct{})
		defer close(end)
		shyPeer(t, end)
		s, err := space.Parse([]string{"192.0.2.1-3", "192.0.2.20"}, nil, space.Options{})
		assert.NoError(t, err)
		q := sweep.Request{Space: s, Rate: 1000, Wait: 300 * time.Millisecond}
		found, err := sweep.Go(t.Context(), kernel.Host(), q)
		if !assert.NoError(t, err) {
			return
		}
		r := found.Report(q)
		assert.Len(t, r.Hosts, 1, "only this host itself answers pings")
		assert.NoError(t, sweep.AddLinks(&r, s, Ground{}))
		if assert.Len(t, r.Hosts, 2) {
			assert.Equal(t, "192.0.2.2", r.Hosts[0].Address, "in the order of the addresses")
			assert.Equal(t, "neighbour", r.Hosts[0].By)
			assert.Nil(t, r.Hosts[0].RTTMs)
			assert.Len(t, r.Hosts[0].MAC, 17)
			assert.Equal(t, uint64(2), r.Answered)
		}

		own, err := Ground{}.Prefixes()
		assert.NoError(t, err)
		assert.Contains(t, own, netip.MustParsePrefix("192.0.2.0/24"))

		// The gateway has a made-up entry; an address that nobody has has none that
		// resolves.
		hop, err := Ground{}.FirstHop(netip.MustParseAddr("198.51.100.7"))
		assert.NoError(t, err)
		assert.Equal(t, "192.0.2.1", hop.Gateway.String())
		assert.Equal(t, 1400, hop.MTU)
		n, err := Ground{}.Neighbour(hop, hop.Gateway)
		assert.NoError(t, err)
		assert.True(t, n.Resolved)
		w, err := walk.Go(t.Context(), kernel.Host(), Ground{}, walk.Request{Target: "192.0.2.3", Probes: 5, Wait: 100 * time.Millisecond})
		assert.NoError(t, err)
		if assert.NotEmpty(t, w.Findings) {
			assert.Equal(t, "neighbour_unresolved", string(w.Findings[0].Code))
			assert.Len(t, w.Steps, 2, "it goes no farther")
		}
		w, err = walk.Go(t.Context(), kernel.Host(), Ground{}, walk.Request{Target: "2001:db8:9::1", Probes: 5})
		assert.NoError(t, err)
		assert.Len(t, w.Steps, 1, "there is no way")
	})
}
