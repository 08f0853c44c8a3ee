package baseline

import (
	"fmt"
	"math"
	"slices"
	"time"

	"woodlark.example/core/loss"
)

const (
	// sampleSize is how many evenly spaced quantiles stand for a
	// distribution in the rank test: enough that 15 readings wholly beyond
	// it are significant for thousands of paths.
	sampleSize = 61
	// MinReadings is how many readings a baseline needs at the least.
	MinReadings = 30
	// minRepeats is in how many different weeks (or days) an hour of the week
	// (or of the day) must have been seen to have a normal of its own.
	minRepeats = 3
)

// Normal is the distribution of one measure's readings.
type Normal struct {
	Readings  int       `json:"readings"`
	Median    float64   `json:"median"`
	MAD       float64   `json:"mad"`  // median absolute deviation from the median, unscaled
	Low       float64   `json:"low"`  // 5 % quantile: the band's lower edge
	High      float64   `json:"high"` // 95 % quantile: the band's upper edge
	Quantiles []float64 `json:"quantiles"`
	Sent      int       `json:"sent,omitempty"` // of loss: all probes of the readings
	Lost      int       `json:"lost,omitempty"`
}

// Expected is the value that a new reading is compared with: the median, and
// for loss the ratio over all probes, because the median of many readings
// without loss hides a small steady one.
func (n Normal) Expected(m Measure) float64 {
	if m == Loss && n.Sent > 0 {
		return float64(n.Lost) / float64(n.Sent)
	}
	return n.Median
}

// Resolution says how finely a normal follows the clock.
type Resolution string

// The resolutions, finest first.
const (
	HourOfWeek Resolution = "hour_of_week"
	HourOfDay  Resolution = "hour_of_day"
	Overall    Resolution = "overall"
)

// Profile is what is normal of one measure, by the clock.
type Profile struct {
	Overall *Normal         `json:"overall,omitempty"`
	Day     map[int]*Normal `json:"day,omitempty"`  // by hour, 0 to 23
	Week    map[int]*Normal `json:"week,omitempty"` // by hour of the week, 0 = Sunday 00:00
}

// Baseline is what is normal for one path.
type Baseline struct {
	From     time.Time            `json:"from"`
	To       time.Time            `json:"to"`
	ZoneName string               `json:"zone"`
	Readings int                  `json:"readings"`
	Profiles map[Measure]*Profile `json:"profiles"`

	zone *time.Location
}

// Training says what a baseline is made from.
type Training struct {
	Zone    *time.Location // whose hours count; UTC when nil
	Exclude []Interval     // episodes, which are not normal
}

// Build makes a baseline from the points of a training window. It returns an
// error when fewer than MinReadings points are left outside the episodes.
func Build(points []Point, t Training) (*Baseline, error) {
	zone := t.Zone
	if zone == nil {
		zone = time.UTC
	}
	b := &Baseline{ZoneName: zone.String(), zone: zone, Profiles: map[Measure]*Profile{}}
	kept := make([]Point, 0, len(points))
	for _, p := range points {
		if p.Sent == 0 || p.Silent() || excluded(p.At, t.Exclude) {
			continue
		}
		kept = append(kept, p)
	}
	if len(kept) < MinReadings {
		return nil, fmt.Errorf("a baseline needs %d readings outside episodes, there are %d", MinReadings, len(kept))
	}
	b.From, b.To, b.Readings = kept[0].At, kept[len(kept)-1].At.Add(kept[len(kept)-1].Span), len(kept)
	for _, m := range Measures() {
		b.Profiles[m] = profileOf(kept, m, zone)
	}
	return b, nil
}

func excluded(t time.Time, intervals []Interval) bool {
	return slices.ContainsFunc(intervals, func(i Interval) bool { return i.Covers(t) })
}

// bucket gathers the values of one hour, and on how many periods they fell.
type bucket struct {
	values     []float64
	sent, lost int
	periods    map[int]struct{}
}

func (b *bucket) add(v float64, p Point, period int) {
	b.values = append(b.values, v)
	b.sent += p.Sent
	b.lost += p.Lost
	if b.periods == nil {
		b.periods = map[int]struct{}{}
	}
	b.periods[period] = struct{}{}
}

func (b *bucket) normal(m Measure) *Normal {
	n := NormalOf(b.values)
	if m == Loss {
		n.Sent, n.Lost = b.sent, b.lost
	}
	return n
}

func profileOf(points []Point, m Measure, zone *time.Location) *Profile {
	var all bucket
	var days [24]bucket
	var weeks [168]bucket
	for _, p := range points {
		v, ok := p.Value(m)
		if !ok {
			continue
		}
		local := p.At.In(zone)
		day := civilDay(local)
		all.add(v, p, 0)
		days[local.Hour()].add(v, p, day)
		weeks[int(local.Weekday())*24+local.Hour()].add(v, p, (day+4)/7)
	}
	profile := &Profile{Day: map[int]*Normal{}, Week: map[int]*Normal{}}
	if len(all.values) == 0 {
		return profile
	}
	profile.Overall = all.normal(m)
	for h := range days {
		if len(days[h].periods) >= minRepeats {
			profile.Day[h] = days[h].normal(m)
		}
	}
	for h := range weeks {
		if len(weeks[h].periods) >= minRepeats {
			profile.Week[h] = weeks[h].normal(m)
		}
	}
	return profile
}

// civilDay numbers the days of the local calendar; day 0 is a Thursday.
func civilDay(t time.Time) int {
	y, m, d := t.Date()
	return int(time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

// At is what is normal of a measure at a time, as finely as the data carries;
// false when the baseline knows nothing of the measure.
func (b *Baseline) At(m Measure, t time.Time) (Normal, Resolution, bool) {
	if b == nil || b.Profiles[m] == nil || b.Profiles[m].Overall == nil {
		return Normal{}, "", false
	}
	local := t.In(b.location())
	p := b.Profiles[m]
	if n := p.Week[int(local.Weekday())*24+local.Hour()]; n != nil {
		return *n, HourOfWeek, true
	}
	if n := p.Day[local.Hour()]; n != nil {
		return *n, HourOfDay, true
	}
	return *p.Overall, Overall, true
}

func (b *Baseline) location() *time.Location {
	if b.zone == nil {
		zone, err := time.LoadLocation(b.ZoneName)
		if err != nil {
			zone = time.UTC
		}
		b.zone = zone
	}
	return b.zone
}

// NormalOf describes the distribution of values, which must not be empty.
func NormalOf(values []float64) *Normal {
	sorted := slices.Clone(values)
	slices.Sort(sorted)
	n := &Normal{Readings: len(sorted), Median: quantile(sorted, 0.5), Low: quantile(sorted, 0.05), High: quantile(sorted, 0.95)}
	deviations := make([]float64, len(sorted))
	for i, v := range sorted {
		deviations[i] = math.Abs(v - n.Median)
	}
	slices.Sort(deviations)
	n.MAD = quantile(deviations, 0.5)
	size := min(sampleSize, len(sorted))
	n.Quantiles = make([]float64, size)
	for i := range n.Quantiles {
		n.Quantiles[i] = sorted[0]
		if size > 1 {
			n.Quantiles[i] = quantile(sorted, float64(i)/float64(size-1))
		}
	}
	return n
}

func quantile(sorted []float64, q float64) float64 {
	position := float64(len(sorted)-1) * q
	below := int(position)
	if below >= len(sorted)-1 {
		return sorted[len(sorted)-1]
	}
	return sorted[below] + (position-float64(below))*(sorted[below+1]-sorted[below])
}

// lossCeiling is the loss that a path could normally have, given its
// baseline's counts: the upper 95 % limit of its ratio.
func (n Normal) lossCeiling() float64 {
	_, high, ok := loss.Ratio{Lost: n.Lost, Sent: n.Sent}.Interval()
	if !ok {
		return n.High
	}
	return high
}
