package finding

import (
	"strings"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/readiness"
)

// The codes of readiness.
const (
	ReadyFit     Code = "fit"
	ReadyLimited Code = "fit_with_limits"
	ReadyNotFit  Code = "not_fit"
	ReadyOpen    Code = "readiness_not_told"
)

// OfReadiness is what follows from whether a place is fit: the answer, with what to do first.
func OfReadiness(r readiness.Result) []Finding {
	f := Finding{Code: ReadyFit, Sentence: r.Sentence, Sure: observed, Figures: map[string]float64{"seats": float64(r.Seats)}}
	n := map[acceptance.Verdict]int{}
	for _, c := range r.Criteria {
		n[c.Verdict]++
	}
	f.Figures["passed"], f.Figures["missed"], f.Figures["not_told"] = float64(n[acceptance.Pass]), float64(n[acceptance.Fail]), float64(n[acceptance.Unknown])
	if r.FitFor != nil {
		f.Figures["fit_for_seats"] = float64(*r.FitFor)
	}
	switch r.Answer {
	case readiness.Limited:
		f.Code = ReadyLimited
	case readiness.NotFit:
		f.Code = ReadyNotFit
	case readiness.NotTold:
		f.Code = ReadyOpen
	}
	f.Advice = strings.Join(r.Advice, " ")
	return []Finding{f}
}
