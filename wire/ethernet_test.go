package wire

import (
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFramesOnALink(t *testing.T) {
	near, far := Hardware{2, 0, 0x5e, 0x10, 0, 1}, Hardware{2, 0, 0x5e, 0x10, 0, 2}
	for _, c := range []struct {
		name string
		f    LinkFrame
		head string // by hand, behind both addresses
	}{
		{"bare", LinkFrame{Channel: 0x1234}, "88b5" + "1234" + "0003"},
		{"tagged: priority 5 of VLAN 100", LinkFrame{Tags: []VLANTag{{ID: 100, Priority: 5}}, Channel: 1}, "8100a064" + "88b5" + "0001" + "0003"},
		{"stacked, the outer one drop eligible", LinkFrame{Tags: []VLANTag{{Type: TypeServiceVLAN, ID: 4094, Priority: 7, Drop: true}, {Type: TypeVLAN, ID: 1}}, Channel: 1}, "88a8fffe" + "81000001" + "88b5" + "0001" + "0003"},
		{"labels 16 and 1048575", LinkFrame{Labels: []uint32{16, 1048575}, Channel: 1}, "8847" + "000100ff" + "fffff1ff" + "88b5" + "0001" + "0003"},
		{"a label behind a tag has its class", LinkFrame{Tags: []VLANTag{{ID: 2, Priority: 3}}, Labels: []uint32{17}, Channel: 1}, "81006002" + "8847" + "000117ff" + "88b5" + "0001" + "0003"},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.f.To, c.f.From = far, near
			b := c.f.AppendHead(nil, 3)
			assert.Equal(t, "02005e10000202005e100001"+c.head, hex.EncodeToString(b))
			assert.Len(t, b, c.f.HeadSize())
			whole := append(append([]byte{}, b...), 7, 8, 9, 0, 0, 0) // padded
			f, payload, err := ParseLinkFrame(whole)
			require.NoError(t, err)
			assert.Equal(t, []byte{7, 8, 9}, payload)
			for i := range c.f.Tags {
				if c.f.Tags[i].Type == 0 {
					c.f.Tags[i].Type = TypeVLAN
				}
			}
			assert.Equal(t, c.f, f)
			for n := range len(b) + 2 {
				_, _, err := ParseLinkFrame(whole[:n])
				assert.Error(t, err, "%d bytes of it", n)
			}
		})
	}
	for _, no := range []string{"", "02005e10000202005e1000010800", "02005e10000202005e100001884700010000000100000001000000010000000100000001000000010000000100000001000088b500010000"} {
		b, err := hex.DecodeString(no)
		require.NoError(t, err)
		_, _, err = ParseLinkFrame(b)
		assert.ErrorIs(t, err, ErrNoLinkFrame)
	}
}

func TestHardwareAddresses(t *testing.T) {
	for _, text := range []string{"02:00:5e:10:00:0A", "02-00-5e-10-00-0a"} {
		h, err := ParseHardware(text)
		require.NoError(t, err)
		assert.Equal(t, "02:00:5e:10:00:0a", h.String())
	}
	for _, text := range []string{"", "02:00:5e:10:00", "02:00:5e:10:00:0g", "2:0:5e:10:0:a", "02:00:5e:10:00:+1"} {
		_, err := ParseHardware(text)
		assert.ErrorContains(t, err, "no hardware address", text)
	}
}

func FuzzLinkFrame(f *testing.F) {
	f.Add(LinkFrame{Tags: []VLANTag{{ID: 1}}, Labels: []uint32{16}, Channel: 9}.AppendHead(nil, 0))
	f.Fuzz(func(t *testing.T, b []byte) {
		x, payload, err := ParseLinkFrame(b)
		if err != nil {
			return
		}
		y, again, err := ParseLinkFrame(append(x.AppendHead(nil, len(payload)), payload...))
		require.NoError(t, err)
		require.Equal(t, x, y)
		require.Equal(t, payload, again)
	})
}
