package report

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report/document"
)

// Runs are runs of all kinds, a line each.
func Runs(list []apitype.Run, zone *time.Location) document.Document {
	var rows [][]string
	for _, r := range list {
		lasted := ""
		if r.EndedAt != nil {
			lasted = figure.FormatSpan(r.EndedAt.Sub(r.StartAt))
		}
		watch := r.Watch
		if watch == "" && r.Outcome != "missed" { // what nobody asked for was missed by no watch that is known
			watch = "on demand"
		}
		ends := r.From
		if r.To != "" {
			ends += " → " + r.To
		}
		if r.Via != "" {
			ends += document.Faint(otherVia(r.Via))
		}
		outcome := r.Outcome
		if outcome == "failed" || outcome == "missed" {
			outcome = document.Lost(outcome)
		}
		rows = append(rows, []string{When(r.StartAt, zone), lasted, r.Kind, ends, watch, outcome, found(r), document.Faint(r.ID)})
	}
	return document.Of(document.Table{Columns: []document.Column{{Name: "began"}, {Name: "lasted", Right: true}, {Name: "kind"}, {Name: "from and to"}, {Name: "watch"}, {Name: "outcome"}, {Name: "found"}, {Name: "id"}}, Rows: rows}, runRecords(list))
}

// Heard is how far a run is.
func Heard(r apitype.Run) string {
	if r.Counts == "" {
		return strings.TrimSpace(fmt.Sprintf("%s %.0f %% so far", r.Says, 100*float64(min(r.Heard, r.Of))/float64(r.Of)))
	}
	return strings.TrimSpace(fmt.Sprintf("%s %d of %d %s so far", r.Says, r.Heard, r.Of, r.Counts))
}

// found is what a run found, in short.
func found(r apitype.Run) string {
	switch {
	case r.Reason != "":
		return r.Reason
	case r.Outcome == "running" && r.Of > 0:
		return Heard(r)
	case r.Outcome == "running":
		return r.Says
	case r.ThereBps != nil && r.BackBps != nil:
		return Rate(r.ThereBps) + " there, " + Rate(r.BackBps) + " back"
	case r.ThereBps != nil:
		return Rate(r.ThereBps) + " there"
	case r.BackBps != nil:
		return Rate(r.BackBps) + " back"
	case r.MOS != nil:
		return fmt.Sprintf("MOS %.2f", *r.MOS)
	case r.Answered != nil && r.Asked != nil && *r.Asked > 0:
		return fmt.Sprintf("%d of %d", *r.Answered, *r.Asked)
	}
	return ""
}

func runRecords(list []apitype.Run) document.Records {
	var rows [][]string
	columns := []string{"id", "kind", "started_at", "ended_at", "agent", "target", "family", "via", "address", "watch", "outcome", "reason", "answered_count", "asked_count", "there_bps", "back_bps", "mos"}
	count := func(n *int64) string {
		if n == nil {
			return ""
		}
		return strconv.FormatInt(*n, 10)
	}
	for _, r := range list {
		ended, family := "", ""
		if r.EndedAt != nil {
			ended = r.EndedAt.UTC().Format(time.RFC3339Nano)
		}
		if r.Family != 0 {
			family = strconv.Itoa(r.Family)
		}
		rows = append(rows, []string{r.ID, r.Kind, r.StartAt.UTC().Format(time.RFC3339Nano), ended, r.From, r.To, family, r.Via, r.Address, r.Watch, r.Outcome, r.Reason,
			count(r.Answered), count(r.Asked), Cell(r.ThereBps), Cell(r.BackBps), Cell(r.MOS)})
	}
	return document.RecordsOf(columns, rows)
}
