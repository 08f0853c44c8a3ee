package finding

import (
	"fmt"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
)

const (
	// HeldByWindow and those after it: what kept throughput down.
	HeldByWindow Code = "held_by_window"
	HeldByLoss   Code = "held_by_loss"
	HeldByLink   Code = "held_by_link"
	HeldByHost   Code = "held_by_host"
	Policed      Code = "policed"
	// Bloat: the round trip under load is far above that at rest.
	Bloat Code = "bloat"
	// LoadOverlap: a load run was going on at the same time.
	LoadOverlap Code = "load_overlap"
)

// ThroughputReport is what a bandwidth test found, for machines. Rates are of payload
// unless their key names another layer; a figure that is not known is null.
type ThroughputReport struct {
	Target     string                `json:"target"`
	Address    string                `json:"address"`
	From       string                `json:"from"`
	To         string                `json:"to"` // the far end's name of itself
	Protocol   string                `json:"protocol"`
	StartedAt  time.Time             `json:"started_at"`
	ElapsedMs  float64               `json:"elapsed_ms"`
	Complete   bool                  `json:"complete"`
	Problem    string                `json:"problem,omitempty"` // why it broke off
	Directions []ThroughputDirection `json:"directions"`
	Repeats    []ThroughputRepeat    `json:"repeats"`
	Trimmed    *float64              `json:"trimmed_mean_bps"`    // of the first direction; see there for the others
	HeldBy     string                `json:"held_by"`             // of the first direction; empty when nothing clearly did
	Yardstick  *YardstickReport      `json:"yardstick,omitempty"` // left out when it was not asked for
	Conditions ThroughputConditions  `json:"conditions"`
	Note       string                `json:"note,omitempty"`
	Findings   []Finding             `json:"findings"`
}

// ThroughputConditions are those that a figure was measured under.
type ThroughputConditions struct {
	Streams     int      `json:"streams"` // side by side, each way
	AtOnce      bool     `json:"both_at_once"`
	For         float64  `json:"for_s"`
	WarmUp      float64  `json:"warm_up_s"` // left out of the rates
	Congestion  string   `json:"congestion"`
	WindowBytes int      `json:"window_bytes"` // 0 for the system's choice
	PacketBytes int      `json:"packet_bytes"` // of payload, of UDP
	OfferedBps  *float64 `json:"offered_bps"`  // of UDP
	DSCP        int      `json:"dscp"`
	NearSystem  string   `json:"near_system"`
	FarSystem   string   `json:"far_system"`
	NearVersion string   `json:"near_version"`
	FarVersion  string   `json:"far_version"`
}

// ThroughputRepeat is one of several runs.
type ThroughputRepeat struct {
	Direction string   `json:"direction"`
	StartedAt string   `json:"started_at"`
	Bps       *float64 `json:"received_bps"`
	LossRatio *float64 `json:"loss_ratio"`
}

// YardstickReport is what each end reaches within itself.
type YardstickReport struct {
	NearBps *float64 `json:"near_bps"`
	FarBps  *float64 `json:"far_bps"`
}

// ThroughputDirection is one direction. Of several runs it is the last; Trimmed is of
// all of them.
type ThroughputDirection struct {
	Direction     string           `json:"direction"` // A → B
	From          string           `json:"from"`
	To            string           `json:"to"`
	There         bool             `json:"there"`
	SentBytes     int64            `json:"sent_bytes"`
	ReceivedBytes int64            `json:"received_bytes"`
	Span          float64          `json:"span_s"` // of the receiver, without the warm-up
	ReceivedBps   *float64         `json:"received_bps"`
	SentBps       *float64         `json:"sent_bps"`
	WholeBps      *float64         `json:"received_whole_bps"` // with the warm-up
	IPBps         *float64         `json:"received_ip_bps"`
	FrameBps      *float64         `json:"received_frame_bps"`
	LineBps       *float64         `json:"received_line_bps"`
	Trimmed       *float64         `json:"trimmed_mean_bps"`
	Segments      *int64           `json:"segments"`
	Resent        *int64           `json:"resent_segments"`
	Packets       *int64           `json:"packets"` // of UDP, that left
	LossRatio     *float64         `json:"loss_ratio"`
	JitterMs      *float64         `json:"jitter_ms"` // RFC 3550
	Reordered     *int64           `json:"reordered"`
	Duplicates    *int64           `json:"duplicates"`
	RTTRestMs     *float64         `json:"rtt_rest_ms"`
	RTTLoadMs     *float64         `json:"rtt_load_ms"`
	TransferRatio *float64         `json:"transfer_time_ratio"` // RFC 6349; null unless the line's rate was given
	Efficiency    *float64         `json:"tcp_efficiency_ratio"`
	BufferDelay   *float64         `json:"buffer_delay_ratio"`
	ByReceiver    *float64         `json:"held_by_receiver_ratio"` // of the time that there was something to send
	ByBuffer      *float64         `json:"held_by_buffer_ratio"`
	BusyNear      *float64         `json:"cpu_near_ratio"` // of the whole machine
	BusyFar       *float64         `json:"cpu_far_ratio"`
	BusiestNear   *float64         `json:"busy_near_ratio"` // of the program for each stream: 1 is a processor of its own
	BusiestFar    *float64         `json:"busy_far_ratio"`
	Rising        bool             `json:"still_rising"` // it had not found its rate when the test ended
	HeldBy        string           `json:"held_by"`
	HeldWhy       string           `json:"held_why"`
	HeldSure      float64          `json:"held_confidence"`
	HeldAlso      []AlsoHeld       `json:"held_also,omitempty"` // further causes, each by its own evidence
	Tried         []ThroughputTry  `json:"tried"`               // datagrams that were sent to find that out, or to find the highest rate
	Spans         []ThroughputSpan `json:"spans"`
}

// ThroughputTry is a short stream of datagrams at a rate.
type ThroughputTry struct {
	OfferedBps  float64  `json:"offered_bps"`
	ReceivedBps *float64 `json:"received_bps"`
	LossRatio   *float64 `json:"loss_ratio"`
	DelayedMs   *float64 `json:"delayed_ms"` // beyond the fastest, in the mean
}

// AlsoHeld is a further cause that held a rate down.
type AlsoHeld struct {
	By   string  `json:"held_by"`
	Why  string  `json:"held_why"`
	Sure float64 `json:"held_confidence"`
}

// ThroughputSpan is about a second, at both ends.
type ThroughputSpan struct {
	Start         float64  `json:"start_s"`
	Length        float64  `json:"span_s"`
	ReceivedBytes int64    `json:"received_bytes"`
	ReceivedBps   float64  `json:"received_bps"`
	SentBytes     *int64   `json:"sent_bytes"`
	Resent        *int64   `json:"resent_segments"`
	RTTMs         *float64 `json:"rtt_ms"` // by the sender's kernel
	WindowBytes   *int64   `json:"window_bytes"`
	CPUFrom       *float64 `json:"cpu_from_ratio"` // of the sender's whole machine
	CPUTo         *float64 `json:"cpu_to_ratio"`
	WarmUp        bool     `json:"warm_up"`
}

// OfThroughput concludes what a bandwidth test allows.
func OfThroughput(r ThroughputReport) []Finding {
	found := []Finding{}
	for _, d := range r.Directions {
		found = append(found, heldBy(d)...)
		if f, ok := bloated(d); ok {
			found = append(found, f)
		}
		if d.Rising && d.ReceivedBps != nil {
			found = append(found, Finding{Code: TooFewProbes, Sure: observed, Figures: map[string]float64{"received_bps": *d.ReceivedBps, "span_s": d.Span},
				Sentence: fmt.Sprintf("%s: the rate was still rising when the test ended: %v is less than fits.", d.Direction, capacity.Rate(*d.ReceivedBps)), Advice: "Measure for longer (-for), or with more streams."})
		}
	}
	if f, ok := ratesDiffer(r); ok {
		found = append(found, f)
	}
	return found
}

var heldAdvice = map[Code]string{
	HeldByWindow: "Let the window grow (the systems' TCP buffer limits, or the application's), or use more streams: -streams.",
	HeldByLoss:   "Find where packets are lost: trace the route, and stream at a tenth of this rate in this direction.",
	HeldByLink:   "That is what fits. See what else shares it, and whether it is what was ordered.",
	HeldByHost:   "Measure with -yardstick to see what each machine reaches alone, and from hosts with less to do.",
	Policed:      "Hold the rate against the contract: this is a limit that somebody set. Shaping to just below it loses nothing.",
}

// heldBy says what held a direction, each cause by itself.
func heldBy(d ThroughputDirection) (found []Finding) {
	if d.ReceivedBps == nil {
		return nil
	}
	if d.HeldBy == "" {
		return unexplained(d)
	}
	for _, h := range append([]AlsoHeld{{d.HeldBy, d.HeldWhy, d.HeldSure}}, d.HeldAlso...) {
		found = append(found, held(d, h))
	}
	return found
}

func held(d ThroughputDirection, h AlsoHeld) Finding {
	code := Code(h.By)
	f := Finding{Code: code, Sure: h.Sure, Advice: heldAdvice[code], Figures: map[string]float64{"received_bps": *d.ReceivedBps}}
	rate := capacity.Rate(*d.ReceivedBps).String()
	says := map[Code]string{
		HeldByWindow: "the window holds it at %s",
		HeldByLoss:   "loss holds it at %s",
		HeldByLink:   "the link holds it at %s",
		HeldByHost:   "a machine at an end holds it at %s",
		Policed:      "a policer holds it at %s",
	}[code]
	f.Sentence = fmt.Sprintf("%s: %s"+says+": %s.", d.Direction, offered(d), rate, h.Why)
	add := func(key string, v *float64) {
		if v != nil {
			f.Figures[key] = *v
		}
	}
	add("loss_ratio", d.LossRatio)
	add("held_by_receiver_ratio", d.ByReceiver)
	add("held_by_buffer_ratio", d.ByBuffer)
	add("tcp_efficiency_ratio", d.Efficiency)
	add("rtt_rest_ms", d.RTTRestMs)
	add("rtt_load_ms", d.RTTLoadMs)
	add("busy_near_ratio", d.BusiestNear)
	add("busy_far_ratio", d.BusiestFar)
	return f
}

// offered says of datagrams how much of them was lost, with a comma behind; empty for TCP.
func offered(d ThroughputDirection) string {
	if d.LossRatio == nil || d.SentBps == nil {
		return ""
	}
	return fmt.Sprintf("of %v offered %s is lost, ", capacity.Rate(*d.SentBps), figure.FormatRatio(*d.LossRatio))
}

// unexplained says of datagrams that some were lost where nothing told why.
func unexplained(d ThroughputDirection) []Finding {
	if d.LossRatio == nil || d.Packets == nil || d.SentBps == nil {
		return nil
	}
	r := loss.Ratio{Lost: int(*d.LossRatio*float64(*d.Packets) + 0.5), Sent: int(*d.Packets)}
	low, high, ok := r.Interval()
	if !ok || low < 0.001 {
		return nil
	}
	return []Finding{{Code: LossSteady, Sure: interval,
		Sentence: fmt.Sprintf("%s: %s%v arrives. Why was not found.", d.Direction, offered(d), capacity.Rate(*d.ReceivedBps)),
		Figures:  map[string]float64{"loss_ratio": *d.LossRatio, "loss_low_ratio": low, "loss_high_ratio": high, "sent_bps": *d.SentBps, "received_bps": *d.ReceivedBps},
		Advice:   "Measure at a lower rate, or look for the highest that loses nothing: -search."}}
}

func bloated(d ThroughputDirection) (Finding, bool) {
	if d.RTTRestMs == nil || d.RTTLoadMs == nil {
		return Finding{}, false
	}
	rest, load := figure.FromMillis(*d.RTTRestMs), figure.FromMillis(*d.RTTLoadMs)
	by, is := capacity.Bloat(figure.Of(rest), figure.Of(load))
	if !is {
		return Finding{}, false
	}
	return Finding{Code: Bloat, Sure: interval,
		Sentence: fmt.Sprintf("%s: under load the round trip takes %s, at rest %s: a queue of %s stands before the link, and everything else waits in it.",
			d.Direction, figure.FormatMs(*d.RTTLoadMs), figure.FormatMs(*d.RTTRestMs), figure.FormatMs(figure.Millis(by))),
		Figures: map[string]float64{"rtt_rest_ms": *d.RTTRestMs, "rtt_load_ms": *d.RTTLoadMs},
		Advice:  "Let the router before the link keep its queue short (active queue management), or shape to just below the link's rate."}, true
}

// ratesDiffer reports that one direction carries much less than the other: less than
// two thirds, when both were measured by themselves.
func ratesDiffer(r ThroughputReport) (Finding, bool) {
	if len(r.Directions) != 2 || r.Conditions.AtOnce || r.Protocol != "tcp" {
		return Finding{}, false
	}
	a, b := r.Directions[0], r.Directions[1]
	if a.ReceivedBps == nil || b.ReceivedBps == nil || a.Rising || b.Rising {
		return Finding{}, false
	}
	if *a.ReceivedBps > *b.ReceivedBps {
		a, b = b, a
	}
	if *a.ReceivedBps*1.5 > *b.ReceivedBps {
		return Finding{}, false
	}
	return Finding{Code: DirectionDiffers, Sure: interval,
		Sentence: fmt.Sprintf("The directions differ: %s carries %v, %s %v.", a.Direction, capacity.Rate(*a.ReceivedBps), b.Direction, capacity.Rate(*b.ReceivedBps)),
		Figures:  map[string]float64{"received_bps": *a.ReceivedBps, "received_other_bps": *b.ReceivedBps},
		Advice:   "Hold it against what was ordered: many accesses are slower one way. What holds the slower direction is said above."}, true
}
