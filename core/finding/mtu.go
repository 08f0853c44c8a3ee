package finding

import (
	"fmt"

	"woodlark.example/core/loss"
)

const (
	// MTUReduced: the path's MTU is below that of the link here.
	MTUReduced Code = "mtu_reduced"
	// MTUBlackHole: large packets vanish with no word.
	MTUBlackHole Code = "mtu_black_hole"
)

// PathMTU is what a search for the path MTU found. Sizes are those of whole IP
// packets, in bytes; 0 where they are not known.
type PathMTU struct {
	MTU  int    `json:"mtu_bytes"`      // the largest that arrived; 0 when nothing did
	Link int    `json:"link_mtu_bytes"` // the largest that this host's own link takes
	Told int    `json:"told_mtu_bytes"` // that a router named last
	By   string `json:"told_by"`        // what it said, and who
	Sent int    `json:"sent"`           // probes
	// Vanished is how many probes of one byte more were sent and neither answered
	// nor refused; 0 unless that was all of them. Arrived is how many of as many
	// that fit, less the first three, were answered in the same moments.
	Vanished int `json:"vanished"`
	Arrived  int `json:"arrived"`
}

// OfMTU concludes what the MTU of a path means.
func OfMTU(m PathMTU) []Finding {
	found := []Finding{}
	figures := map[string]float64{"mtu_bytes": float64(m.MTU)}
	if m.Link > 0 {
		figures["link_mtu_bytes"] = float64(m.Link)
	}
	switch {
	case m.MTU == 0:
	case m.Vanished > 0 && m.Arrived > 0:
		figures["vanished"], figures["arrived"] = float64(m.Vanished), float64(m.Arrived)
		found = append(found, Finding{
			Code: MTUBlackHole,
			Sentence: fmt.Sprintf("Packets of more than %d bytes vanish with no word: %d of %d bytes were sent and none came back, while those of %d bytes do.",
				m.MTU, m.Vanished, m.MTU+1, m.MTU),
			Figures: figures,
			Sure:    sure(loss.Ratio{Lost: m.Vanished, Sent: m.Vanished}.AtLeast(0.5)),
			Advice:  "Let the routers on the way send 'packet too big' messages, or hold senders to segments that fit (MSS).",
		})
	case m.Told > 0 && m.MTU <= m.Told && (m.Link == 0 || m.MTU < m.Link):
		figures["told_mtu_bytes"] = float64(m.Told)
		found = append(found, Finding{
			Code:     MTUReduced,
			Sentence: fmt.Sprintf("The largest packet that arrives whole has %d bytes%s: %s.", m.MTU, ofLink(m), m.By),
			Figures:  figures,
			Sure:     observed,
			Advice:   "Expect a tunnel or an access link with a smaller MTU there; it is told, so senders can adapt.",
		})
	}
	return found
}

func ofLink(m PathMTU) string {
	if m.Link == 0 {
		return ""
	}
	return fmt.Sprintf(", the link here takes %d", m.Link)
}
