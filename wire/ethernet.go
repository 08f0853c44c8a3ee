package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
)

// Hardware is a hardware address of Ethernet (EUI-48, IEEE 802 §8).
type Hardware [6]byte

// Everybody is the address of all stations of a link.
var Everybody = Hardware{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}

// String writes it as 02:00:5e:10:00:07.
func (h Hardware) String() string {
	return net.HardwareAddr(h[:]).String()
}

// ParseHardware reads one, with colons or hyphens between its bytes.
func ParseHardware(text string) (h Hardware, err error) {
	a, err := net.ParseMAC(text)
	if err != nil || copy(h[:], a) != len(a) {
		return Hardware{}, fmt.Errorf("%q is no hardware address such as 02:00:5e:10:00:07", text)
	}
	return h, nil
}

// EtherTypes (IANA's registry of IEEE 802 numbers).
const (
	TypeVLAN        = 0x8100 // a customer's tag, IEEE 802.1Q §9
	TypeServiceVLAN = 0x88a8 // a provider's tag, IEEE 802.1Q §9 (802.1ad)
	TypeMPLS        = 0x8847 // RFC 5332 §2
	TypeLocal       = 0x88b5 // IEEE 802 §9.2.4: local experiments
)

// VLANTag is a tag of a VLAN (IEEE 802.1Q §9.6).
type VLANTag struct {
	Type     uint16 `json:"type,omitempty"` // TypeVLAN when 0
	ID       uint16 `json:"id"`
	Priority uint8  `json:"priority,omitempty"`      // 0 to 7
	Drop     bool   `json:"drop_eligible,omitempty"` // may be dropped first
}

// Control is the tag's control information.
func (t VLANTag) Control() uint16 {
	c := uint16(t.Priority&7)<<13 | t.ID&0xfff
	if t.Drop {
		c |= 1 << 12
	}
	return c
}

// tagOf reads a tag.
func tagOf(kind, control uint16) VLANTag {
	return VLANTag{Type: kind, ID: control & 0xfff, Priority: uint8(control >> 13), Drop: control&(1<<12) != 0}
}

// LinkFrame is the head of a frame of a test on a link: behind the tags and labels it has an
// EtherType for local experiments, then of which test it is, and how long what follows is, since
// short frames are padded on their way.
//
//	destination, source    6 + 6
//	tags                   4 each
//	0x8847 and labels      2, and 4 each, where there are labels
//	0x88b5                 2
//	channel, length        2 + 2
type LinkFrame struct {
	To, From Hardware
	Tags     []VLANTag
	Labels   []uint32 // of MPLS (RFC 3032 §2.1), 0 to 1,048,575
	Channel  uint16
}

const (
	mostTags   = 4
	mostLabels = 8
	labelTTL   = 255
)

// HeadSize is how many bytes the head has.
func (f LinkFrame) HeadSize() int {
	n := 12 + 4*len(f.Tags) + 6
	if len(f.Labels) > 0 {
		n += 2 + 4*len(f.Labels)
	}
	return n
}

// AppendHead adds the head of a frame with that many bytes of payload.
func (f LinkFrame) AppendHead(b []byte, payload int) []byte {
	b = append(b, f.To[:]...)
	b = append(b, f.From[:]...)
	for _, t := range f.Tags {
		kind := t.Type
		if kind == 0 {
			kind = TypeVLAN
		}
		b = binary.BigEndian.AppendUint16(b, kind)
		b = binary.BigEndian.AppendUint16(b, t.Control())
	}
	if len(f.Labels) > 0 {
		b = binary.BigEndian.AppendUint16(b, TypeMPLS)
		class := uint32(0)
		if len(f.Tags) > 0 { // the class goes along with the tag's
			class = uint32(f.Tags[0].Priority & 7)
		}
		for i, l := range f.Labels {
			entry := l<<12 | class<<9 | labelTTL
			if i == len(f.Labels)-1 {
				entry |= 1 << 8 // the bottom of the stack
			}
			b = binary.BigEndian.AppendUint32(b, entry)
		}
	}
	b = binary.BigEndian.AppendUint16(b, TypeLocal)
	b = binary.BigEndian.AppendUint16(b, f.Channel)
	return binary.BigEndian.AppendUint16(b, uint16(payload))
}

// ErrNoLinkFrame is returned for a frame that is none of a test.
var ErrNoLinkFrame = errors.New("no frame of a test on a link")

// ParseLinkFrame reads a frame of a test, and returns its payload, which is a part of b. Its tags
// and labels are those that it arrived with.
func ParseLinkFrame(b []byte) (f LinkFrame, payload []byte, err error) {
	if len(b) < 12 {
		return f, nil, ErrNoLinkFrame
	}
	copy(f.To[:], b)
	copy(f.From[:], b[6:])
	b = b[12:]
	kind, b, ok := take16(b)
	for ok && (kind == TypeVLAN || kind == TypeServiceVLAN) && len(f.Tags) < mostTags {
		var control uint16
		if control, b, ok = take16(b); !ok {
			return f, nil, ErrNoLinkFrame
		}
		f.Tags = append(f.Tags, tagOf(kind, control))
		kind, b, ok = take16(b)
	}
	if ok && kind == TypeMPLS {
		for bottom := false; !bottom; {
			if len(b) < 4 || len(f.Labels) >= mostLabels {
				return f, nil, ErrNoLinkFrame
			}
			entry := binary.BigEndian.Uint32(b)
			f.Labels, b, bottom = append(f.Labels, entry>>12), b[4:], entry&(1<<8) != 0
		}
		kind, b, ok = take16(b)
	}
	if !ok || kind != TypeLocal || len(b) < 4 {
		return f, nil, ErrNoLinkFrame
	}
	f.Channel = binary.BigEndian.Uint16(b)
	n := int(binary.BigEndian.Uint16(b[2:]))
	if b = b[4:]; n > len(b) {
		return f, nil, ErrNoLinkFrame
	}
	return f, b[:n], nil
}

func take16(b []byte) (uint16, []byte, bool) {
	if len(b) < 2 {
		return 0, b, false
	}
	return binary.BigEndian.Uint16(b), b[2:], true
}
