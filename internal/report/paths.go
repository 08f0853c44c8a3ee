package report

import (
	"fmt"
	"io"
	"strconv"
	"time"

	"woodlark.example/internal/api/apitype"
)

// Paths writes paths and how they stand, a line each.
func Paths(w io.Writer, ink Ink, list []apitype.Path) error {
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
		rows = append(rows, []string{p.From + " → " + p.To, fmt.Sprintf("IPv%d", p.Family), p.Via, ink.State(p.State), median, loss, says})
	}
	return Table(w, ink, []Column{{Name: "path"}, {Name: "over"}, {Name: "by"}, {Name: "state"}, {Name: "median", Right: true}, {Name: "loss", Right: true}, {Name: "because"}}, rows)
}

// PathsCSV writes paths for machines: raw figures of their newest readings, times in UTC.
func PathsCSV(w io.Writer, list []apitype.Path) error {
	rows := [][]string{{"agent", "target", "family", "via", "state", "since_at", "started_at", "sent", "answered", "loss_ratio", "rtt_median_ms", "jitter_ms", "path_id"}}
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
	return CSV(w, rows)
}
