package capacity

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"woodlark.example/core/figure"
)

// Rate is in bits a second.
type Rate float64

// Of is the rate of bytes in seconds; absent when there was no time.
func Of(bytes int64, seconds float64) figure.Opt[Rate] {
	if seconds <= 0 {
		return figure.Opt[Rate]{}
	}
	return figure.Of(Rate(float64(bytes) * 8 / seconds))
}

// ParseRate reads a rate such as 20M, 20Mbit/s, 1.5G or 64k, in decimal units of bits
// a second.
func ParseRate(s string) (Rate, error) {
	text := strings.TrimSuffix(strings.TrimSuffix(strings.TrimSpace(s), "/s"), "bit")
	scale := 1.0
	if n := len(text); n > 0 {
		switch text[n-1] {
		case 'k', 'K':
			scale = 1e3
		case 'M':
			scale = 1e6
		case 'G':
			scale = 1e9
		}
		if scale > 1 {
			text = text[:n-1]
		}
	}
	v, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
	if err != nil || !(v > 0) || v*scale > 1e13 {
		return 0, fmt.Errorf("%q is not a rate: write bits a second, such as 20M, 64k or 1.5Gbit/s", s)
	}
	return Rate(v * scale), nil
}

// String writes it with three figures and its unit.
func (r Rate) String() string {
	v, unit := float64(r), "bit/s"
	for _, u := range []string{"kbit/s", "Mbit/s", "Gbit/s"} {
		if v < 999.5 {
			break
		}
		v, unit = v/1000, u
	}
	digits := 0
	switch {
	case v < 9.995:
		digits = 2
	case v < 99.95:
		digits = 1
	}
	return strconv.FormatFloat(v, 'f', digits, 64) + " " + unit
}

// Layer is where a rate is measured.
type Layer string

// The layers.
const (
	Payload Layer = "payload" // of TCP or UDP
	IP      Layer = "ip"      // whole IP packets
	Frame   Layer = "frame"   // Ethernet frames with header and FCS: 18 bytes more
	Line    Layer = "line"    // with preamble and gap: 20 bytes more still
)

// Transport is what carries the payload.
type Transport string

// The transports.
const (
	TCP Transport = "tcp"
	UDP Transport = "udp"
)

// Framing is how payload is packed.
type Framing struct {
	Family    int // 4 or 6
	Transport Transport
	Payload   int // bytes in a full packet
	Options   int // bytes of TCP options: 12 with timestamps (RFC 7323)
}

const (
	ethernetBytes = 18 // header and FCS, untagged
	gapBytes      = 20 // preamble and gap
	leastFrame    = 64 // with FCS
)

// At turns a rate of payload into that of another layer, when all packets are full.
func (f Framing) At(r Rate, l Layer) (Rate, bool) {
	if f.Payload <= 0 {
		return 0, false
	}
	header := 20
	if f.Family == 6 {
		header = 40
	}
	transport := 8
	if f.Transport == TCP {
		transport = 20 + f.Options
	}
	packet := f.Payload + header + transport
	frame := max(packet+ethernetBytes, leastFrame)
	size := map[Layer]int{Payload: f.Payload, IP: packet, Frame: frame, Line: frame + gapBytes}[l]
	return r * Rate(size) / Rate(f.Payload), size > 0
}

// TrimmedMean is the mean of repeats: of five or more the best and the worst are left
// out. Absent when there are none.
func TrimmedMean(rates []Rate) figure.Opt[Rate] {
	if len(rates) == 0 {
		return figure.Opt[Rate]{}
	}
	sorted := slices.Clone(rates)
	slices.Sort(sorted)
	if len(sorted) >= 5 {
		sorted = sorted[1 : len(sorted)-1]
	}
	sum := Rate(0)
	for _, r := range sorted {
		sum += r
	}
	return figure.Of(sum / Rate(len(sorted)))
}
