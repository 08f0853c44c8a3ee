package report

import (
	"fmt"
	"strconv"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report/document"
)

// Paths are paths and how they stand, a line each.
func Paths(list []apitype.Path) document.Document {
	var rows [][]string
	for _, p := range list {
		median, loss := "", ""
		if p.Last != nil {
			median, loss = Ms(p.Last.RTTMedianMs), Percent(p.Last.LossRatio)
		}
		says := ""
		if len(p.Findings) > 0 {
			says = p.Findings[0].Sentence
		}
		rows = append(rows, []string{p.From + " → " + p.To, fmt.Sprintf("IPv%d", p.Family), p.Via, document.State(p.State), median, loss, says})
	}
	return document.Of(document.Table{Columns: []document.Column{{Name: "path"}, {Name: "over"}, {Name: "by"}, {Name: "state"}, {Name: "median", Right: true}, {Name: "loss", Right: true}, {Name: "because"}}, Rows: rows}, pathRecords(list))
}

// pathRecords have the figures of their newest readings.
func pathRecords(list []apitype.Path) document.Records {
	var rows [][]string
	columns := []string{"agent", "target", "family", "via", "state", "since_at", "started_at", "sent", "answered", "loss_ratio", "rtt_median_ms", "jitter_ms", "path_id"}
	for _, p := range list {
		since := ""
		if p.SinceAt != nil {
			since = p.SinceAt.UTC().Format(time.RFC3339)
		}
		row := []string{p.From, p.To, strconv.Itoa(p.Family), p.Via, p.State, since}
		if r := p.Last; r != nil {
			row = append(row, r.StartedAt.UTC().Format(time.RFC3339), strconv.Itoa(r.Sent), strconv.Itoa(r.Answered), Cell(r.LossRatio), Cell(r.RTTMedianMs), Cell(r.JitterMs))
		} else {
			row = append(row, "", "", "", "", "", "")
		}
		rows = append(rows, append(row, p.ID))
	}
	return document.RecordsOf(columns, rows)
}
