package trace

import (
	"fmt"

	"woodlark.example/core/finding"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report"
)

func reports(all []any) []finding.TraceReport {
	out := make([]finding.TraceReport, len(all))
	for i, r := range all {
		out[i] = r.(*Result).TraceReport
	}
	return out
}

// write writes traces; the JSON of one alone is no list.
func write(p kind.Page, all []any) error {
	list := reports(all)
	switch p.Format {
	case "json":
		if len(list) == 1 {
			return report.JSON(p.To, list[0])
		}
		return report.JSON(p.To, list)
	case "csv":
		return report.TraceCSV(p.To, list)
	case "dot":
		return report.TraceDOT(p.To, list)
	case "graphml":
		return report.TraceGraphML(p.To, list)
	}
	for i, r := range list {
		if i > 0 {
			fmt.Fprintln(p.To)
		}
		if err := report.Trace(p.To, report.NewInk(p.Colours), r, p.Zone); err != nil {
			return err
		}
	}
	return nil
}

// good reports whether each target was reached, by the way that it was before where that was
// looked at, and nothing bad was found.
func good(all []any) bool {
	for _, r := range reports(all) {
		if !r.Reached || r.Compared != nil && r.Compared.Changed {
			return false
		}
		for _, f := range r.Findings {
			if f.Bad() {
				return false
			}
		}
	}
	return true
}
