package ping

import (
	"io"
	"slices"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/objective"
	"woodlark.example/core/reading"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

func results(all []any) []report.PingResult {
	out := make([]report.PingResult, len(all))
	for i, r := range all {
		out[i] = r.(*Result).PingResult
	}
	return out
}

// read is how results read.
func read(all []any, _ *time.Location) document.Document { return report.Ping(results(all)) }

// write writes nothing in ndjson: each probe was written as its fate became known.
func write(_ io.Writer, format string, _ []any) (bool, error) { return format == "ndjson", nil }

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
