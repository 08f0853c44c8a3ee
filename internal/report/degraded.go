package report

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report/document"
)

// Degraded is how the report of degraded paths reads.
func Degraded(d apitype.Degraded, zone *time.Location) document.Document {
	var doc document.Document
	doc.Say("%s", document.Strong(d.Summary))
	doc.Say("%s", document.Faint(fmt.Sprintf("%s to %s, %s", When(d.FromAt, zone), When(d.ToAt, zone), d.ToAt.In(zone).Format("MST"))))
	incidents(&doc, d, zone)
	single := slices.DeleteFunc(slices.Clone(d.Now), func(p apitype.Path) bool { return inIncidents(d, p) })
	if len(single) > 0 {
		doc.Section("Worse than normal")
	}
	for _, p := range single {
		degradedPath(&doc, p, d.ToAt, zone)
	}
	properties(&doc, "New levels that wait to be accepted", d.NewLevels, zone)
	properties(&doc, "Taken for normal lately", d.Accepted, zone)
	properties(&doc, "Slowly worse", d.Crept, zone)
	properties(&doc, "Worse at the same hours, and expected then", d.Recurs, zone)
	if len(d.Ended) > 0 {
		doc.Section("Over")
	}
	for _, e := range d.Ended {
		doc.Say("  %s", Ends(e.Path))
		for _, x := range e.Episodes {
			doc.Say("    %s  %s", document.State(x.Kind), lastsFor(x, d.ToAt, zone))
			doc.Say("    %s", x.Sentence)
			before(&doc, x)
		}
	}
	if len(d.Never) > 0 {
		doc.Section("Never answered")
	}
	for _, p := range d.Never {
		doc.Say("  %s  %s", document.State(p.State), Ends(p))
		doc.Say("    %s", p.Findings[0].Sentence)
		doc.Say("    %s", document.Faint(p.Findings[0].Advice))
	}
	if len(d.NotJudged) > 0 {
		doc.Section("Not judged")
	}
	for _, n := range d.NotJudged {
		doc.Say("  %s", endsOf(n.Path.From, n.Path.To, n.Path.Family, n.Path.Via))
		doc.Say("    %s", n.Says)
	}
	doc.Gap()
	doc.Say("%s", d.Says)
	doc.Records = degradedRecords(d)
	return doc
}

func incidents(doc *document.Document, d apitype.Degraded, zone *time.Location) {
	if len(d.Incidents) > 0 {
		doc.Section("Incidents")
	}
	for _, x := range d.Incidents {
		if x.EndedAt == nil {
			doc.Say("  since %s, for %s", When(x.BeganAt, zone), figure.FormatSpan(d.ToAt.Sub(x.BeganAt)))
		} else {
			doc.Say("  over: %s to %s, for %s", When(x.BeganAt, zone), When(*x.EndedAt, zone), figure.FormatSpan(x.EndedAt.Sub(x.BeganAt)))
		}
		doc.Say("    %s", x.Sentence)
		for _, p := range x.Members {
			family, _ := strconv.Atoi(p.Family)
			doc.Say("      %s%s", endsOf(p.From, p.To, family, p.Via), memberFigures(d, x, p))
		}
		for _, s := range x.Others {
			doc.Say("    %s", document.Faint(fmt.Sprintf("It may be the segment %s to %s as well.", hopName(s.From, s.FromName), hopName(s.To, s.ToName))))
		}
		doc.Say("    %s", document.Faint(x.Advice))
	}
}

// inIncidents reports whether all that is wrong with a path is told with incidents that go on.
func inIncidents(d apitype.Degraded, p apitype.Path) bool {
	for _, e := range p.Episodes {
		if e.IncidentID == nil || e.NewLevelAt != nil || !slices.ContainsFunc(d.Incidents, func(x apitype.Incident) bool { return x.ID == *e.IncidentID && x.EndedAt == nil }) {
			return false
		}
	}
	return len(p.Episodes) > 0
}

// memberFigures are those of a path's episode that is part of an incident.
func memberFigures(d apitype.Degraded, x apitype.Incident, m apitype.IncidentFor) (text string) {
	for _, p := range d.Now {
		if p.ID != m.PathID || m.PathID == "" {
			continue
		}
		for _, e := range p.Episodes {
			if e.IncidentID == nil || *e.IncidentID != x.ID {
				continue
			}
			for _, y := range e.Excesses {
				text += fmt.Sprintf("  %s %s before, %s now", document.MeasureName(y.Measure), document.Amount(y.Unit, y.Normal), document.Amount(y.Unit, y.Now))
			}
			if e.Kind == "lost" {
				text += "  lost"
			}
		}
	}
	return text
}

func hopName(address, name string) string {
	switch {
	case address == "":
		return "a hop that does not answer"
	case name == "":
		return address
	}
	return name
}

// degradedPath writes a path that is worse than normal: why, since when, before and now, and
// what to do next.
func degradedPath(doc *document.Document, p apitype.Path, now time.Time, zone *time.Location) {
	if len(p.Episodes) == 0 {
		doc.Say("  %s  %s", document.State(p.State), Ends(p))
	}
	for i, e := range p.Episodes {
		if i == 0 {
			doc.Say("  %s  %s  %s", document.State(p.State), Ends(p), lastsFor(e, now, zone))
		} else {
			doc.Say("    %s  %s", document.State(e.Kind), lastsFor(e, now, zone))
		}
		found := e.Findings
		if i == 0 && len(p.Findings) > 0 && p.State == "lost" {
			found = p.Findings[:1] // it knows what the newest reading was turned away with
		}
		for _, f := range found {
			doc.Say("    %s", f.Sentence)
		}
		before(doc, e)
		if len(found) > 0 && found[0].Advice != "" {
			doc.Say("    %s", document.Faint(found[0].Advice))
		}
	}
}

// lastsFor says since when, for how long, and how sure its begin is.
func lastsFor(e apitype.Episode, now time.Time, zone *time.Location) string {
	end, text := now, "since "+When(e.FromAt, zone)
	if e.ToAt != nil {
		end, text = *e.ToAt, When(e.FromAt, zone)+" to "+When(*e.ToAt, zone)
	}
	text += ", for " + figure.FormatSpan(end.Sub(e.FromAt))
	if doubt := e.LatestAt.Sub(e.EarliestAt) / 2; doubt >= 30*time.Second {
		text += fmt.Sprintf(", its begin ± %s", figure.FormatSpan(doubt))
	}
	return text
}

// before writes what was normal beside what came, with the intervals.
func before(doc *document.Document, e apitype.Episode) {
	if e.Kind == "lost" {
		return
	}
	for _, x := range e.Excesses {
		doc.Say("    %s", document.Faint(fmt.Sprintf("%s: %s before (%s to %s), %s now (%s to %s at 95 %%), %s at worst", document.MeasureName(x.Measure), document.Amount(x.Unit, x.Normal), document.Amount(x.Unit, x.Low), document.Amount(x.Unit, x.High),
			document.Amount(x.Unit, x.Now), document.Amount(x.Unit, x.NowLow), document.Amount(x.Unit, x.NowHigh), document.Amount(x.Unit, x.Worst))))
	}
}

func properties(doc *document.Document, title string, list []apitype.PathProperties, _ *time.Location) {
	if len(list) == 0 {
		return
	}
	doc.Section(title)
	for _, x := range list {
		doc.Say("  %s", endsOf(x.Path.From, x.Path.To, x.Path.Family, x.Path.Via))
		for _, p := range x.Properties {
			doc.Say("    %s", p.Sentence)
			if p.Waits && p.Kind == "new_level" {
				doc.Say("    %s", document.Faint(fmt.Sprintf("Accept it: woodlark baseline accept -from %s -to %s -measure %s", x.Path.From, x.Path.To, p.Measure)))
			} else if p.Advice != "" {
				doc.Say("    %s", document.Faint(p.Advice))
			}
		}
	}
}

// degradedColumns are those of the report's records: one for each measure of an episode, for
// each property, each incident's path, and each path that could not be judged.
var degradedColumns = []string{"section", "from", "to", "family", "via", "state", "since_at", "until_at", "began_earliest_at", "began_latest_at", "told_at", "over_told_at", "times", "code", "cause", "confidence",
	"measure", "unit", "normal", "normal_low", "normal_high", "now", "now_low", "now_high", "worst", "sent", "lost", "readings", "tolerance", "segments", "other_segments", "incident", "sentence", "advice", "details"}

func degradedRecords(d apitype.Degraded) document.Records {
	var rows [][]string
	add := func(cells map[string]string) {
		row := make([]string, len(degradedColumns))
		for i, c := range degradedColumns {
			row[i] = cells[c]
		}
		rows = append(rows, row)
	}
	for _, x := range d.Incidents {
		for _, m := range x.Members {
			add(map[string]string{"section": "incident", "from": m.From, "to": m.To, "family": m.Family, "via": m.Via, "since_at": stamp(&x.BeganAt), "until_at": stamp(x.EndedAt), "told_at": stamp(&x.ToldAt), "code": "shared_segment",
				"confidence": number(x.Confidence), "measure": x.Measure, "unit": x.Unit, "now": number(x.Excess), "segments": segmentsText(x.Segments), "other_segments": segmentsText(x.Others), "incident": x.ID, "sentence": x.Sentence, "advice": x.Advice})
		}
	}
	for _, p := range d.Now {
		episodesCSV(add, "now", p, p.Episodes)
	}
	for _, e := range d.Ended {
		episodesCSV(add, "over", e.Path, e.Episodes)
	}
	for section, list := range map[string][]apitype.PathProperties{"new_level": d.NewLevels, "accepted": d.Accepted, "crept": d.Crept, "recurs": d.Recurs} {
		for _, x := range list {
			for _, p := range x.Properties {
				detail := ""
				if p.From != "" {
					detail = fmt.Sprintf("%s %s to %s, seen on %d days", strings.Join(p.Weekdays, " "), p.From, p.To, p.Days)
				}
				add(map[string]string{"section": section, "from": x.Path.From, "to": x.Path.To, "family": fmt.Sprint(x.Path.Family), "via": x.Path.Via, "since_at": stamp(&p.SinceAt), "told_at": stamp(&p.ToldAt), "code": p.Code, "measure": p.Measure,
					"unit": p.Unit, "normal": number(p.Before), "now": number(p.Now), "sentence": p.Sentence, "advice": p.Advice, "details": detail})
			}
		}
	}
	for _, p := range d.Never {
		add(map[string]string{"section": "never_answered", "from": p.From, "to": p.To, "family": fmt.Sprint(p.Family), "via": p.Via, "state": p.State, "since_at": stamp(p.SinceAt), "code": string(p.Findings[0].Code), "sentence": p.Findings[0].Sentence, "advice": p.Findings[0].Advice})
	}
	for _, n := range d.NotJudged {
		add(map[string]string{"section": "not_judged", "from": n.Path.From, "to": n.Path.To, "family": fmt.Sprint(n.Path.Family), "via": n.Path.Via, "until_at": stamp(n.Until), "code": n.Why, "sentence": n.Says})
	}
	slices.SortStableFunc(rows, func(a, b []string) int { return sectionRank[a[0]] - sectionRank[b[0]] })
	return document.RecordsOf(degradedColumns, rows)
}

var sectionRank = map[string]int{"incident": 0, "now": 1, "new_level": 2, "accepted": 3, "crept": 4, "recurs": 5, "over": 6, "never_answered": 7, "not_judged": 8}

func episodesCSV(add func(map[string]string), section string, p apitype.Path, list []apitype.Episode) {
	for _, e := range list {
		cells := map[string]string{"section": section, "from": p.From, "to": p.To, "family": fmt.Sprint(p.Family), "via": p.Via, "state": e.Kind, "since_at": stamp(&e.FromAt), "until_at": stamp(e.ToAt),
			"began_earliest_at": stamp(&e.EarliestAt), "began_latest_at": stamp(&e.LatestAt), "told_at": stamp(&e.ToldAt), "over_told_at": stamp(e.OverToldAt), "times": fmt.Sprint(e.Times), "cause": e.Cause, "sentence": e.Sentence}
		if len(e.Findings) > 0 {
			f := e.Findings[0]
			cells["code"], cells["confidence"], cells["advice"] = string(f.Code), number(f.Sure), f.Advice
		}
		if e.IncidentID != nil {
			cells["incident"] = *e.IncidentID
		}
		var details []string
		for _, u := range e.Unmeasured {
			details = append(details, fmt.Sprintf("unmeasured %s to %s", stamp(&u.FromAt), stamp(&u.ToAt)))
		}
		if e.Moved != nil {
			moved, _ := json.Marshal(e.Moved)
			details = append(details, "route_change "+string(moved))
		}
		cells["details"] = strings.Join(details, "; ")
		if len(e.Excesses) == 0 {
			add(cells)
		}
		for _, x := range e.Excesses {
			row := map[string]string{}
			for k, v := range cells {
				row[k] = v
			}
			for k, v := range map[string]float64{"normal": x.Normal, "normal_low": x.Low, "normal_high": x.High, "now": x.Now, "now_low": x.NowLow, "now_high": x.NowHigh, "worst": x.Worst, "tolerance": x.Least} {
				row[k] = number(v)
			}
			row["measure"], row["unit"], row["readings"] = x.Measure, x.Unit, fmt.Sprint(x.Count)
			if x.Unit == "ratio" {
				row["sent"], row["lost"] = fmt.Sprint(x.Sent), fmt.Sprint(x.Lost)
			}
			add(row)
		}
	}
}

func segmentsText(list []apitype.Segment) string {
	var parts []string
	for _, s := range list {
		parts = append(parts, s.From+" to "+s.To)
	}
	return strings.Join(parts, "; ")
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

func stamp(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}
