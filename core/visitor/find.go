package visitor

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/oneway"
	"woodlark.example/core/readiness"
	"woodlark.example/core/voice"
)

// By is on whose word a figure rests.
type By string

// The ones whose word it may be.
const (
	ByVisitor By = "visitor" // which may have made it up
	ByService By = "service"
	ByBoth    By = "both" // seen by the service, against what the visitor says that it sent
)

// Found are the figures of a visit, and the answer by them.
type Found struct {
	Rest    *TripFound           `json:"rest,omitempty"`         // over HTTP
	Packets *TripFound           `json:"rest_packets,omitempty"` // by the data channel
	Loaded  []LoadedFound        `json:"loaded"`
	Ways    []WayFound           `json:"ways"`
	Rates   []RateFound          `json:"rates"`
	Clock   *finding.ClockReport `json:"clock,omitempty"`
	Facts   readiness.Facts      `json:"facts"`
	Answer  readiness.Result     `json:"answer"`
	Notes   []string             `json:"notes"`
}

// TripFound are round trips.
type TripFound struct {
	By       By       `json:"by"`
	Sent     int      `json:"sent"`
	Lost     int      `json:"lost"`
	MinMs    *float64 `json:"min_ms"`
	MedianMs *float64 `json:"median_ms"`
	P95Ms    *float64 `json:"p95_ms"`
}

// LoadedFound is the round trip while the line is full, one way.
type LoadedFound struct {
	There bool `json:"there"`
	TripFound
}

// WayFound is one direction of packets; There is from the visitor to the service.
type WayFound struct {
	By By `json:"by"`
	finding.StreamDirection
}

// UnmarshalJSON reads both parts: that of the direction has its own way to read.
func (w *WayFound) UnmarshalJSON(b []byte) error {
	var by struct {
		By By `json:"by"`
	}
	if err := json.Unmarshal(b, &by); err != nil {
		return err
	}
	w.By = by.By
	return json.Unmarshal(b, &w.StreamDirection)
}

// RateFound is how much came through, one way.
type RateFound struct {
	By     By       `json:"by"`
	There  bool     `json:"there"`
	Bytes  int64    `json:"bytes"`
	Bps    *float64 `json:"bps"` // of payload of HTTP, without the warm-up
	Rising bool     `json:"still_rising,omitempty"`
}

// making is a visit under way to its figures.
type making struct {
	n     readiness.Need
	seats int
	p     Plan
	told  Told
	seen  Seen
	r     Found
}

// Find makes the figures of a visit, and holds them to a need of so many seats.
func Find(n readiness.Need, seats int, told Told, seen Seen) Found {
	p, untold := PlanOf(n, seats)
	x := &making{n: n, seats: n.SeatsOr(seats), p: p, told: told, seen: seen}
	x.r.Loaded, x.r.Ways, x.r.Rates, x.r.Notes = []LoadedFound{}, []WayFound{}, []RateFound{}, []string{}
	x.r.Facts.Untold = untold
	x.trips()
	x.ways()
	x.rates()
	x.judge()
	return x.r
}

// beyond are the parts that no browser can test, by what they are called in a sentence.
var beyond = []struct {
	part readiness.Part
	name string
}{{readiness.Names, "how soon names are found"}, {readiness.Ports, "which hosts and ports are reached"}, {readiness.Packets, "how large packets may be"}, {readiness.Priority, "whether service classes are kept"}}

// judge answers by what a browser can test, and names what it cannot: that does not count as passed.
func (x *making) judge() {
	whole := readiness.Judge(x.n, x.seats, x.r.Facts)
	part := x.n
	part.Resolver, part.Hosts, part.MTU = 0, nil, 0
	part.Streams = slices.Clone(part.Streams)
	for i := range part.Streams {
		part.Streams[i].DSCP = ""
	}
	x.r.Answer = readiness.Judge(part, x.seats, x.r.Facts)
	x.r.Answer.Criteria = whole.Criteria
	var untested []string
	for _, b := range beyond {
		if slices.ContainsFunc(whole.Criteria, func(c readiness.Criterion) bool { return c.Part == b.part }) {
			untested = append(untested, b.name)
		}
	}
	if len(untested) == 0 {
		return
	}
	if x.r.Answer.Answer != readiness.NotTold {
		x.r.Answer.Sentence = "As far as a browser can tell: " + lower(x.r.Answer.Sentence)
	}
	x.r.Answer.Notes = append(x.r.Answer.Notes, "Not tested, for a browser cannot: "+list(untested)+". 'woodlark ready' on that machine can.")
}

func lower(s string) string {
	if s == "" {
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}

func list(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

func (x *making) note(format string, args ...any) {
	x.r.Notes = append(x.r.Notes, fmt.Sprintf(format, args...))
}

// sane reports whether a time of a visitor can be one.
func sane(ms float64) bool { return ms >= 0 && ms < 1e9 && !math.IsNaN(ms) }

func tripsOf(list []Trip, p Phase) *TripFound {
	f := TripFound{By: ByVisitor}
	var came []time.Duration
	for _, t := range list {
		if t.Phase != p {
			continue
		}
		f.Sent++
		if t.Ms == nil || !sane(*t.Ms) {
			f.Lost++
			continue
		}
		came = append(came, figure.FromMillis(*t.Ms))
	}
	if f.Sent == 0 {
		return nil
	}
	slices.Sort(came)
	if len(came) > 0 {
		at := func(q float64) *float64 { return figure.Ms(figure.Of(quantile(came, q))) }
		f.MinMs, f.MedianMs, f.P95Ms = at(0), at(0.5), at(0.95)
	}
	return &f
}

func (x *making) trips() {
	x.r.Rest, x.r.Packets = tripsOf(x.told.Trips, Rest), tripsOf(x.told.Echoes, Rest)
	rest := x.r.Packets
	if rest == nil || rest.MedianMs == nil {
		rest = x.r.Rest // which takes what HTTP takes, too
	}
	if rest != nil && rest.MedianMs != nil {
		x.r.Facts.Rest = &readiness.Trip{MedianMs: rest.MedianMs, P95Ms: rest.P95Ms, Sent: rest.Sent, Lost: rest.Lost}
	} else {
		x.r.Facts.Untold[readiness.Rest] = "no answer came"
	}
	for _, w := range []struct {
		phase Phase
		there bool
	}{{Up, true}, {Down, false}} {
		loaded := tripsOf(x.told.Echoes, w.phase)
		if loaded == nil || loaded.MedianMs == nil {
			loaded = tripsOf(x.told.Trips, w.phase)
		}
		if loaded != nil {
			x.r.Loaded = append(x.r.Loaded, LoadedFound{There: w.there, TripFound: *loaded})
		}
	}
}

// epoch is when both clocks are taken to begin.
var epoch = time.Unix(0, 0).UTC()

func after(ms float64) time.Time { return epoch.Add(time.Duration(ms * 1e6)) }

// streams are the packets of each seat: a packet's seat is its number by the seats.
func streams(p Plan, sent []float64, came []Came) (list []oneway.Stream, odd int) {
	list = make([]oneway.Stream, p.Seats)
	every := figure.FromMillis(p.EveryMs)
	for i := range list {
		list[i].Interval = every
	}
	if len(sent) > p.Packets {
		odd += len(sent) - p.Packets
		sent = sent[:p.Packets]
	}
	for i, ms := range sent {
		s := &list[i%p.Seats]
		at := time.Time{} // it did not leave
		if sane(ms) {
			at = after(ms)
			if due := sent[0] + float64(i/p.Seats)*p.EveryMs; ms-due > max(1, p.EveryMs/2) {
				s.Late++
			}
		}
		s.Sent = append(s.Sent, at)
	}
	for _, c := range came {
		if c.Number < 0 || c.Number >= len(sent) || !sane(c.At) {
			odd++
			continue
		}
		s := &list[c.Number%p.Seats]
		s.Arrivals = append(s.Arrivals, oneway.Arrival{Number: c.Number / p.Seats, At: after(c.At), DSCP: -1, Size: p.Bytes})
	}
	return list, odd
}

// sentAgain is which part of the least round trip a packet has to be late for it to be taken for one
// that was sent anew: that it was missing had to be heard of first.
const sentAgain = 0.95

// once are the packets that came back as they were first sent. The service's end of the channel sends
// a packet that it takes for lost once more before it gives it up; that one was lost.
func (x *making) once() (came []Came, again int) {
	rtt := 0.0
	for _, t := range []*TripFound{x.r.Packets, x.r.Rest} {
		if t != nil && t.MinMs != nil && *t.MinMs > 0 && (rtt == 0 || *t.MinMs < rtt) {
			rtt = *t.MinMs
		}
	}
	late := func(c Came) (float64, bool) {
		if c.Number < 0 || c.Number >= len(x.seen.Sent) || !sane(c.At) || !sane(x.seen.Sent[c.Number]) {
			return 0, false
		}
		return c.At - x.seen.Sent[c.Number], true
	}
	least := math.Inf(1)
	for _, c := range x.told.Came {
		if d, ok := late(c); ok {
			least = min(least, d)
		}
	}
	newest := -1 // of the ticks, in which all seats send at once
	for _, c := range x.told.Came {
		d, ok := late(c)
		if tick := c.Number / x.p.Seats; ok && tick >= newest {
			newest = tick
		} else if ok && rtt > 0 && d-least >= sentAgain*rtt {
			again++
			continue
		}
		came = append(came, c)
	}
	return came, again
}

// ways are the packets each way.
func (x *making) ways() {
	if x.told.Blocked != "" || len(x.told.Sent) == 0 && len(x.seen.Sent) == 0 {
		why := "no packets were sent"
		if x.told.Blocked != "" {
			why = "packets cannot be sent from there: " + strings.TrimSuffix(x.told.Blocked, ".")
			x.note("Packets beside HTTP were blocked (%s): loss, variation and order each way are not known. Where it is a filter on the way, UDP to this service's port has to be let through.", strings.TrimSuffix(x.told.Blocked, "."))
		}
		x.r.Facts.Untold[readiness.Streams] = why
		return
	}
	there, odd := streams(x.p, x.told.Sent, x.seen.Came)
	came, again := x.once()
	if again > 0 {
		x.note("%d packets on the way back came over a round trip behind later ones, as those do that the channel itself sends anew: they count as lost.", again)
	}
	back, more := streams(x.p, x.seen.Sent, came)
	if odd+more > 0 {
		x.note("What the visitor says does not add up: %d packets that arrived were none of those that were sent, or bear no time.", odd+more)
	}
	s := finding.Streamed{From: "visitor", To: "service", There: there, Back: back, DSCPs: [2]int{-1, -1}, Buffer: voice.Fixed}
	if x.p.Codec != "" {
		if c, err := voice.ParseCodec(x.p.Codec); err == nil {
			s.Codec = &c
		}
	}
	if len(there) > 0 && len(back) > 0 {
		s.Clock, _ = oneway.Estimate(there[0], back[0])
	}
	r := s.Report()
	x.r.Clock = &r.Clock
	for _, d := range r.Directions {
		by := ByVisitor
		if d.There {
			by = ByBoth
		}
		x.r.Ways = append(x.r.Ways, WayFound{By: by, StreamDirection: d})
		if x.p.stream == "" {
			continue
		}
		f := readiness.StreamSeen{Stream: x.p.stream, Seats: x.p.Seats, There: d.There, Sent: d.Sent, Lost: d.Lost, LossRatio: d.LossRatio, LossLow: d.LossLow, LossHigh: d.LossHigh,
			DelayMs: d.MeanMs, VariationMs: d.Variation, LateSent: d.LateSent}
		if r.Clock.ErrorMs != nil {
			f.DelayErrMs = *r.Clock.ErrorMs
		}
		if d.Quality != nil {
			f.MOS = d.Quality.WorstMOS
		}
		x.r.Facts.Streams = append(x.r.Facts.Streams, f)
	}
	if x.p.stream != "" {
		x.r.Facts.Tried = append(x.r.Facts.Tried, x.p.Seats)
	}
}

// rates are how much came through each way.
func (x *making) rates() {
	for _, w := range []struct {
		there bool
		by    By
		marks []Mark
	}{{true, ByService, x.seen.Up}, {false, ByVisitor, x.told.Down}} {
		f := RateFound{By: w.by, There: w.there}
		f.Bps, f.Bytes, f.Rising = RateOf(w.marks, x.p.WarmUpS*1000)
		seen := readiness.RateSeen{There: w.there, Bps: f.Bps, Rising: f.Rising}
		if f.Bps == nil {
			seen.Problem = "too little came through to tell"
			if len(w.marks) == 0 {
				seen.Problem = "it was not measured"
			}
		}
		for _, l := range x.r.Loaded {
			if l.There == w.there {
				seen.LoadedMs = l.MedianMs
			}
		}
		x.r.Rates = append(x.r.Rates, f)
		x.r.Facts.Rates = append(x.r.Facts.Rates, seen)
	}
}

const (
	// leastRated is how long a rate is measured at the least, in milliseconds.
	leastRated = 500
	// rateSpan is how long the spans are, in milliseconds, of whose rates the mean is taken, without
	// the trimmed part of them at either end: senders pause now and then, to look for the least delay.
	rateSpan = 250
	trimmed  = 0.125
)

// RateOf is the rate after a warm-up, in bit/s, of marks that only grow; nil where they are too few.
func RateOf(marks []Mark, warm float64) (bps *float64, bytes int64, rising bool) {
	last := Mark{At: -1}
	kept := marks[:0:0]
	for _, m := range marks {
		if !sane(m.At) || m.At < last.At || m.Bytes < last.Bytes {
			continue // it cannot be
		}
		last = m
		kept = append(kept, m)
	}
	if len(kept) == 0 {
		return nil, 0, false
	}
	bytes = last.Bytes
	from := kept[0].At + warm
	if last.At-from < leastRated {
		return nil, bytes, false
	}
	n := max(1, int((last.At-from)/rateSpan))
	span := (last.At - from) / float64(n)
	rates := make([]float64, n)
	for i := range rates {
		rates[i] = (bytesAt(kept, from+float64(i+1)*span) - bytesAt(kept, from+float64(i)*span)) * 8000 / span
	}
	half := from + (last.At-from)/2
	rising = bytesAt(kept, last.At)-bytesAt(kept, half) > 1.15*(bytesAt(kept, half)-bytesAt(kept, from))
	slices.Sort(rates)
	cut := int(trimmed * float64(n))
	sum := 0.0
	for _, r := range rates[cut : n-cut] {
		sum += r
	}
	v := sum / float64(n-2*cut)
	return &v, bytes, rising
}

// bytesAt is how much had come at a time, evenly between two marks.
func bytesAt(marks []Mark, at float64) float64 {
	i, _ := slices.BinarySearchFunc(marks, at, func(m Mark, at float64) int { return cmp.Compare(m.At, at) })
	switch {
	case i == 0:
		return float64(marks[0].Bytes)
	case i == len(marks):
		return float64(marks[i-1].Bytes)
	}
	a, b := marks[i-1], marks[i]
	if b.At == a.At {
		return float64(b.Bytes)
	}
	return float64(a.Bytes) + float64(b.Bytes-a.Bytes)*(at-a.At)/(b.At-a.At)
}

func quantile(sorted []time.Duration, q float64) time.Duration {
	return sorted[int(math.Round(q*float64(len(sorted)-1)))]
}
