package acceptance

import (
	"slices"
	"time"

	"woodlark.example/core/capacity"
)

// Plan says what an acceptance test does. Its zero values mean what is usual.
type Plan struct {
	Name     string   `json:"plan,omitempty" yaml:"plan,omitempty" doc:"Name of the plan"`
	About    About    `json:"about,omitzero" yaml:"about,omitempty" doc:"What stands on the report"`
	Over     Over     `json:"over,omitempty" yaml:"over,omitempty" doc:"ip (UDP to a far end) or ethernet (frames on a link)"`
	Family   int      `json:"family,omitempty" yaml:"family,omitempty" doc:"Of IP: 4 or 6; of a far end that is a name, the first that it has when left out"`
	Way      Way      `json:"direction,omitempty" yaml:"direction,omitempty" doc:"both (at once), each (one after the other), there or back"`
	Ends     Ends     `json:"ends,omitempty" yaml:"ends,omitempty" doc:"both (each direction is measured at its receiver) or returned (the far end sends each frame back: round trip only)"`
	Line     Ways     `json:"line,omitzero" yaml:"line,omitempty" doc:"Rate of the line in bit/s, with preamble and gap: what percents are of"`
	Layer    Layer    `json:"layer,omitempty" yaml:"layer,omitempty" doc:"Of which layer rates in bit/s are: payload, ip, frame (with FCS: the information rate of ITU-T Y.1564) or line (with preamble and gap)"`
	MTU      int      `json:"mtu,omitempty" yaml:"mtu,omitempty" doc:"Bytes of the largest IP packet; 1500 when left out"`
	Ethernet Ethernet `json:"ethernet,omitzero" yaml:"ethernet,omitempty" doc:"Of frames on a link, and what the circuit adds to frames on its way"`
	Wait     Span     `json:"wait,omitempty" yaml:"wait,omitempty" doc:"How long is rested between trials; 5s when left out (RFC 2544 §23)"`

	First  First     `json:"first_look,omitzero" yaml:"first_look,omitempty" doc:"What is looked at before the rest"`
	Host   HostCheck `json:"host_check,omitzero" yaml:"host_check,omitempty" doc:"What this host can do by itself, measured first"`
	BySize *BySize   `json:"by_size,omitempty" yaml:"by_size,omitempty" doc:"Tests by frame size (RFC 2544)"`
	By     *Services `json:"by_service,omitempty" yaml:"by_service,omitempty" doc:"Tests by service (ITU-T Y.1564)"`
}

// About is what stands on the report; nothing of it changes the test.
type About struct {
	Title      string `json:"title,omitempty" yaml:"title,omitempty"`
	Customer   string `json:"customer,omitempty" yaml:"customer,omitempty"`
	Technician string `json:"technician,omitempty" yaml:"technician,omitempty"`
	Place      string `json:"place,omitempty" yaml:"place,omitempty"`
	Order      string `json:"order,omitempty" yaml:"order,omitempty"`
	Comment    string `json:"comment,omitempty" yaml:"comment,omitempty"`
}

// Over is what carries the frames of the test.
type Over string

// The carriers.
const (
	IP    Over = "ip"
	Frame Over = "ethernet"
)

// Way is which directions are tested, and in which order.
type Way string

// The ways.
const (
	Both  Way = "both" // at once
	Each  Way = "each" // one after the other
	There Way = "there"
	Back  Way = "back"
)

// Ends is where is measured.
type Ends string

// The ends.
const (
	AtBoth   Ends = "both"
	Returned Ends = "returned"
)

// Layer is that of rates in bit/s.
type Layer = capacity.Layer

// Ethernet is how frames look on a link; of a test over IP only its tags and labels count, as
// bytes that the circuit adds.
type Ethernet struct {
	Interface string   `json:"interface,omitempty" yaml:"interface,omitempty" doc:"To send by"`
	To        string   `json:"to,omitempty" yaml:"to,omitempty" doc:"Hardware address of the far end; found by asking on the link when left out"`
	Tags      []Tag    `json:"tags,omitempty" yaml:"tags,omitempty" doc:"VLANs, the outermost first"`
	Labels    []uint32 `json:"mpls_labels,omitempty" yaml:"mpls_labels,omitempty" doc:"Labels of MPLS, the outermost first"`
}

// Tag is a tag of a VLAN (IEEE 802.1Q).
type Tag struct {
	VLAN     int    `json:"vlan" yaml:"vlan"`
	Priority int    `json:"priority,omitempty" yaml:"priority,omitempty" doc:"0 to 7"`
	Drop     bool   `json:"drop_eligible,omitempty" yaml:"drop_eligible,omitempty"`
	Type     string `json:"type,omitempty" yaml:"type,omitempty" doc:"802.1q or 802.1ad; when left out 802.1ad of the outer one of two, else 802.1q"`
}

// The types of tags.
const (
	CustomerTag = "802.1q"
	ServiceTag  = "802.1ad"
)

// TagsOf are the tags of a load's frames, the outermost first: a service may have a VLAN and a
// priority of its own, which are those of the outermost.
func (p Plan) TagsOf(l Load) []Tag {
	list := slices.Clone(p.Ethernet.Tags)
	for i := range list {
		if list[i].Type == "" {
			list[i].Type = CustomerTag
			if i == 0 && len(list) > 1 {
				list[i].Type = ServiceTag
			}
		}
	}
	if p.By == nil || l.Service < 0 || l.Service >= len(p.By.List) || len(list) == 0 {
		return list
	}
	s := p.By.List[l.Service]
	if s.VLAN != nil {
		list[0].VLAN = *s.VLAN
	}
	if s.Priority != nil {
		list[0].Priority = *s.Priority
	}
	if s.Colours != nil {
		text := s.Colours.Green
		if l.Colour == yellow {
			text = s.Colours.Yellow
		}
		list[0].Priority, list[0].Drop = priorityOf(text)
	}
	return list
}

// First is the first look.
type First struct {
	Skip bool `json:"skip,omitempty" yaml:"skip,omitempty"`
	For  Span `json:"for,omitempty" yaml:"for,omitempty" doc:"How long the highest rate is tried; 10s when left out"`
}

// HostCheck is what this host is asked first.
type HostCheck struct {
	Skip bool `json:"skip,omitempty" yaml:"skip,omitempty"`
	For  Span `json:"for,omitempty" yaml:"for,omitempty" doc:"How long each size; 1s when left out"`
}

// BySize are the tests of RFC 2544.
type BySize struct {
	Sizes      []int          `json:"sizes,omitempty" yaml:"sizes,omitempty" doc:"Bytes of frames with FCS; those of RFC 2544 when left out"`
	Most       Ways           `json:"most,omitzero" yaml:"most,omitempty" doc:"Highest rate: 100M, 1488fps, 95%; the line's when left out"`
	Least      Ways           `json:"least,omitzero" yaml:"least,omitempty" doc:"Lowest rate that is looked for; a hundredth of the highest when left out"`
	Within     Share          `json:"within,omitzero" yaml:"within,omitempty" doc:"Part of the highest rate within which the search ends; 0.1% when left out"`
	Reached    Share          `json:"reached,omitzero" yaml:"reached,omitempty" doc:"By how much what arrives may fall short of what was offered, when nothing is lost, for a rate to count as reached; 0.1% when left out"`
	Throughput ThroughputPart `json:"throughput,omitzero" yaml:"throughput,omitempty"`
	Latency    LatencyPart    `json:"latency,omitzero" yaml:"latency,omitempty"`
	Loss       LossPart       `json:"frame_loss,omitzero" yaml:"frame_loss,omitempty"`
	Burst      BurstPart      `json:"back_to_back,omitzero" yaml:"back_to_back,omitempty"`
	Limits     SizeLimits     `json:"limits,omitzero" yaml:"limits,omitempty" doc:"What the circuit is held to; without a limit a figure is only reported"`
}

// ThroughputPart is RFC 2544 §26.1.
type ThroughputPart struct {
	Skip   bool  `json:"skip,omitempty" yaml:"skip,omitempty"`
	For    Span  `json:"for,omitempty" yaml:"for,omitempty" doc:"A trial; 10s when left out (RFC 2544 §24: 60s)"`
	Trials int   `json:"trials,omitempty" yaml:"trials,omitempty" doc:"How often the whole search; 1 when left out"`
	Loss   Share `json:"loss,omitzero" yaml:"loss,omitempty" doc:"Loss that a rate may have; none when left out"`
}

// LatencyPart is RFC 2544 §26.2.
type LatencyPart struct {
	Skip   bool  `json:"skip,omitempty" yaml:"skip,omitempty"`
	For    Span  `json:"for,omitempty" yaml:"for,omitempty" doc:"A trial; 10s when left out (RFC 2544 §26.2: 120s)"`
	Trials int   `json:"trials,omitempty" yaml:"trials,omitempty" doc:"3 when left out (RFC 2544 §26.2: 20)"`
	At     Share `json:"at,omitzero" yaml:"at,omitempty" doc:"Part of the throughput that is sent; all of it when left out"`
}

// LossPart is RFC 2544 §26.3.
type LossPart struct {
	Skip   bool  `json:"skip,omitempty" yaml:"skip,omitempty"`
	For    Span  `json:"for,omitempty" yaml:"for,omitempty" doc:"A trial; 10s when left out"`
	Trials int   `json:"trials,omitempty" yaml:"trials,omitempty" doc:"Of each step; 1 when left out"`
	Step   Share `json:"step,omitzero" yaml:"step,omitempty" doc:"Part of the highest rate; 10% when left out"`
}

// BurstPart is RFC 2544 §26.4, as RFC 9004 mends it.
type BurstPart struct {
	Skip    bool `json:"skip,omitempty" yaml:"skip,omitempty"`
	Longest Span `json:"longest,omitempty" yaml:"longest,omitempty" doc:"Longest burst that is tried, at the highest rate; 2s when left out"`
	Trials  int  `json:"trials,omitempty" yaml:"trials,omitempty" doc:"How often the search; 3 when left out (RFC 2544 §26.4: 50)"`
}

// SizeLimits are limits of each frame size.
type SizeLimits struct {
	Throughput Ways  `json:"throughput,omitzero" yaml:"throughput,omitempty" doc:"At least"`
	Latency    Span  `json:"latency,omitempty" yaml:"latency,omitempty" doc:"Mean, at most"`
	Variation  Span  `json:"variation,omitempty" yaml:"variation,omitempty" doc:"99.9 % quantile less the least, at most"`
	Loss       Share `json:"loss,omitzero" yaml:"loss,omitempty" doc:"At the throughput that is the limit, or at the highest rate where there is none; at most"`
	Burst      int   `json:"burst_frames,omitempty" yaml:"burst_frames,omitempty" doc:"At least"`
}

// Services are the tests of ITU-T Y.1564.
type Services struct {
	List          []Service     `json:"services" yaml:"services"`
	Configuration Configuration `json:"configuration,omitzero" yaml:"configuration,omitempty"`
	Performance   Performance   `json:"performance,omitzero" yaml:"performance,omitempty"`
}

// Service is a service, with its bandwidth profile and its acceptance criteria.
type Service struct {
	Name   string `json:"service" yaml:"service"`
	Frames string `json:"frames,omitempty" yaml:"frames,omitempty" doc:"Bytes with FCS: 512, or 64,512,1518, emix:abceg, random:64-1518; 512 when left out"`
	CIR    Ways   `json:"cir" yaml:"cir" doc:"Committed information rate"`
	EIR    Ways   `json:"eir,omitzero" yaml:"eir,omitempty" doc:"Excess information rate"`
	CBS    int    `json:"cbs_bytes,omitempty" yaml:"cbs_bytes,omitempty" doc:"Committed burst size, of frames with FCS"`
	EBS    int    `json:"ebs_bytes,omitempty" yaml:"ebs_bytes,omitempty" doc:"Excess burst size"`
	// Margin is the M of ITU-T Y.1564 §8.1.1.3.
	Margin   Share         `json:"margin,omitzero" yaml:"margin,omitempty" doc:"By how much policing may let through more than CIR + EIR; 1% when left out"`
	Colours  *Colours      `json:"colours,omitempty" yaml:"colours,omitempty" doc:"Of a service whose frames are marked: by which DSCP, or by which priority of the VLAN's tag"`
	DSCP     string        `json:"dscp,omitempty" yaml:"dscp,omitempty" doc:"Service class of IP, by name such as EF or by number"`
	Priority *int          `json:"priority,omitempty" yaml:"priority,omitempty" doc:"Of the outermost VLAN's tag, 0 to 7, of frames on a link"`
	VLAN     *int          `json:"vlan,omitempty" yaml:"vlan,omitempty" doc:"Of frames on a link, instead of the plan's outermost"`
	Source   string        `json:"source,omitempty" yaml:"source,omitempty" doc:"Address to send from"`
	To       string        `json:"to,omitempty" yaml:"to,omitempty" doc:"Address of the far end for this service, when it has one of its own"`
	Like     string        `json:"limits_like,omitempty" yaml:"limits_like,omitempty" doc:"Limits that are ready-made, by name"`
	Limits   ServiceLimits `json:"limits,omitzero" yaml:"limits,omitempty" doc:"Service acceptance criteria; over those that are ready-made"`
}

// Colours are the marks of frames within CIR and beyond.
type Colours struct {
	Green  string `json:"green" yaml:"green" doc:"DSCP of what is within CIR; of frames on a link priority 0 to 7, with drop behind it where they may be dropped first"`
	Yellow string `json:"yellow" yaml:"yellow" doc:"The same of what is beyond"`
}

// ServiceLimits are the acceptance criteria of a service, one way.
type ServiceLimits struct {
	Loss         Share `json:"loss,omitzero" yaml:"loss,omitempty" doc:"Frame loss ratio, at most"`
	Delay        Span  `json:"delay,omitempty" yaml:"delay,omitempty" doc:"Mean frame transfer delay, at most"`
	Variation    Span  `json:"variation,omitempty" yaml:"variation,omitempty" doc:"Frame delay variation (99.9 % quantile less the least), at most"`
	Availability Share `json:"availability,omitzero" yaml:"availability,omitempty" doc:"At least"`
}

// Configuration is the service configuration test (ITU-T Y.1564 §8.1.1).
type Configuration struct {
	Skip     bool    `json:"skip,omitempty" yaml:"skip,omitempty"`
	StepFor  Span    `json:"step_for,omitempty" yaml:"step_for,omitempty" doc:"1s to 60s; 10s when left out"`
	Steps    []Share `json:"steps,omitempty" yaml:"steps,omitempty" doc:"Parts of CIR; 25%, 50%, 75% and 100% when left out"`
	Excess   *bool   `json:"excess,omitempty" yaml:"excess,omitempty" doc:"Whether CIR + EIR is tried; usually where there is an EIR"`
	Policing *bool   `json:"policing,omitempty" yaml:"policing,omitempty" doc:"Whether more than CIR + EIR is tried; usually yes"`
	Bursts   *bool   `json:"bursts,omitempty" yaml:"bursts,omitempty" doc:"Whether CBS and EBS are tried; usually where they are given"`
}

// Performance is the service performance test (ITU-T Y.1564 §8.1.2).
type Performance struct {
	Skip bool `json:"skip,omitempty" yaml:"skip,omitempty"`
	For  Span `json:"for,omitempty" yaml:"for,omitempty" doc:"15m, 2h or 24h; 15m when left out"`
}

// What is usual.
const (
	usualTrial    = 10 * time.Second
	usualRest     = 5 * time.Second
	usualBurst    = 2 * time.Second
	usualHostFor  = time.Second
	usualWithin   = 0.001
	usualReached  = 0.001
	usualStep     = 0.1
	usualMargin   = 0.01
	usualLeast    = 0.01
	usualMTU      = 1500
	usualFrame    = "512"
	usualPerform  = 15 * time.Minute
	usualLatency  = 3
	usualBursts   = 3
	leastPolicing = 0.2 // of CIR, that EIR is for policing to go by it (ITU-T Y.1564 §8.1.1.3)
)

// Packing is how payload lies in frames of the plan, where the circuit begins.
func (p Plan) Packing() Packing {
	x := Packing{Family: p.Family, Tags: len(p.Ethernet.Tags), Labels: len(p.Ethernet.Labels)}
	if p.Over == Frame {
		x.Family = 0
	} else if x.Family == 0 {
		x.Family = 4
	}
	return x
}

// LayerOf is that of rates in bit/s.
func (p Plan) LayerOf() Layer {
	if p.Layer == "" {
		return capacity.Frame
	}
	return p.Layer
}

// mtu is the largest IP packet.
func (p Plan) mtu() int {
	if p.MTU == 0 {
		return usualMTU
	}
	return p.MTU
}

// LargestIP is how many bytes the largest IP packets of the plan have, the usual ones at least.
func (p Plan) LargestIP() int {
	most, pack := p.mtu(), p.Packing()
	take := func(list []int) {
		for _, n := range list {
			most = max(most, pack.At(n, capacity.IP))
		}
	}
	if p.BySize != nil {
		take(p.sizes())
	}
	if p.By != nil {
		for _, s := range p.By.List {
			take(p.frames(s))
		}
	}
	return most
}

// directions are those that are tested: each group at once.
func (p Plan) directions() [][]bool {
	switch {
	case p.Ends == Returned, p.Way == There:
		return [][]bool{{true}}
	case p.Way == Back:
		return [][]bool{{false}}
	case p.Way == Each:
		return [][]bool{{true}, {false}}
	}
	return [][]bool{{true, false}}
}

// goes reports whether a direction is tested.
func (p Plan) goes(there bool) bool {
	for _, group := range p.directions() {
		if slices.Contains(group, there) {
			return true
		}
	}
	return false
}

// fps turns an amount into frames a second of frames that follow each other, in a direction;
// 0 when it says nothing.
func (p Plan) fps(a Amount, frames []int, there bool) float64 {
	x := p.Packing()
	switch a.Unit {
	case FramesASecond:
		return a.Value
	case Percent:
		line := p.Line.Of(there)
		if line.IsZero() {
			return 0
		}
		return a.Value / 100 * line.Value / 8 / x.MeanAt(frames, capacity.Line)
	}
	return a.Value / 8 / x.MeanAt(frames, p.LayerOf())
}

// sizes are those of the tests by frame size.
func (p Plan) sizes() []int {
	if len(p.BySize.Sizes) > 0 {
		return p.BySize.Sizes
	}
	return p.Packing().UsualSizes()
}

// most and least are the ends of the search at a size, in frames a second.
func (p Plan) most(size int, there bool) float64 {
	a := p.BySize.Most.Of(there)
	if a.IsZero() {
		a = Amount{100, Percent}
	}
	return p.fps(a, []int{size}, there)
}

func (p Plan) least(size int, there bool) float64 {
	if a := p.BySize.Least.Of(there); !a.IsZero() {
		return min(p.most(size, there), p.fps(a, []int{size}, there))
	}
	return p.most(size, there) * usualLeast
}

// frames are the sizes of a service; its check says that they can be read.
func (p Plan) frames(s Service) []int {
	text := s.Frames
	if text == "" {
		text = usualFrame
	}
	list, err := Mix(text, p.mtu(), p.Packing())
	if err != nil {
		return []int{p.Packing().Least()}
	}
	return list
}

func count(n, usual int) int {
	if n == 0 {
		return usual
	}
	return n
}

// is reads a switch, with what it is when nothing is said.
func is(b *bool, usual bool) bool {
	if b == nil {
		return usual
	}
	return *b
}
