package report

import (
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report/document"
)

// field is a column of records: its name, and what it says of one.
type field[T any] struct {
	name string
	cell func(T) string
}

func recordsOf[T any](list []T, fields []field[T]) document.Records {
	columns := make([]string, len(fields))
	for i, f := range fields {
		columns[i] = f.name
	}
	rows := make([][]string, 0, len(list))
	for _, x := range list {
		row := make([]string, len(fields))
		for i, f := range fields {
			row[i] = f.cell(x)
		}
		rows = append(rows, row)
	}
	return document.RecordsOf(columns, rows)
}

func moment(t *time.Time) string {
	if t == nil || t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

// RouteRecords are traces without their hops.
func RouteRecords(list []apitype.Trace) document.Records {
	type T = apitype.Trace
	return recordsOf(list, []field[T]{
		{"id", func(t T) string { return t.ID }},
		{"started_at", func(t T) string { return moment(&t.StartAt) }},
		{"ended_at", func(t T) string { return moment(t.EndedAt) }},
		{"agent", func(t T) string { return t.From }},
		{"target", func(t T) string { return t.To }},
		{"family", func(t T) string { return strconv.Itoa(t.Family) }},
		{"via", func(t T) string { return t.Via }},
		{"watch", func(t T) string { return t.Watch }},
		{"outcome", func(t T) string { return t.Outcome }},
		{"reason", func(t T) string { return t.Reason }},
		{"reached", func(t T) string { return ifDone(t.Outcome, strconv.FormatBool(t.Reached)) }},
		{"other_than_usual", func(t T) string { return ifDone(t.Outcome, strconv.FormatBool(t.Changed)) }},
		{"hop_count", func(t T) string { return ifDone(t.Outcome, strconv.Itoa(t.Hops)) }},
		{"rtt_median_ms", func(t T) string { return Cell(t.RTTMs) }},
		{"loss_ratio", func(t T) string { return Cell(t.LossRatio) }},
		{"route", func(t T) string { return t.Route }},
	})
}

// ifDone is a cell of what was carried out; empty of what was not.
func ifDone(outcome, cell string) string {
	if outcome != "done" {
		return ""
	}
	return cell
}

// AgentRecords are agents and how they stand.
func AgentRecords(list []apitype.Agent) document.Records {
	type A = apitype.Agent
	said := func(cell func(A) string) func(A) string {
		return func(a A) string {
			if a.Health == nil {
				return ""
			}
			return cell(a)
		}
	}
	return recordsOf(list, []field[A]{
		{"id", func(a A) string { return a.ID }},
		{"agent", func(a A) string { return a.Name }},
		{"site", func(a A) string { return a.Site }},
		{"labels", func(a A) string { return a.Labels }},
		{"kind", func(a A) string { return a.Kind }},
		{"address", func(a A) string { return a.Address }},
		{"connected", func(a A) string { return strconv.FormatBool(a.Alive) }},
		{"lost_at", func(a A) string { return moment(a.LostAt) }},
		{"seen_at", func(a A) string { return moment(a.SeenAt) }},
		{"version", func(a A) string { return a.Version }},
		{"clock_synchronised", said(func(a A) string { return strconv.FormatBool(a.Health.Clock.Synchronised) })},
		{"clock_error_ms", said(func(a A) string { return Cell(a.Health.Clock.ErrorMs) })},
		{"far_end", said(func(a A) string { return a.Health.Responder })},
		{"waiting_count", said(func(a A) string { return strconv.Itoa(a.Health.HeldBack) })},
		{"dropped_count", said(func(a A) string { return strconv.Itoa(a.Health.Dropped) })},
		{"set_aside_count", said(func(a A) string { return strconv.Itoa(a.Health.SetAside) })},
		{"may", said(func(a A) string { return strings.Join(a.Health.May, " ") })},
		{"limits", said(func(a A) string { return a.Health.Limits })},
	})
}

// WatchRecords are watches and how they stand.
func WatchRecords(list []apitype.Watch) document.Records {
	type W = apitype.Watch
	last := func(cell func(apitype.Run) string) func(W) string {
		return func(w W) string {
			if w.LastRun == nil {
				return ""
			}
			return cell(*w.LastRun)
		}
	}
	some := func(v float64) string {
		if v == 0 {
			return "" // not known beforehand
		}
		return Cell(&v)
	}
	return recordsOf(list, []field[W]{
		{"id", func(w W) string { return w.ID }},
		{"watch", func(w W) string { return w.Name }},
		{"kind", func(w W) string { return w.Kind }},
		{"agents", func(w W) string { return strings.Join(w.From, " ") }},
		{"targets", func(w W) string { return strings.Join(w.To, " ") }},
		{"repeat", func(w W) string { return w.Repeat }},
		{"paused", func(w W) string { return strconv.FormatBool(w.Paused) }},
		{"tags", func(w W) string { return strings.Join(w.Tags, " ") }},
		{"path_count", func(w W) string { return strconv.Itoa(w.Paths) }},
		{"probes_per_day", func(w W) string { return some(w.ProbesPerDay) }},
		{"bytes_per_day", func(w W) string { return some(w.BytesPerDay) }},
		{"next_due_at", func(w W) string { return moment(w.NextDueAt) }},
		{"last_run", last(func(r apitype.Run) string { return r.ID })},
		{"last_outcome", last(func(r apitype.Run) string { return r.Outcome })},
		{"last_started_at", last(func(r apitype.Run) string { return moment(&r.StartAt) })},
		{"last_reason", last(func(r apitype.Run) string { return r.Reason })},
	})
}

// BaselineRecords are the baselines that are kept of a path.
func BaselineRecords(p apitype.Path, list []apitype.StoredBaseline) document.Records {
	type B = apitype.StoredBaseline
	return recordsOf(list, []field[B]{
		{"id", func(b B) string { return b.ID }},
		{"agent", func(B) string { return p.From }},
		{"target", func(B) string { return p.To }},
		{"family", func(B) string { return strconv.Itoa(p.Family) }},
		{"via", func(B) string { return p.Via }},
		{"taken_at", func(b B) string { return moment(&b.TakenAt) }},
		{"pinned", func(b B) string { return strconv.FormatBool(b.Pinned) }},
		{"in_use", func(b B) string { return strconv.FormatBool(b.InUse) }},
		{"reading_count", func(b B) string { return strconv.Itoa(b.Readings) }},
	})
}
