package kernel

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/bpf"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

func TestWhichFramesAreHeard(t *testing.T) {
	near := wire.Hardware{2, 0, 0x5e, 0x10, 0, 1}
	other := wire.Hardware{2, 0, 0x5e, 0x10, 0, 3}
	tag := wire.VLANTag{ID: 7}
	outer := wire.VLANTag{Type: wire.TypeServiceVLAN, ID: 8}
	for _, peer := range []*wire.Hardware{nil, &near} {
		vm, err := bpf.NewVM(filterFor(0x1234, peer))
		require.NoError(t, err)
		for _, c := range []struct {
			name string
			f    wire.LinkFrame
			is   bool
		}{
			{"bare", wire.LinkFrame{From: near, Channel: 0x1234}, true},
			{"another's", wire.LinkFrame{From: other, Channel: 0x1234}, peer == nil},
			{"of another test", wire.LinkFrame{From: near, Channel: 0x1235}, false},
			{"tagged", wire.LinkFrame{From: near, Channel: 0x1234, Tags: []wire.VLANTag{tag}}, true},
			{"stacked", wire.LinkFrame{From: near, Channel: 0x1234, Tags: []wire.VLANTag{outer, tag}}, true},
			{"stacked once more on the way", wire.LinkFrame{From: near, Channel: 0x1234, Tags: []wire.VLANTag{outer, outer, tag}}, true},
			{"labelled", wire.LinkFrame{From: near, Channel: 0x1234, Labels: []uint32{16}}, true},
			{"all at once", wire.LinkFrame{From: near, Channel: 0x1234, Tags: []wire.VLANTag{outer, tag}, Labels: []uint32{16, 17, 18, 19}}, true},
			{"all at once, of another test", wire.LinkFrame{From: near, Channel: 2, Tags: []wire.VLANTag{outer, tag}, Labels: []uint32{16, 17, 18, 19}}, false},
			{"tagged, another's", wire.LinkFrame{From: other, Channel: 0x1234, Tags: []wire.VLANTag{tag}}, peer == nil},
		} {
			n, err := vm.Run(append(c.f.AppendHead(nil, 40), make([]byte, 40)...))
			require.NoError(t, err)
			assert.Equal(t, c.is, n > 0, c.name)
		}
		for _, no := range [][]byte{{}, make([]byte, 14), append(append(make([]byte, 12), 8, 0), make([]byte, 60)...)} {
			n, err := vm.Run(no)
			require.NoError(t, err)
			assert.Zero(t, n)
		}
	}
}

func TestFramesWithoutALink(t *testing.T) {
	_, err := Host().Open(network.Ethernet, 0, network.SocketOptions{Interface: "quay0", Link: &network.LinkOptions{}})
	require.ErrorIs(t, err, network.ErrNoSuch)
	require.ErrorContains(t, err, `there is no interface "quay0"`)
	_, err = Unprivileged().Open(network.Ethernet, 0, network.SocketOptions{Interface: "lo"})
	require.ErrorIs(t, err, network.ErrNotPermitted)
	require.ErrorContains(t, err, "cap_net_raw")
	all := openOn(t, network.Ethernet, 0, network.SocketOptions{Link: &network.LinkOptions{Channel: 5}})
	_, err = all.Send(wireAt(wire.Everybody), nil)
	require.ErrorContains(t, err, "sends nothing")
}

// TestFramesToOneself goes over loopback: the ring turns round several times.
func TestFramesToOneself(t *testing.T) {
	o := network.SocketOptions{Interface: "lo", Room: 1500, Depth: 1024, Link: &network.LinkOptions{Channel: 0x77, Tags: []wire.VLANTag{{ID: 100, Priority: 5}}}}
	from, to := openOn(t, network.Ethernet, 0, o), openOn(t, network.Ethernet, 0, o)
	at := wireAt(wire.Hardware{})
	message := make([]byte, 1400)
	list := make([]network.Outgoing, 16)
	packets := make([]network.Packet, 64)
	for turn := range 1000 {
		for i := range list {
			list[i] = network.Outgoing{To: at, Message: append([]byte{byte(turn), byte(i)}, message[:i*80]...)}
		}
		n, err := from.SendAll(list)
		require.NoError(t, err)
		require.Len(t, list, n)
		for i := 0; i < len(list); {
			got, err := to.Receive(packets)
			require.NoError(t, err)
			for _, p := range packets[:got] {
				require.Equal(t, list[i].Message, p.Data)
				require.True(t, p.Tagged)
				require.EqualValues(t, 5, p.Priority)
				require.False(t, p.At.IsZero())
				require.Equal(t, "fe80::200:ff:fe00:0%lo", p.Peer.String())
				i++
			}
		}
	}
	assert.Zero(t, to.Dropped())
	_, err := from.Send(wireAt(wire.Hardware{}), make([]byte, 70_000))
	require.ErrorIs(t, err, network.ErrTooBig)
	require.NoError(t, to.Close())
	_, err = to.Receive(packets)
	require.Error(t, err)
	require.NoError(t, to.Close())
}

func wireAt(h wire.Hardware) netip.AddrPort { return netip.AddrPortFrom(network.Station(h, "lo"), 0) }
