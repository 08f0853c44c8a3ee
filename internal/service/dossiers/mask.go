package dossiers

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"net/netip"
	"regexp"

	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// mask replaces addresses of one's own, each by another everywhere alike: of 240.0.0.0/4, which
// nobody has (RFC 1112, section 4), and of 100::/64, to which nothing goes (RFC 6666).
type mask struct {
	own   func(netip.Addr) bool
	named map[netip.Addr]bool // own whoever has the prefix
	by    map[netip.Addr]netip.Addr
	four  uint32
	six   uint64
}

// newMask replaces nothing unless it is on.
func newMask(on bool, own func(netip.Addr) bool) *mask {
	if !on {
		return nil
	}
	return &mask{own: own, named: map[netip.Addr]bool{}, by: map[netip.Addr]netip.Addr{}}
}

// agent takes an agent's addresses for own.
func (m *mask) agent(a store.Agent) {
	list := []string{a.Address}
	var h protocol.Health
	if a.Health != nil && json.Unmarshal([]byte(*a.Health), &h) == nil {
		list = append(list, h.Addresses...)
	}
	for _, text := range list {
		m.take(text)
	}
}

// take takes an address for own.
func (m *mask) take(text string) {
	if a, err := netip.ParseAddr(text); err == nil && !a.IsLoopback() {
		m.named[a.Unmap()] = true
	}
}

// addresses are texts that may be addresses, and fours those of IPv4 within one.
var (
	addresses = regexp.MustCompile(`[0-9A-Fa-f]*:[0-9A-Fa-f:.]*[0-9A-Fa-f:]|\d{1,3}(?:\.\d{1,3}){3}`)
	fours     = regexp.MustCompile(`\d{1,3}(?:\.\d{1,3}){3}`)
)

// bytes masks a text.
func (m *mask) bytes(b []byte) []byte {
	if m == nil {
		return b
	}
	return addresses.ReplaceAllFunc(b, func(text []byte) []byte {
		if masked, is := m.text(text); is {
			return masked
		}
		// A colon before or behind it may be of the sentence: "udp:192.0.2.1", "2001:db8::1: lost".
		for _, ends := range [][2]string{{"", ":"}, {":", ""}, {":", ":"}} {
			bare := bytes.TrimSuffix(bytes.TrimPrefix(text, []byte(ends[0])), []byte(ends[1]))
			if masked, is := m.text(bare); is {
				return bytes.Replace(text, bare, masked, 1)
			}
		}
		return fours.ReplaceAllFunc(text, func(four []byte) []byte {
			masked, _ := m.text(four)
			return masked
		})
	})
}

// text is an address as it is shown; false when it is none.
func (m *mask) text(b []byte) ([]byte, bool) {
	a, err := netip.ParseAddr(string(b))
	if err != nil {
		return b, false
	}
	if to, is := m.address(a.Unmap()); is {
		return []byte(to.String()), true
	}
	return b, true
}

func (m *mask) address(a netip.Addr) (netip.Addr, bool) {
	if !m.named[a] && !m.own(a) {
		return a, false
	}
	if to, is := m.by[a]; is {
		return to, true
	}
	var to netip.Addr
	if a.Is4() {
		m.four++
		var b [4]byte
		binary.BigEndian.PutUint32(b[:], 0xF000_0000|m.four)
		to = netip.AddrFrom4(b)
	} else {
		m.six++
		b := [16]byte{0: 1}
		binary.BigEndian.PutUint64(b[8:], m.six)
		to = netip.AddrFrom16(b)
	}
	m.by[a] = to
	return to, true
}
