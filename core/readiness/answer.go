package readiness

import (
	"fmt"
	"slices"
	"strings"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/compare"
	"woodlark.example/core/dscp"
)

// conclude gives the answer.
func (j *judging) conclude() {
	r := &j.r
	hard, lesser, untold := 0, 0, 0
	var missed, unknown []Criterion
	bySeats := true // all that is missed depends on how many work at once
	for _, c := range r.Criteria {
		switch {
		case c.Verdict == acceptance.Fail && !c.Lesser:
			hard++
			missed = append(missed, c)
			bySeats = bySeats && (c.Part == Streams || c.Part == Rates)
		case c.Verdict == acceptance.Fail:
			lesser++
			missed = append(missed, c)
		case c.Verdict == acceptance.Unknown:
			untold++
			unknown = append(unknown, c)
		}
	}
	fit, known := j.fitFor()
	switch {
	case hard > 0 && bySeats && known && fit > 0:
		r.Answer = Limited
	case hard > 0:
		r.Answer = NotFit
		none := 0
		fit, known = none, true
	case untold > 0 && slices.ContainsFunc(unknown, func(c Criterion) bool { return !c.Lesser }):
		r.Answer = NotTold
	case lesser > 0 || untold > 0:
		r.Answer = Limited
	default:
		r.Answer = Fit
	}
	if known && r.Answer != NotTold {
		r.FitFor = &fit
	}
	r.Sentence = j.sentence(missed, unknown, fit)
	r.Advice = adviceIn(missed)
}

// fitFor is for how many seats it is fit, as far as that follows from what was tried.
func (j *judging) fitFor() (seats int, known bool) {
	seats, known = j.seats, true
	for _, there := range []bool{true, false} {
		if j.n.Rate.Of(there).Value > 0 {
			if j.rate(there) == nil {
				known = false
				continue
			}
			seats = min(seats, j.seatsFor(there))
		}
	}
	if len(j.n.Streams) > 0 {
		good := -1
		for _, n := range append([]int{j.seats}, j.f.Tried...) {
			if is, told := j.carried(n); is && told {
				good = max(good, n)
			}
		}
		if good < 0 {
			if _, told := j.carried(j.seats); !told {
				return seats, false
			}
			return 0, known
		}
		seats = min(seats, good)
	}
	return max(0, seats), known
}

// sentence is the answer in words.
func (j *judging) sentence(missed, unknown []Criterion, fit int) string {
	of := j.n.Name
	seats := plural(j.seats, "seat")
	worst := ""
	if i := slices.IndexFunc(missed, func(c Criterion) bool { return !c.Lesser }); i >= 0 {
		worst = said(missed[i])
	} else if len(missed) > 0 {
		worst = said(missed[0])
	}
	switch j.r.Answer {
	case Fit:
		return fmt.Sprintf("Fit for %s with %s.", of, seats)
	case Limited:
		if fit < j.seats {
			return fmt.Sprintf("Fit for %s with %s, not with %d: %s.", of, plural(fit, "seat"), j.seats, worst)
		}
		if worst == "" {
			worst = "not all could be told: " + unknown[0].What
		}
		return fmt.Sprintf("Fit for %s with %s, with limits: %s.", of, seats, worst)
	case NotFit:
		return fmt.Sprintf("Not fit for %s: %s.", of, worst)
	}
	list := make([]string, 0, 3)
	for _, c := range unknown {
		if len(list) < 3 && !c.Lesser {
			list = append(list, strings.TrimSpace(c.What+" "+c.Way))
		}
	}
	return fmt.Sprintf("Whether it is fit for %s could not be told: %s.", of, strings.Join(list, ", "))
}

func plural(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return fmt.Sprintf("%d %ss", n, of)
}

// said is a miss in words.
func said(c Criterion) string {
	text := c.What
	if c.Way != "" {
		text += " " + c.Way
	}
	if c.Measured == nil {
		switch {
		case c.Why != "":
			return text + ": " + c.Why
		case c.Part == Ports:
			return text + " does not open"
		}
		return text
	}
	bound := "at most"
	if c.AtLeast {
		bound = "at least"
	}
	return fmt.Sprintf("%s is %s, and %s %s is asked for", text, Written(*c.Measured, c.Unit), bound, Written(c.Limit, c.Unit))
}

// Written writes a figure with its unit.
func Written(v float64, unit string) string {
	switch unit {
	case "bytes":
		return fmt.Sprintf("%.0f bytes", v)
	case "mos":
		return fmt.Sprintf("%.2f of 4.5", v)
	}
	return compare.Written(v, unit)
}

// adviceIn is what to do, each once: first what the service does not work without.
func adviceIn(missed []Criterion) []string {
	list := []string{}
	for _, lesser := range []bool{false, true} {
		for _, c := range missed {
			if c.Lesser == lesser && c.Advice != "" && !slices.Contains(list, c.Advice) {
				list = append(list, c.Advice)
			}
		}
	}
	return list
}

// KeptOf is which part of what arrived has the service class that it was sent with, and as what the
// rest did, most first.
func KeptOf(sent int, came map[int]int) (ratio *float64, rest string) {
	all, kept := 0, 0
	type other struct{ point, n int }
	var others []other
	for point, n := range came {
		all += n
		if point == sent {
			kept += n
		} else {
			others = append(others, other{point, n})
		}
	}
	if all == 0 {
		return nil, ""
	}
	slices.SortFunc(others, func(a, b other) int {
		if a.n != b.n {
			return b.n - a.n
		}
		return a.point - b.point
	})
	var names []string
	for _, o := range others {
		names = append(names, dscp.Point(o.point).String())
	}
	x := float64(kept) / float64(all)
	return &x, strings.Join(names, ", ")
}
