package voice

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Codec is how speech or pictures are packed, as they travel in RTP, with the
// impairment factors of speech (ITU-T G.113 Appendix I).
type Codec struct {
	Name string
	// Rated says that Ie and Bpl are known for the E-model of G.107: without them a
	// call by this codec has no R.
	Rated  bool
	Ie     float64       // equipment impairment without loss
	Bpl    float64       // robustness against loss
	Packet time.Duration // speech in a packet
	Ahead  time.Duration // look-ahead
	// Of its packets (RFC 3551 §6 where the type is static):
	Type  uint8   // RTP payload type; dynamic from 96 on
	Clock int     // RTP clock rate, Hz
	Sizes []int   // bytes of payload of each packet, again and again
	Frame float64 // packets of video that share a time; 0 or 1 else
}

// The codecs of calls. Opus and video have no factors in G.113 that the narrowband
// E-model could use, and those of G.722 are for its wideband scale.
var (
	G711  = Codec{Name: "G.711", Rated: true, Ie: 0, Bpl: 25.1, Packet: 20 * time.Millisecond, Type: 0, Clock: 8000, Sizes: []int{160}} // with concealment of loss
	G729A = Codec{Name: "G.729A", Rated: true, Ie: 11, Bpl: 19, Packet: 20 * time.Millisecond, Ahead: 5 * time.Millisecond, Type: 18, Clock: 8000, Sizes: []int{20}}
	// G722 has an RTP clock of 8,000 Hz though it samples at 16,000 (RFC 3551 §4.5.2).
	G722 = Codec{Name: "G.722", Packet: 20 * time.Millisecond, Type: 9, Clock: 8000, Sizes: []int{160}}
	// Opus at 24 kbit/s of wideband speech (RFC 7587 §4.2).
	Opus = Codec{Name: "Opus", Packet: 20 * time.Millisecond, Ahead: 6500 * time.Microsecond, Type: 111, Clock: 48000, Sizes: []int{60}}
	// Video of 30 frames a second. A frame of 720p is four packets, of 1080p nine.
	Video720  = Codec{Name: "video-720p", Packet: time.Second / 30 / 4, Type: 96, Clock: 90000, Sizes: []int{1200, 1200, 1200, 900}, Frame: 4}
	Video1080 = Codec{Name: "video-1080p", Packet: time.Second / 30 / 9, Type: 96, Clock: 90000, Sizes: []int{1200, 1200, 1200, 1200, 1200, 1200, 1200, 1200, 800}, Frame: 9}
)

// Codecs are those that can be asked for.
func Codecs() []Codec { return []Codec{G711, G729A, G722, Opus, Video720, Video1080} }

// ParseCodec finds a codec by its name, however it is written: g711, G.711.
func ParseCodec(name string) (Codec, error) {
	plain := func(s string) string {
		return strings.NewReplacer(".", "", "-", "", "_", "").Replace(strings.ToLower(s))
	}
	list := Codecs()
	i := slices.IndexFunc(list, func(c Codec) bool { return plain(c.Name) == plain(name) || c.Name == "G.729A" && plain(name) == "g729" })
	if i < 0 {
		var names []string
		for _, c := range list {
			names = append(names, c.Name)
		}
		return Codec{}, fmt.Errorf("no codec %q; there are %s", name, strings.Join(names, ", "))
	}
	return list[i], nil
}
