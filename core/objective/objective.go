// Package objective holds readings against limits for a purpose, those of ITU-T
// Y.1541 among them.
//
//	o, err := objective.Find("voice")
//	v := o.Judge(r, probes)
package objective

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
	"woodlark.example/core/reading"
	"woodlark.example/core/voice"
)

// Objective is a named set of limits, one way. A zero limit is none.
type Objective struct {
	Name      string
	Source    string        // where the limits come from
	Delay     time.Duration // mean
	Variation time.Duration // 99.9 % quantile less the minimum
	Loss      float64       // ratio
	Voice     bool          // held to MOS ≥ 4.0 and 150 ms from mouth to ear as well
}

const (
	leastMOS   = 4.0                    // R ≥ 80
	mouthToEar = 150 * time.Millisecond // ITU-T G.114
	buffer     = 40 * time.Millisecond  // a fixed de-jitter buffer
)

// All are the ready-made objectives (ITU-T Y.1541, table 1 and 3).
func All() []Objective {
	ms := time.Millisecond
	of := func(class int) string { return fmt.Sprintf("ITU-T Y.1541 class %d", class) }
	return []Objective{
		{Name: "voice", Source: of(0), Delay: 100 * ms, Variation: 50 * ms, Loss: 0.001, Voice: true},
		{Name: "voice-far", Source: of(1), Delay: 400 * ms, Variation: 50 * ms, Loss: 0.001},
		{Name: "video", Source: of(0), Delay: 100 * ms, Variation: 50 * ms, Loss: 0.001},
		{Name: "video-far", Source: of(1), Delay: 400 * ms, Variation: 50 * ms, Loss: 0.001},
		{Name: "interactive", Source: of(2), Delay: 100 * ms, Loss: 0.001},
		{Name: "transaction", Source: of(3), Delay: 400 * ms, Loss: 0.001},
		{Name: "bulk", Source: of(4), Delay: 1000 * ms, Loss: 0.001},
		{Name: "television", Source: of(6), Delay: 100 * ms, Variation: 50 * ms, Loss: 0.00001},
		{Name: "television-far", Source: of(7), Delay: 400 * ms, Variation: 50 * ms, Loss: 0.00001},
	}
}

// Find is the objective of a name.
func Find(name string) (Objective, error) {
	var names []string
	for _, o := range All() {
		if o.Name == name {
			return o, nil
		}
		names = append(names, o.Name)
	}
	return Objective{}, fmt.Errorf("there is no objective %q; there are %s", name, strings.Join(names, ", "))
}

// State is how a limit stands.
type State string

// The states. Open: the reading does not tell surely.
const (
	Met    State = "met"
	Missed State = "missed"
	Open   State = "open"
)

// Line is one limit and how it stands.
type Line struct {
	Measure string   `json:"measure"` // mean_delay_ms, variation_ms, loss_ratio, mouth_to_ear_ms or mos
	Limit   float64  `json:"limit"`
	Value   *float64 `json:"value"` // null when it could not be computed
	State   State    `json:"state"`
	Says    string   `json:"says"`
}

// Verdict is how a reading stands against an objective.
type Verdict struct {
	Objective string `json:"objective"`
	Source    string `json:"source"`
	State     State  `json:"state"`  // missed when any limit is, open when any is, else met
	Halved    bool   `json:"halved"` // half of a round trip stands for one way
	Lines     []Line `json:"lines"`
}

// Missed are the lines that are missed.
func (v Verdict) Missed() []Line {
	return slices.DeleteFunc(slices.Clone(v.Lines), func(l Line) bool { return l.State != Missed })
}

// Judge holds a reading of round trips and its probes against the objective.
// Half of a round trip stands for one way.
func (o Objective) Judge(r reading.Reading, probes []reading.Probe) Verdict {
	v := Verdict{Objective: o.Name, Source: o.Source, State: Met, Halved: true}
	oneWay := make([]time.Duration, 0, len(probes))
	gone := make([]bool, 0, len(probes))
	for _, p := range probes {
		switch p.Outcome {
		case reading.Answered:
			oneWay = append(oneWay, p.RTT/2)
			gone = append(gone, false)
		case reading.Lost, reading.Late:
			gone = append(gone, true)
		}
	}
	slices.Sort(oneWay)
	if o.Delay > 0 {
		v.Lines = append(v.Lines, o.meanDelay(r))
	}
	if o.Variation > 0 {
		v.Lines = append(v.Lines, o.variation(oneWay))
	}
	if o.Loss > 0 {
		v.Lines = append(v.Lines, o.loss(r.Loss()))
	}
	if o.Voice {
		v.Lines = append(v.Lines, call(oneWay, gone)...)
	}
	for _, l := range v.Lines {
		if l.State == Missed || l.State == Open && v.State == Met {
			v.State = l.State
		}
	}
	return v
}

func (o Objective) meanDelay(r reading.Reading) Line {
	l := Line{Measure: "mean_delay_ms", Limit: figure.Millis(o.Delay), State: Open, Says: "nothing answered"}
	mean, ok := r.RTT.Mean.Get()
	if !ok {
		return l
	}
	value := figure.Millis(mean) / 2
	reach := math.Inf(1)
	if sd, ok := r.RTT.SD.Get(); ok {
		reach = 1.96 * figure.Millis(sd) / 2 / math.Sqrt(float64(r.Answered))
	}
	l.Value = &value
	l.State, l.Says = stand(value-reach, value+reach, l.Limit), "mean one-way delay "+figure.FormatMs(value)
	return l
}

// stand judges an interval that a value lies in.
func stand(low, high, limit float64) State {
	switch {
	case low > limit:
		return Missed
	case high <= limit:
		return Met
	}
	return Open
}

// quantileNeeds is how many samples a 99.9 % quantile needs to be more than the
// maximum.
const quantileNeeds = 1000

func (o Objective) variation(oneWay []time.Duration) Line {
	l := Line{Measure: "variation_ms", Limit: figure.Millis(o.Variation), State: Open, Says: "nothing answered"}
	if len(oneWay) < 2 {
		return l
	}
	value := figure.Millis(delay.Quantile(oneWay, 0.999) - oneWay[0])
	l.Value, l.State = &value, Met
	l.Says = "delay varies by " + figure.FormatMs(value)
	switch {
	case value > l.Limit:
		l.State = Missed
	case len(oneWay) < quantileNeeds:
		l.State = Open
		l.Says += fmt.Sprintf(", but its 99.9 %% quantile needs %d answers", quantileNeeds)
	}
	return l
}

func (o Objective) loss(r loss.Ratio) Line {
	l := Line{Measure: "loss_ratio", Limit: o.Loss, State: Open, Says: "nothing was sent"}
	both, ok := r.Value().Get()
	if !ok {
		return l
	}
	low, high, _ := r.Interval()
	value := both / 2
	l.Value, l.State = &value, stand(low/2, high/2, o.Loss)
	l.Says = "loses " + figure.FormatRatio(value)
	if need, ok := r.TellsFrom(2 * o.Loss).Get(); ok && l.State == Open && need > r.Sent {
		l.Says += fmt.Sprintf(" in %d probes; about %d would tell", r.Sent, need)
	}
	return l
}

// call is what a call would be like: G.711 with concealment, 20 ms a packet, a
// fixed de-jitter buffer of 40 ms that discards what comes later.
func call(oneWay []time.Duration, gone []bool) []Line {
	ear := Line{Measure: "mouth_to_ear_ms", Limit: figure.Millis(mouthToEar), State: Open, Says: "nothing answered"}
	mos := Line{Measure: "mos", Limit: leastMOS, State: Open, Says: "nothing answered"}
	if len(oneWay) == 0 {
		return []Line{ear, mos}
	}
	least := oneWay[0]
	late := 0
	for _, d := range oneWay {
		if d > least+buffer {
			late++
		}
	}
	lost := 0
	for _, g := range gone {
		if g {
			lost++
		}
	}
	codec := voice.G711
	c := voice.Call{Codec: codec, Delay: least + buffer + codec.Packet + codec.Ahead}
	// Of a round trip's loss half stands for one way; what is late is halved
	// already, as the delay is.
	at := func(ratio float64) float64 {
		c := c
		c.Loss = min(1, ratio/2+float64(late)/float64(len(oneWay)))
		if b, ok := loss.PatternOf(gone).BurstRatio.Get(); ok && b > 1 {
			c.Burst = b
		}
		return voice.MOS(voice.Rating(c))
	}
	delayMs := figure.Millis(c.Delay)
	ear.Value, ear.Says = &delayMs, fmt.Sprintf("%s from mouth to ear (G.711, a buffer of 40 ms)", figure.FormatMs(delayMs))
	ear.State = stand(delayMs, delayMs, ear.Limit)
	r := loss.Ratio{Lost: lost, Sent: len(gone)}
	value := at(r.Value().Or(0))
	low, high, _ := r.Interval()
	worst, best := at(high), at(low)
	mos.Value, mos.Says = &value, fmt.Sprintf("MOS %.2f (between %.2f and %.2f)", value, worst, best)
	switch {
	case best < leastMOS:
		mos.State = Missed
	case worst >= leastMOS:
		mos.State = Met
	}
	return []Line{ear, mos}
}
