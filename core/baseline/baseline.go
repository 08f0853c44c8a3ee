package baseline

import (
	"encoding/json"
	"fmt"
	"time"
)

// MinReadings is how many readings a baseline needs at the least.
const MinReadings = 30

// Baseline is what is normal for one path.
type Baseline struct {
	From     time.Time          `json:"from"`
	To       time.Time          `json:"to"`
	ZoneName string             `json:"zone"`
	Readings int                `json:"readings"`
	Models   map[Measure]*Model `json:"models"`
	// Silence is how many readings in a row without any answer the path has now and then; 0 when
	// it has none.
	Silence int `json:"silence,omitempty"`

	// Off and Holidays are the calendar's, Tolerances those that it was made with.
	Off        []time.Weekday `json:"off,omitempty"`
	Holidays   []time.Time    `json:"holidays,omitempty"`
	Tolerances Tolerances     `json:"tolerances,omitempty"`

	list  [measures]*Model
	clock *clockwork
}

// Training says what a baseline is made from.
type Training struct {
	Calendar   Calendar
	Tolerances Tolerances
	// Weigh are stretches that count less than others, such as episodes; one that weighs
	// nothing is left out.
	Weigh []Weight
	// Recur is what comes back at hours of its own and is expected then.
	Recur []Recurrence
	// Trusted: somebody says that this is normal, at all hours, however little it is.
	Trusted bool
	// Shifts are new levels: what lies before one counts as if it had been there already.
	Shifts []Shift
}

// Shift is a change of level that stays, or stayed for a while.
type Shift struct {
	Interval
	Measure Measure `json:"measure"`
	By      float64 `json:"by"` // in the measure's unit
}

// Weight is a stretch of time that counts less in training.
type Weight struct {
	Interval
	Weight float64
}

// Build makes a baseline from a history. It returns an error when fewer than MinReadings
// answered readings are left.
func Build(h *History, t Training) (*Baseline, error) {
	b := &Baseline{ZoneName: t.Calendar.zone().String(), Models: map[Measure]*Model{}, clock: t.Calendar.clockwork(),
		Off: t.Calendar.Off, Holidays: t.Calendar.Holidays, Tolerances: t.Tolerances}
	moments, weights := make([]moment, h.Len()), make([]float64, h.Len())
	for i, at := range h.at {
		moments[i] = b.clock.at(at)
		weights[i] = 1
		if h.sent[i] > 0 && h.answered[i] == 0 {
			weights[i] = 0
		}
	}
	for _, w := range t.Weigh {
		for i := h.index(w.From); i < len(h.at) && (w.To.IsZero() || h.at[i] < w.To.Unix()); i++ {
			weights[i] = min(weights[i], w.Weight)
		}
	}
	for i, at := range h.at {
		if weights[i] > 0 {
			if b.Readings == 0 {
				b.From = time.Unix(at, 0).UTC()
			}
			b.To = time.Unix(at+int64(h.span[i]), 0).UTC()
			b.Readings++
		}
	}
	b.Silence = silences(h)
	if b.Readings < MinReadings {
		return nil, fmt.Errorf("a baseline needs %d readings outside episodes, there are %d", MinReadings, b.Readings)
	}
	for _, m := range Measures() {
		if m != Loss && h.values[m] == nil {
			continue
		}
		if model := fit(m, h, moments, weights, t); model != nil {
			for _, r := range t.Recur {
				if r.Measure == m {
					model.Recurs = append(model.Recurs, r)
				}
			}
			b.Models[m] = model
		}
	}
	b.ready()
	return b, nil
}

// silences is the longest run of readings without any answer among short ones, if a path has
// such now and then.
func silences(h *History) (longest int) {
	const short = 10 * 60
	runs := 0
	for i := 0; i < h.Len(); {
		n, span := 0, 0
		for ; i < h.Len() && h.sent[i] > 0 && h.answered[i] == 0; i++ {
			n++
			span += int(h.span[i])
		}
		if n > 0 && span <= short {
			runs++
			longest = max(longest, n)
		}
		if n == 0 {
			i++
		}
	}
	if runs < 3 {
		return 0
	}
	return longest
}

func (b *Baseline) ready() {
	for m, model := range b.Models {
		b.list[m] = model
		model.ready()
	}
}

// Weigh holds a point's figure against what is normal; false when the baseline knows too
// little of that measure at that hour, or the point has no such figure.
func (b *Baseline) Weigh(m Measure, p *Point, follow *Following) (w Weighed, ok bool) {
	if b == nil || b.list[m] == nil {
		return w, false
	}
	v, ok := p.Value(m)
	if !ok {
		return w, false
	}
	lost, of := p.Counts(m)
	return b.list[m].weigh(v, lost, of, b.clock.at(p.At.Unix()), p.At.Unix(), follow)
}

// Trusted reports whether somebody says that this is normal, however little it is.
func (b *Baseline) Trusted() bool {
	if b == nil {
		return false
	}
	for _, m := range b.Models {
		if m.Trusted {
			return true
		}
	}
	return false
}

// Limits are the evidence at which the detectors of a measure are to be believed.
func (b *Baseline) Limits(m Measure) [Detectors]float64 { return b.list[m].Limits }

// At is what is normal of a measure at a time; false when nothing is known of it.
func (b *Baseline) At(m Measure, t time.Time) (Normal, bool) {
	if b == nil || b.list[m] == nil {
		return Normal{}, false
	}
	return b.list[m].normal(b.clock.at(t.Unix())), true
}

// Expect takes in what is expected to come back.
func (b *Baseline) Expect(list []Recurrence) {
	if b == nil {
		return
	}
	for _, m := range b.Models {
		m.Recurs = m.Recurs[:0]
		for _, r := range list {
			if r.Measure == m.Measure {
				m.Recurs = append(m.Recurs, r)
			}
		}
	}
}

// UnmarshalJSON reads a baseline and makes what is not stored.
func (b *Baseline) UnmarshalJSON(data []byte) error {
	type plain Baseline
	if err := json.Unmarshal(data, (*plain)(b)); err != nil {
		return err
	}
	zone, err := time.LoadLocation(b.ZoneName)
	if err != nil {
		return fmt.Errorf("a baseline's zone: %w", err)
	}
	b.clock = Calendar{Zone: zone, Off: b.Off, Holidays: b.Holidays}.clockwork()
	for m, model := range b.Models {
		if m >= measures || !model.sound() {
			return fmt.Errorf("a baseline's model of %s is not whole", m)
		}
		model.tolerances = b.Tolerances
	}
	b.ready()
	return nil
}

// sound reports whether a stored model has all of its curves.
func (m *Model) sound() bool {
	if m == nil || m.Minutes <= 0 || minutesADay%m.Minutes != 0 {
		return false
	}
	n := minutesADay / m.Minutes
	for k := range dayKinds {
		for _, c := range [][]float32{m.Middle[k], m.Spread[k], m.Slack[k], m.Step[k], m.Seen[k]} {
			if len(c) != n {
				return false
			}
		}
	}
	return true
}
