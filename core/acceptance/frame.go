package acceptance

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"

	"woodlark.example/core/capacity"
)

// Bytes of a frame, by its parts.
const (
	ethernetBytes = 14 + 4 // header and FCS (IEEE 802.3)
	tagBytes      = 4      // IEEE 802.1Q
	labelBytes    = 4      // RFC 3032
	udpBytes      = 8
	gapBytes      = 20 // preamble and gap on the line
	// linkBytes are those of a frame without IP that tell of which test it is, and how long.
	linkBytes = 4
	// innerBytes are those of the EtherType behind labels.
	innerBytes = 2
	leastFrame = 64
	// TestBytes are those that a frame of the test needs for itself: which stream and
	// number it has, when it left, and a check.
	TestBytes = 18
	// MostFrame is the largest frame that can be asked for.
	MostFrame = 9600
)

// Packing is how the payload of the test lies in a frame.
type Packing struct {
	Family int // of IP: 4 or 6; 0 for frames without
	Tags   int // of VLANs
	Labels int // of MPLS
}

// overhead is what a frame has beside the payload.
func (p Packing) overhead() int {
	n := ethernetBytes + p.Tags*tagBytes + p.Labels*labelBytes
	switch {
	case p.Family == 4:
		n += 20 + udpBytes
	case p.Family == 6:
		n += 40 + udpBytes
	case p.Labels > 0:
		n += linkBytes + innerBytes
	default:
		n += linkBytes
	}
	return n
}

// Least is the smallest frame, with FCS, that has room for the test.
func (p Packing) Least() int { return max(leastFrame, p.overhead()+TestBytes) }

// Payload is the payload of a frame, in bytes.
func (p Packing) Payload(frame int) int { return frame - p.overhead() }

// At is how many bytes of a layer one frame has.
func (p Packing) At(frame int, l capacity.Layer) int {
	switch l {
	case capacity.Payload:
		return p.Payload(frame)
	case capacity.IP:
		if p.Family == 0 {
			return frame - ethernetBytes - p.Tags*tagBytes - p.Labels*labelBytes
		}
		return p.Payload(frame) + p.overhead() - ethernetBytes - p.Tags*tagBytes - p.Labels*labelBytes
	case capacity.Line:
		return frame + gapBytes
	}
	return frame
}

// MeanAt is the mean of At over frames that follow each other.
func (p Packing) MeanAt(frames []int, l capacity.Layer) float64 {
	sum := 0
	for _, f := range frames {
		sum += p.At(f, l)
	}
	return float64(sum) / float64(max(1, len(frames)))
}

// Usual sizes (RFC 2544 §9.1, with FCS).
var usualSizes = []int{64, 128, 256, 512, 1024, 1280, 1518}

// UsualSizes are those of RFC 2544 §9.1; what is less than a frame of the test can be is raised
// to that (RFC 5180 §5.1.1: of IPv6 the smallest has to hold the whole header).
func (p Packing) UsualSizes() []int {
	list := slices.Clone(usualSizes)
	for i := range list {
		list[i] = max(list[i], p.Least())
	}
	// A tag makes the largest frame larger (IEEE 802.3ac).
	list[len(list)-1] += p.Tags*tagBytes + p.Labels*labelBytes
	return slices.Compact(list)
}

// emixSizes are those that the letters of an EMIX mean (ITU-T Y.1564 Table 2, as RFC 6985 §4).
var emixSizes = map[byte]int{'a': 64, 'b': 128, 'c': 256, 'd': 512, 'e': 1024, 'f': 1280, 'g': 1518}

// randomSizes is how many sizes a random mix repeats.
const randomSizes = 1024

// Mix reads frame sizes as people give them: one (512), several that follow each other
// (64,512,1518), an EMIX by its letters (emix:abceg; h is the MTU, u another: emix:abu9000),
// or random ones (random:64-1518). They are sent in this order, again and again.
func Mix(text string, mtu int, p Packing) ([]int, error) {
	text = strings.TrimSpace(text)
	var list []int
	switch kind, rest, _ := strings.Cut(text, ":"); kind {
	case "emix":
		var err error
		if list, err = emix(rest, mtu, p); err != nil {
			return nil, err
		}
	case "random":
		low, high, found := strings.Cut(rest, "-")
		a, err1 := strconv.Atoi(strings.TrimSpace(low))
		b, err2 := strconv.Atoi(strings.TrimSpace(high))
		if !found || err1 != nil || err2 != nil || a > b {
			return nil, fmt.Errorf("%q: random sizes are written random:64-1518", clip(text))
		}
		// The same numbers each time: both ends, and each run of a plan, send the same.
		r := rand.New(rand.NewPCG(uint64(a), uint64(b)))
		for range randomSizes {
			list = append(list, a+r.IntN(b-a+1))
		}
	default:
		for _, part := range strings.Split(text, ",") {
			n, err := strconv.Atoi(strings.TrimSpace(part))
			if err != nil {
				return nil, fmt.Errorf("%q is no frame size: 512, 64,512,1518, emix:abceg or random:64-1518", clip(part))
			}
			list = append(list, n)
		}
	}
	for _, n := range list {
		if err := p.Fits(n); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Fits says why frames of a size cannot be sent.
func (p Packing) Fits(frame int) error {
	if frame >= p.Least() && frame <= MostFrame {
		return nil
	}
	of := "a frame of the test"
	if p.Family > 0 {
		of = fmt.Sprintf("a frame with IPv%d, UDP and the %d bytes of the test", p.Family, TestBytes)
	}
	return fmt.Errorf("frames of %d bytes: %s has %d to %d bytes with its FCS", frame, of, p.Least(), MostFrame)
}

func emix(letters string, mtu int, p Packing) (list []int, err error) {
	if letters == "" {
		return nil, fmt.Errorf("an EMIX has letters: emix:abceg")
	}
	for i := 0; i < len(letters); i++ {
		switch c := letters[i]; {
		case emixSizes[c] > 0:
			// A letter stands for the class of size: what the headers need more is added.
			list = append(list, max(emixSizes[c], p.Least()))
		case c == 'h':
			if mtu <= 0 {
				return nil, fmt.Errorf("h of an EMIX is the largest frame, and which that is was not said: give mtu")
			}
			list = append(list, mtu+ethernetBytes+p.Tags*tagBytes+p.Labels*labelBytes)
		case c == 'u':
			j := i + 1
			for j < len(letters) && letters[j] >= '0' && letters[j] <= '9' {
				j++
			}
			n, err := strconv.Atoi(letters[i+1 : j])
			if err != nil {
				return nil, fmt.Errorf("u of an EMIX is a size of one's own, which stands behind it: emix:abu9000")
			}
			list, i = append(list, n), j-1
		default:
			return nil, fmt.Errorf("%q is no letter of an EMIX: a to h, or u with a size", string(c))
		}
	}
	return list, nil
}
