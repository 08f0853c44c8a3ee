package report

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/objective"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report/document"
)

var limitNames = map[objective.Measure]string{objective.Loss: "loss", objective.RTT: "RTT", objective.Delay: "delay one way", objective.Jitter: "jitter", objective.Spread: "spread", objective.Variation: "variation",
	objective.MOS: "MOS", objective.RateThere: "rate there", objective.RateBack: "rate back", objective.Availability: "availability"}

// of writes a value of a measure of objectives.
func ofMeasure(m string, v float64) string {
	switch {
	case strings.HasSuffix(m, "_ms"):
		return figure.FormatMs(v)
	case strings.HasSuffix(m, "_ratio"):
		return figure.FormatRatio(v)
	case strings.HasSuffix(m, "_bps"):
		return capacity.Rate(v).String()
	}
	return strconv.FormatFloat(v, 'f', 2, 64)
}

// Limit writes a limit.
func Limit(m string, v float64) string {
	word := "up to"
	if objective.Measure(m).AtLeast() {
		word = "at least"
	}
	return limitName(m) + " " + word + " " + ofMeasure(m, v)
}

func limitName(m string) string {
	if name := limitNames[objective.Measure(m)]; name != "" {
		return name
	}
	return m
}

// Fitness is how paths were within an objective.
func Fitness(list []apitype.Fitness, zone *time.Location) (doc document.Document) {
	var rows [][]string
	for i, f := range list {
		if i > 0 {
			doc.Gap()
		}
		share := "nothing was measured"
		if f.Share != nil {
			share = fmt.Sprintf("%s of the measured time within %s", figure.FormatRatio(*f.Share), f.Objective)
		}
		doc.Say("%s  %s", endsOf(f.From, f.To, f.Family, f.Via), document.Strong(share))
		doc.Say("  %s", document.Faint(fmt.Sprintf("%s to %s, %s of it measured", When(f.FromAt, zone), When(f.ToAt, zone), figure.FormatSpan(time.Duration(f.MeasuredS*float64(time.Second))))))
		t := document.Table{Indent: 2, Columns: []document.Column{{Name: ""}, {Name: "limit"}, {Name: "within", Right: true}, {Name: "median", Right: true}, {Name: "mean", Right: true}, {Name: "worst", Right: true}, {Name: ""}}}
		for _, l := range f.Lines {
			met := "met"
			if !l.Met {
				met = document.Lost("missed")
			}
			t.Rows = append(t.Rows, []string{limitName(l.Measure), strings.TrimPrefix(Limit(l.Measure, l.Limit), limitName(l.Measure)+" "), Percent(l.Share), ofMeasure(l.Measure, l.Median), ofMeasure(l.Measure, l.Mean), ofMeasure(l.Measure, l.Worst), met})
			rows = append(rows, []string{f.From, f.To, strconv.Itoa(f.Family), f.Via, f.Objective, f.FromAt.Format(time.RFC3339), f.ToAt.Format(time.RFC3339), Cell(&f.MeasuredS), Cell(f.Share), l.Measure, number(l.Limit), Cell(l.Share), number(l.Median), number(l.Mean), number(l.Worst), strconv.FormatBool(l.Met)})
		}
		if len(t.Rows) > 0 {
			doc.Add(t)
		}
		for _, w := range f.Worst {
			doc.Say("  %s %s to %s, for %s: %s %s", document.Changed("›"), When(w.FromAt, zone), When(w.ToAt, zone), figure.FormatSpan(w.ToAt.Sub(w.FromAt)), limitName(w.Measure), ofMeasure(w.Measure, w.Value))
			if w.Sentence != "" {
				doc.Say("    %s", w.Sentence)
			}
			if w.Advice != "" {
				doc.Say("    %s", document.Faint(w.Advice))
			}
		}
	}
	doc.Records = document.RecordsOf([]string{"agent", "target", "family", "via", "objective", "from_at", "to_at", "measured_s", "within_ratio", "measure", "limit", "measure_within_ratio", "median", "mean", "worst", "met"}, rows)
	return doc
}
