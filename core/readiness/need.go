package readiness

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/dscp"
	"woodlark.example/core/voice"
)

// Need is what a service asks of a place. What it leaves out is not asked.
type Need struct {
	Name     string          `json:"need" yaml:"need" doc:"Name of the need"`
	Says     string          `json:"says,omitempty" yaml:"says,omitempty" doc:"What the service is, for people"`
	Seats    int             `json:"seats,omitempty" yaml:"seats,omitempty" doc:"How many use it at once; 1 when left out"`
	Hosts    []HostNeed      `json:"hosts,omitempty" yaml:"hosts,omitempty" doc:"What has to be reached from the place, beside the far end"`
	Resolver acceptance.Span `json:"resolver,omitempty" yaml:"resolver,omitempty" doc:"Within which a name has to be found"`
	Streams  []Stream        `json:"streams,omitempty" yaml:"streams,omitempty" doc:"What each seat sends and gets, both ways at once"`
	Rate     acceptance.Ways `json:"rate,omitzero" yaml:"rate,omitempty" doc:"Bits of payload a second that each seat needs beside its streams: 2M, or there 500k back 3M"`
	Limits   Limits          `json:"limits,omitzero" yaml:"limits,omitempty" doc:"What has to hold, each way, while all seats are at work"`
	MTU      int             `json:"mtu,omitempty" yaml:"mtu,omitempty" doc:"Bytes of IP packets that have to come through whole"`
}

// HostNeed is a host that has to be reached.
type HostNeed struct {
	Name string `json:"host" yaml:"host" doc:"Name or address"`
	TCP  []int  `json:"tcp,omitempty" yaml:"tcp,omitempty" doc:"Ports of TCP that have to open"`
	UDP  []int  `json:"udp,omitempty" yaml:"udp,omitempty" doc:"Ports of UDP that must not be refused; whether a silent one is open cannot be told from outside"`
}

// Stream is one of the streams of a seat: as a codec sends it, or so many bytes so often.
type Stream struct {
	Name  string          `json:"stream" yaml:"stream" doc:"Its name"`
	Codec string          `json:"codec,omitempty" yaml:"codec,omitempty" doc:"g711, g729, g722, opus, video-720p or video-1080p"`
	Every acceptance.Span `json:"every,omitempty" yaml:"every,omitempty" doc:"Without a codec: time between packets"`
	Bytes int             `json:"bytes,omitempty" yaml:"bytes,omitempty" doc:"Without a codec: bytes of payload of each"`
	DSCP  string          `json:"dscp,omitempty" yaml:"dscp,omitempty" doc:"Service class that it is sent with, and has to arrive with"`
}

// Limits are what has to hold. Delay, variation and loss are one way.
type Limits struct {
	RTT       acceptance.Span  `json:"rtt,omitempty" yaml:"rtt,omitempty" doc:"Round trip at rest, its median, at most"`
	LoadedRTT acceptance.Span  `json:"loaded_rtt,omitempty" yaml:"loaded_rtt,omitempty" doc:"Round trip while the line is full, its median, at most"`
	Delay     acceptance.Span  `json:"delay,omitempty" yaml:"delay,omitempty" doc:"Mean delay of the streams, at most"`
	Variation acceptance.Span  `json:"variation,omitempty" yaml:"variation,omitempty" doc:"Delay variation of the streams (99.9 % quantile less the least), at most"`
	Loss      acceptance.Share `json:"loss,omitzero" yaml:"loss,omitempty" doc:"Loss of the streams, at most"`
	MOS       float64          `json:"mos,omitempty" yaml:"mos,omitempty" doc:"How calls sound, by the E-model of ITU-T G.107, at least"`
}

func ms(n int) acceptance.Span { return acceptance.Span(time.Duration(n) * time.Millisecond) }

func rate(text string) acceptance.Ways {
	var w acceptance.Ways
	if err := w.UnmarshalText([]byte(text)); err != nil {
		panic(err) // ours
	}
	return w
}

// All are the needs that are ready-made, by what the service does; none is of a maker's.
func All() []Need {
	return []Need{
		{Name: "calls", Says: "telephone calls over IP, one a seat", Resolver: ms(500), MTU: 1280,
			Streams: []Stream{{Name: "voice", Codec: "g711", DSCP: "EF"}},
			Limits:  Limits{Delay: ms(150), Variation: ms(40), Loss: acceptance.ShareOf(0.01), MOS: 3.8}},
		{Name: "meetings", Says: "meetings with sound and picture, one stream of each a seat", Resolver: ms(500), MTU: 1280,
			Streams: []Stream{{Name: "voice", Codec: "opus", DSCP: "EF"}, {Name: "picture", Codec: "video-720p", DSCP: "AF41"}},
			Limits:  Limits{Delay: ms(200), Variation: ms(60), Loss: acceptance.ShareOf(0.01)}},
		{Name: "remote-desk", Says: "a desktop that runs elsewhere", Resolver: ms(200), MTU: 1400, Rate: rate("there 300k back 3M"),
			Streams: []Stream{{Name: "input and picture", Every: ms(20), Bytes: 400}},
			Limits:  Limits{RTT: ms(100), LoadedRTT: ms(200), Variation: ms(60), Loss: acceptance.ShareOf(0.005)}},
		{Name: "file-work", Says: "files that lie elsewhere, opened and saved", Resolver: ms(200), MTU: 1500, Rate: rate("there 5M back 10M"),
			Limits: Limits{RTT: ms(60), LoadedRTT: ms(250)}},
		{Name: "kiosk", Says: "a counter that asks a server now and then: tickets, payments, orders", Resolver: ms(1000), MTU: 1280, Rate: rate("there 64k back 512k"),
			Limits: Limits{RTT: ms(400), LoadedRTT: ms(1500)}},
	}
}

// Find is a ready-made need by its name.
func Find(name string) (Need, error) {
	var names []string
	for _, n := range All() {
		if n.Name == name {
			return n, nil
		}
		names = append(names, n.Name)
	}
	return Need{}, fmt.Errorf("there is no need %q ready-made: %s; or give a file", clip(name), strings.Join(names, ", "))
}

func clip(s string) string {
	const most = 60
	if len(s) > most {
		return s[:most] + "…"
	}
	return s
}

// Wrong is what is wrong with a place of a need, such as streams[1].codec.
type Wrong struct{ Place, Says string }

// Error names the place.
func (w Wrong) Error() string { return w.Place + " " + w.Says }

// The limits of a need.
const (
	MostSeats   = 10_000
	mostHosts   = 50
	mostPorts   = 50
	mostStreams = 8
)

// Check says all that is wrong with a need.
func (n Need) Check() (list []Wrong) {
	must := func(ok bool, place, format string, args ...any) {
		if !ok {
			list = append(list, Wrong{place, fmt.Sprintf(format, args...)})
		}
	}
	must(n.Name != "", "need", "is missing: its name")
	must(n.Seats >= 0 && n.Seats <= MostSeats, "seats", "%d is not from 1 to %d", n.Seats, MostSeats)
	must(n.MTU == 0 || n.MTU >= 576 && n.MTU <= 9200, "mtu", "%d is not from 576 to 9200", n.MTU)
	must(len(n.Hosts) <= mostHosts, "hosts", "are %d: %d at most are possible", len(n.Hosts), mostHosts)
	must(len(n.Streams) <= mostStreams, "streams", "are %d: %d at most are possible", len(n.Streams), mostStreams)
	must(n.Resolver >= 0, "resolver", "is below zero")
	for i, h := range n.Hosts {
		at := fmt.Sprintf("hosts[%d].", i)
		must(h.Name != "", at+"host", "is missing: a name or an address")
		must(len(h.TCP)+len(h.UDP) <= mostPorts, at+"tcp", "and udp are %d ports: %d at most are possible", len(h.TCP)+len(h.UDP), mostPorts)
		for _, p := range slices.Concat(h.TCP, h.UDP) {
			must(p > 0 && p < 1<<16, at+"tcp", "or udp: %d is no port", p)
		}
	}
	for i, s := range n.Streams {
		at := fmt.Sprintf("streams[%d].", i)
		must(s.Name != "", fmt.Sprintf("streams[%d].stream", i), "is missing: its name")
		if s.Codec != "" {
			_, err := voice.ParseCodec(s.Codec)
			must(err == nil, at+"codec", "%v", err)
			must(s.Every == 0 && s.Bytes == 0, at+"codec", "says how often packets leave, and how large they are: leave out every and bytes")
		} else {
			must(s.Every.D() >= time.Millisecond && s.Every.D() <= 10*time.Second, at+"every", "%v is not from 1ms to 10s", s.Every.D())
			must(s.Bytes >= 44 && s.Bytes <= 8900, at+"bytes", "%d is not from 44 to 8900", s.Bytes)
		}
		_, err := dscp.Parse(s.DSCP)
		must(err == nil, at+"dscp", "%v", err)
	}
	for _, w := range []acceptance.Amount{n.Rate.There, n.Rate.Back} {
		must(w.IsZero() || w.Unit == acceptance.Bits, "rate", "%v is not in bits a second", w)
	}
	l := n.Limits
	must(l.MOS == 0 || l.MOS >= 1 && l.MOS <= 4.5, "limits.mos", "%g is not from 1 to 4.5", l.MOS)
	must(l.MOS == 0 || slices.ContainsFunc(n.Streams, func(s Stream) bool { return s.Codec != "" }), "limits.mos", "is of calls, and no stream has a codec")
	must(l == Limits{} || l.Delay == 0 && l.Variation == 0 && !l.Loss.Given || len(n.Streams) > 0, "limits", "of delay, variation and loss are of streams, and there are none")
	must(n.asks(), "need", "asks for nothing: give hosts, streams, rate, limits or mtu")
	return list
}

func (n Need) asks() bool {
	return len(n.Hosts) > 0 || len(n.Streams) > 0 || !n.Rate.IsZero() || n.Limits.RTT > 0 || n.Limits.LoadedRTT > 0 || n.MTU > 0 || n.Resolver > 0
}

// SeatsOr is how many seats there are, when that is not said elsewhere.
func (n Need) SeatsOr(seats int) int {
	if seats > 0 {
		return seats
	}
	return max(1, n.Seats)
}

// rtpHeader is what RTP puts before the payload (RFC 3550 §5.1), in bytes.
const rtpHeader = 12

// StreamBps is how many bits of payload a second a stream sends.
func (s Stream) StreamBps() float64 {
	if s.Codec != "" {
		c, err := voice.ParseCodec(s.Codec)
		if err != nil {
			return 0
		}
		sum := 0
		for _, n := range c.Sizes {
			sum += n + rtpHeader
		}
		return float64(sum) * 8 / float64(len(c.Sizes)) / c.Packet.Seconds()
	}
	if s.Every <= 0 {
		return 0
	}
	return float64(s.Bytes) * 8 / s.Every.D().Seconds()
}

// BpsOf is how many bits of payload a second so many seats need, one way: their streams and what
// they need beside.
func (n Need) BpsOf(seats int, there bool) float64 {
	sum := n.Rate.Of(there).Value
	for _, s := range n.Streams {
		sum += s.StreamBps()
	}
	return sum * float64(seats)
}

// Schema is the JSON Schema of a need's file.
func Schema() []byte { return acceptance.SchemaOf[Need]("What a service asks of a place", nil) }
