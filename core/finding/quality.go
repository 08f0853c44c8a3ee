package finding

import (
	"fmt"
	"strings"

	"woodlark.example/core/objective"
)

// QualityBelow: an objective is missed.
const QualityBelow Code = "quality_below"

// OfVerdict concludes which limits of an objective are missed.
func OfVerdict(v objective.Verdict) []Finding {
	missed := v.Missed()
	if len(missed) == 0 {
		return []Finding{}
	}
	f := Finding{Code: QualityBelow, Figures: map[string]float64{}, Sure: interval, Advice: "Trace the route to see where it arises; compare with the hours at which it is better."}
	var parts []string
	for _, l := range missed {
		f.Figures[l.Measure] = *l.Value
		f.Figures["limit_"+l.Measure] = l.Limit
		parts = append(parts, fmt.Sprintf("%s, the limit is %s", l.Says, limit(l)))
	}
	f.Sentence = fmt.Sprintf("Misses the objective %q (%s): %s.", v.Objective, v.Source, strings.Join(parts, "; "))
	return []Finding{f}
}

func limit(l objective.Line) string {
	switch {
	case strings.HasSuffix(l.Measure, "_ms"):
		return fmt.Sprintf("%g ms", l.Limit)
	case l.Measure == "mos":
		return fmt.Sprintf("%.1f", l.Limit)
	}
	return fmt.Sprintf("%g %%", 100*l.Limit)
}
