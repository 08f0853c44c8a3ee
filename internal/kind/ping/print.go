package ping

import (
	"io"

	"woodlark.example/core/finding"
	"woodlark.example/core/objective"
	"woodlark.example/core/reading"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report"

	"slices"
)

func results(all []any) []report.PingResult {
	out := make([]report.PingResult, len(all))
	for i, r := range all {
		out[i] = r.(*Result).PingResult
	}
	return out
}

// write writes results. Of ndjson each probe was written as its fate became known.
func write(p kind.Page, all []any) error {
	switch p.Format {
	case "json":
		return report.JSON(p.To, results(all))
	case "csv":
		return report.PingCSV(p.To, results(all))
	case "ndjson":
		return nil
	}
	return report.Ping(p.To, report.NewInk(p.Colours), results(all))
}

// good reports whether each target answered as it should.
func good(all []any) bool {
	for _, r := range results(all) {
		if r.Sent > 0 && (r.Answered == 0 || r.Objective != nil && r.Objective.State == objective.Missed || slices.ContainsFunc(r.Findings, finding.Finding.Bad)) {
			return false
		}
	}
	return true
}

// line writes a probe as a line of JSON.
func line(w io.Writer, l kind.Lane, p kind.Progress) error {
	probe, is := p.More.(reading.Probe)
	if !is {
		return nil
	}
	address := ""
	if l.Address.IsValid() {
		address = l.Address.String()
	}
	return report.ProbeLine(w, l.Target, address, l.Via, probe)
}
