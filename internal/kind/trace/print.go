package trace

import (
	"io"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

func reports(all []any) []finding.TraceReport {
	out := make([]finding.TraceReport, len(all))
	for i, r := range all {
		out[i] = r.(*Result).TraceReport
	}
	return out
}

// read is how traces read.
func read(all []any, zone *time.Location) (doc document.Document) {
	list := reports(all)
	for i, r := range list {
		if i > 0 {
			doc.Gap()
		}
		doc.Append(report.Trace(r, zone))
	}
	doc.Records = report.TraceRecords(list)
	return doc
}

// plain are traces without their packets; the JSON of one alone is no list.
func plain(all []any) any {
	list := reports(all)
	if len(list) == 1 {
		return list[0]
	}
	return list
}

// write writes traces as graphs.
func write(w io.Writer, format string, all []any) (bool, error) {
	switch format {
	case "dot":
		return true, report.TraceDOT(w, reports(all))
	case "graphml":
		return true, report.TraceGraphML(w, reports(all))
	}
	return false, nil
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
