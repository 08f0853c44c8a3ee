package finding

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/guard"
	"woodlark.example/core/incident"
	"woodlark.example/core/loss"
)

const (
	// ComesAndGoes: one fault with interruptions.
	ComesAndGoes Code = "comes_and_goes"
	// NewLevel: a change that stayed and waits to be accepted.
	NewLevel Code = "new_level"
	// DelayWeekly: it comes back at the same hours of some days of the week.
	DelayWeekly Code = "delay_weekly"
	// DelayCrept and LossCrept: slowly worse over days or weeks.
	DelayCrept Code = "delay_crept"
	LossCrept  Code = "loss_crept"
	// SharedSegment: several degraded paths, and no healthy one, cross one segment.
	SharedSegment Code = "shared_segment"
	// FigureWorse: a figure of another kind is worse than normal.
	FigureWorse Code = "figure_worse"
)

// Told is what is known of an episode when it is told.
type Told struct {
	Episode guard.Episode
	Zone    *time.Location // UTC when nil
	Now     time.Time
	Why
}

// Why is what an episode is put down to, as far as the evidence carries.
type Why struct {
	Route  *guard.RouteChange // that came with it; nil when none did
	Shared *guard.Incident    // that it is part of; nil when it is of none
	// Seen is what traces found while it lasted: where it is carried from, which branch it is.
	Seen []Finding
	// Name says what an address is called and whose it is; the address itself when nil.
	Name func(address string) string
}

// OfEpisode concludes what an episode is. The first finding is its cause, if the evidence
// carries as far, and its sentence says all that matters.
func OfEpisode(t Told) []Finding {
	e := t.Episode
	main := t.main()
	found := []Finding{main}
	if t.Route != nil && main.Code != RouteChanged {
		found = append(found, t.routeChange())
	}
	if t.Shared != nil {
		found = append(found, OfIncident(*t.Shared, t.Name))
	}
	found = append(found, t.Seen...)
	if n := len(e.Pauses); n > 0 {
		found = append(found, Finding{Code: ComesAndGoes, Sure: observed, Figures: map[string]float64{"times": float64(n + 1)},
			Sentence: fmt.Sprintf("It comes and goes: %d times so far, with %s.", n+1, pauses(e.Pauses)),
			Advice:   "Look for what switches: a link that flaps, a wireless link, a route that goes to and fro."})
	}
	if !e.NewLevel.IsZero() {
		f := Finding{Code: NewLevel, Sure: 0.99, Figures: map[string]float64{}, Advice: "Accept it as the new level, or have it mended."}
		x, _ := e.Headline()
		f.Sentence = fmt.Sprintf("It has stayed so since %s: a new level, %s instead of %s, that waits to be accepted.", t.when(e.From), format(x.Measure, x.Now), format(x.Measure, x.Normal))
		found = append(found, f)
	}
	for _, u := range e.Unmeasured {
		found = append(found, Finding{Code: Unmeasured, Sure: observed, Figures: map[string]float64{},
			Sentence: fmt.Sprintf("Unmeasured from %s to %s: what it was then is not known.", t.when(u.From), t.when(u.To))})
	}
	return found
}

// Cause is the code of what an episode is put down to; empty when that is not known.
func Cause(found []Finding) Code {
	for _, f := range found {
		switch f.Code {
		case RouteChanged, Saturation, SharedSegment, LoadOverlap, LossCarried, DelayCarried, BranchLossy, BranchDead, BranchSlow, Refusals, RouteLoop, GatewayLossy:
			return f.Code
		}
	}
	return ""
}

// pauses says how long the interruptions were.
func pauses(list []baseline.Interval) string {
	a, b := figure.FormatSpan(shortest(list)), figure.FormatSpan(longest(list))
	switch {
	case len(list) == 1:
		return "a pause of " + a
	case a == b:
		return "pauses of " + a
	}
	return "pauses of " + a + " to " + b
}

func shortest(list []baseline.Interval) time.Duration {
	best := list[0].To.Sub(list[0].From)
	for _, i := range list {
		best = min(best, i.To.Sub(i.From))
	}
	return best
}

func longest(list []baseline.Interval) (best time.Duration) {
	for _, i := range list {
		best = max(best, i.To.Sub(i.From))
	}
	return best
}

func (t Told) when(at time.Time) string {
	zone := t.Zone
	if zone == nil {
		zone = time.UTC
	}
	layout := "Mon 15:04"
	if d := t.Now.Sub(at); d > 6*24*time.Hour || d < -time.Hour {
		layout = "Mon 2 Jan 15:04"
	}
	return at.In(zone).Format(layout)
}

// span says since when, or from when to when, and how sure that is.
func (t Told) span() string {
	e := t.Episode
	if !e.Open() {
		return fmt.Sprintf("from %s to %s", t.when(e.From), t.when(e.To))
	}
	s := "since " + t.when(e.From)
	if d := e.Doubt.To.Sub(e.Doubt.From) / 2; d > 5*time.Minute {
		s += " (± " + figure.FormatSpan(d.Round(time.Minute)) + ")"
	}
	return s
}

// format writes a value of a measure with its unit.
func format(m baseline.Measure, v float64) string {
	switch m.Unit() {
	case baseline.Milliseconds:
		return figure.FormatMs(v)
	case baseline.Ratio:
		return figure.FormatRatio(v)
	case baseline.BitsASecond:
		return capacity.Rate(v).String()
	case baseline.Score:
		return fmt.Sprintf("%.2f", v)
	}
	return fmt.Sprintf("%.0f", v)
}

// instead writes what a measure is and what it was expected to be.
func instead(x guard.Excess) string {
	if x.Measure.Counted() {
		between := ""
		if low, high, ok := (loss.Ratio{Lost: x.Lost, Sent: x.Sent}).Interval(); ok && x.Measure == baseline.Loss {
			between = fmt.Sprintf(" (%s to %s at 95 %%)", figure.FormatRatio(low), figure.FormatRatio(high))
		}
		way := map[baseline.Measure]string{baseline.LossThere: " on the way there", baseline.LossBack: " on the way back"}[x.Measure]
		return fmt.Sprintf("loses %s of the probes%s%s instead of %s", figure.FormatRatio(x.Now), way, between, figure.FormatRatio(x.Normal))
	}
	now, normal := format(x.Measure, x.Now), format(x.Measure, x.Normal)
	if x.Measure.Unit() == baseline.Milliseconds {
		normal = strings.TrimSuffix(normal, " ms")
	}
	return fmt.Sprintf("%s %s instead of %s", measureWords[x.Measure], now, normal)
}

var measureWords = map[baseline.Measure]string{
	baseline.RTT: "RTT", baseline.Jitter: "jitter", baseline.DelayThere: "delay there", baseline.DelayBack: "delay back",
	baseline.JitterThere: "jitter there", baseline.JitterBack: "jitter back", baseline.MOS: "MOS", baseline.ThroughputThere: "throughput there",
	baseline.ThroughputBack: "throughput back", baseline.Hops: "hops", baseline.ResolveTime: "name resolution", baseline.Answering: "addresses answering",
}

// main is the finding that says most.
func (t Told) main() Finding {
	e := t.Episode
	f := Finding{Figures: t.figures(), Sure: t.sure()}
	var parts []string
	for _, x := range e.Excesses {
		parts = append(parts, instead(x))
	}
	said := strings.Join(parts, ", ")
	_, delayed := e.Excess(baseline.RTT)
	_, uneven := e.Excess(baseline.Jitter)
	lossy, hasLoss := e.Excess(baseline.Loss)
	switch {
	case e.Kind == guard.Lost && len(e.Pauses) == 0:
		f.Code = NoAnswer
		f.Sentence = "No answer " + t.span() + "; it answered before."
		f.Advice = "Check the target and its access link; trace the route to see how far it reaches."
		if !e.Open() {
			f.Code, f.Sentence = OutageOnce, "No answer "+t.span()+"."
		}
	case t.Route != nil && (delayed || hasLoss):
		f.Code = RouteChanged
		f.Sentence = capitalise(fmt.Sprintf("%s %s, when the traffic moved%s.", said, t.span(), t.moved()))
		f.Advice = "Ask whose hop that is whether the move was meant, and what stood against the old way."
	case delayed && uneven && hasLoss:
		f.Code = Saturation
		f.Sentence = "The link is full: " + said + " " + t.span() + "."
		f.Advice = "More is being sent than fits: find what fills the link at this time."
	case hasLoss && !delayed:
		f.Code = LossSteady
		if lossy.Ragged {
			f.Code = LossBursts
		}
		f.Sentence = capitalise(said) + " " + t.span() + "."
		f.Advice = "Trace the route to see from which hop on the loss is carried."
	case delayed || uneven:
		f.Code = DelayRaised
		if delayed && !uneven && e.Open() && len(e.Pauses) == 0 && t.Now.Sub(e.From) >= time.Hour {
			f.Code = DelayStep
		}
		f.Sentence = capitalise(said) + " " + t.span() + "."
		f.Advice = "Trace the route and compare it with the one from before."
	default:
		f.Code = FigureWorse
		f.Sentence = capitalise(said) + " " + t.span() + "."
		f.Advice = "Measure it again by hand, and look at what else got worse at that time."
	}
	if e.Kind == guard.Lost && len(e.Pauses) > 0 {
		f.Code = NoAnswer
		f.Sentence = fmt.Sprintf("Loses all answers, and gets them back, %d times %s.", len(e.Pauses)+1, t.span())
		f.Advice = "Look for a link that flaps."
	}
	if t.Shared != nil && f.Code != RouteChanged {
		f.Sentence = strings.TrimSuffix(f.Sentence, ".") + fmt.Sprintf(", as %s over the segment %s.", others(len(t.Shared.Members)-1), segment(t.Shared.Segment, t.bare))
		f.Advice = "Call whose segment that is; see the incident for the proof."
	}
	return f
}

func others(n int) string {
	if n == 1 {
		return "another path does"
	}
	return fmt.Sprintf("%d other paths do", n)
}

// bare is what an address is called, without whose it is.
func (t Told) bare(address string) string {
	name, _, _ := strings.Cut(t.name(address), " (")
	return name
}

func (t Told) name(address string) string {
	if t.Name == nil {
		return address
	}
	return t.Name(address)
}

// moved says where the traffic moved to.
func (t Told) moved() string {
	r := t.Route
	switch {
	case r.Hop == "":
		return " to another route"
	}
	return " to " + t.name(r.Hop)
}

func (t Told) routeChange() Finding {
	return Finding{Code: RouteChanged, Sure: 0.9, Figures: map[string]float64{},
		Sentence: fmt.Sprintf("The route changed at %s: the traffic moved%s.", t.when(t.Route.At), t.moved()),
		Advice:   "Trace the route and compare it with the one from before."}
}

// figures are the values that the main finding rests on.
func (t Told) figures() map[string]float64 {
	out := map[string]float64{}
	for _, x := range t.Episode.Excesses {
		unit := map[baseline.Unit]string{baseline.Milliseconds: "_ms", baseline.Ratio: "_ratio", baseline.BitsASecond: "_bps"}[x.Measure.Unit()]
		name := x.Measure.String() + unit
		out[name], out["normal_"+name], out["worst_"+name] = x.Now, x.Normal, x.Worst
	}
	return out
}

// sure is how sure it is that the path is worse: by the evidence that opened the episode.
func (t Told) sure() float64 {
	for _, x := range t.Episode.Excesses {
		if x.Evidence > 10 {
			return 0.999
		}
	}
	return 0.99
}

// OfProperty says what a path keeps to.
func OfProperty(p guard.Property, zone *time.Location) (f Finding) {
	if zone == nil {
		zone = time.UTC
	}
	f = Finding{Sure: p.Sure, Figures: map[string]float64{}}
	unit := map[baseline.Unit]string{baseline.Milliseconds: "_ms", baseline.Ratio: "_ratio", baseline.BitsASecond: "_bps"}[p.Measure.Unit()]
	f.Figures[p.Measure.String()+unit], f.Figures["normal_"+p.Measure.String()+unit] = p.Now, p.Before
	word := measureWords[p.Measure]
	if p.Measure.Counted() {
		word = "loss"
	}
	to := fmt.Sprintf("%s up to %s instead of %s", word, format(p.Measure, p.Now), format(p.Measure, p.Before))
	if p.Measure.LessIsWorse() {
		to = strings.Replace(to, "up to", "down to", 1)
	}
	for _, x := range p.Also {
		unit := map[baseline.Unit]string{baseline.Milliseconds: "_ms", baseline.Ratio: "_ratio", baseline.BitsASecond: "_bps"}[x.Measure.Unit()]
		f.Figures[x.Measure.String()+unit], f.Figures["normal_"+x.Measure.String()+unit] = x.Now, x.Before
		if x.Measure == baseline.Loss {
			to += fmt.Sprintf(", with %s lost", format(x.Measure, x.Now))
		}
	}
	full := func() {
		if (p.Kind == guard.Daily || p.Kind == guard.Weekly) && p.Measure == baseline.RTT && slices.ContainsFunc(p.Also, func(x guard.Beside) bool { return x.Measure == baseline.Loss }) {
			f.Code = Saturation
			f.Sentence = strings.Replace(f.Sentence, ". That is", ", as when a link is full. That is", 1)
		}
	}
	defer full()
	switch p.Kind {
	case guard.Daily:
		f.Code = DelayDaily
		f.Sentence = fmt.Sprintf("Gets worse %s about %s to %s: %s. That is how it is, and expected from now on.", dayWords(p.Weekdays), clock(p.From), clock(p.To), to)
		f.Advice = "Find what is sent over this way at those hours."
		f.Figures["days"] = float64(p.Days)
	case guard.Weekly:
		f.Code = DelayWeekly
		f.Sentence = fmt.Sprintf("Gets worse %s about %s to %s: %s. That is how it is, and expected from now on.", dayWords(p.Weekdays), clock(p.From), clock(p.To), to)
		f.Advice = "Find what is sent over this way at those hours: a backup, a batch job."
		f.Figures["days"] = float64(p.Days)
	case guard.Creeping:
		f.Code = DelayCrept
		if p.Measure.Counted() {
			f.Code = LossCrept
		}
		f.Sentence = fmt.Sprintf("%s has crept from %s to %s since %s, by %s a day.", capitalise(word), format(p.Measure, p.Before), format(p.Measure, p.Now), p.Since.In(zone).Format("Mon 2 Jan"), format(p.Measure, p.ADay))
		f.Figures["a_day"] = p.ADay
		f.Advice = "Find what grows: traffic towards a link's limit, a queue, an ageing radio link."
	default:
		f.Code = NewLevel
		f.Sentence = fmt.Sprintf("A new level of %s since %s: %s instead of %s.", word, p.Since.In(zone).Format("Mon 2 Jan 15:04"), format(p.Measure, p.Now), format(p.Measure, p.Before))
		switch {
		case p.Step:
			f.Sentence += fmt.Sprintf(" It was a step: at %s it had crept on.", p.EndedAt.In(zone).Format("Mon 2 Jan 15:04"))
		case !p.EndedAt.IsZero():
			f.Sentence += fmt.Sprintf(" It returned to its former level at %s.", p.EndedAt.In(zone).Format("Mon 2 Jan 15:04"))
		case p.AcceptedAt.IsZero():
			f.Sentence += " It waits to be accepted."
			f.Advice = "Accept it as the new level, or have it mended."
		default:
			f.Sentence += fmt.Sprintf(" Taken for normal at %s.", p.AcceptedAt.In(zone).Format("Mon 2 Jan 15:04"))
		}
	}
	return f
}

// dayWords are days of the week in words.
func dayWords(set uint8) string {
	switch set {
	case 0b1111111:
		return "every day"
	case 0b0111110:
		return "on working days"
	case 0b1000001:
		return "on Saturdays and Sundays"
	}
	var names []string
	for d := range time.Weekday(7) {
		if set&(1<<d) != 0 {
			names = append(names, d.String()+"s")
		}
	}
	return "on " + strings.Join(names, ", ")
}

// OfIncident says what several paths have in common. name says what an address is called; the
// address itself when nil.
func OfIncident(i guard.Incident, name func(string) string) Finding {
	if name == nil {
		name = func(a string) string { return a }
	}
	f := Finding{Code: SharedSegment, Sure: i.Sure, Figures: map[string]float64{"paths": float64(len(i.Members))},
		Advice: "Call whose segment it is; the figures of all its paths are the proof."}
	excess := figure.FormatMs(i.Segment.Excess) + " more"
	if i.Measure.Counted() {
		excess = figure.FormatRatio(incident.ToLoss(i.Segment.Excess)) + " lost"
		f.Figures["loss_ratio"] = incident.ToLoss(i.Segment.Excess)
	} else {
		f.Figures["delay_ms"] = i.Segment.Excess
	}
	f.Sentence = fmt.Sprintf("%d paths got worse together: all cross the segment %s (%s), and no healthy path does.", len(i.Members), segment(i.Segment, name), excess)
	if n := len(i.Segment.Others); n > 0 {
		f.Sentence += fmt.Sprintf(" %d other segments would explain it as well.", n)
	}
	return f
}

// segment says between which hops a segment lies.
func segment(s incident.Segment, name func(string) string) string {
	switch {
	case s.To == "":
		return fmt.Sprintf("from %s to a hop behind it that does not answer", name(s.From))
	case s.From == "":
		return fmt.Sprintf("to %s from a hop before it that does not answer", name(s.To))
	}
	return fmt.Sprintf("from %s to %s", name(s.From), name(s.To))
}
