package reports

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/report/document"
)

// columns are those of a report's records: one for each measure of an episode, and for what each
// of its other sections tells.
var columns = []string{"section", "from", "to", "family", "via", "state", "since_at", "until_at", "began_earliest_at", "began_latest_at", "cause", "measure", "unit", "normal", "normal_low", "normal_high", "now", "now_low", "now_high", "worst", "sent", "lost",
	"measured_s", "worse_s", "availability_ratio", "loss_ratio", "rtt_mean_ms", "objective", "within_ratio", "objective_met", "objective_missed", "incident", "sentence", "advice"}

type cells map[string]string

func (r *Period) records() document.Records {
	var rows [][]string
	add := func(section string, e Ends, c cells) {
		if e.From != "" {
			c["from"], c["to"], c["family"], c["via"] = e.From, e.To, fmt.Sprint(e.Family), e.Via
		}
		c["section"] = section
		row := make([]string, len(columns))
		for i, name := range columns {
			row[i] = c[name]
		}
		rows = append(rows, row)
	}
	for _, x := range r.Incidents {
		for _, p := range x.Paths {
			add("incident", p, cells{"since_at": stamp(x.BeganAt), "until_at": stampOf(x.EndedAt), "incident": x.ID, "sentence": x.Sentence, "advice": x.Advice})
		}
	}
	for _, d := range r.Degraded {
		for _, e := range d.Episodes {
			e.records(func(c cells) { add("worse", d.Ends, c) })
		}
	}
	for _, x := range r.Standing {
		add(x.Kind, x.Ends, cells{"since_at": stamp(x.SinceAt), "sentence": x.Sentence, "advice": x.Advice})
	}
	for _, x := range r.Paths {
		c := cells{"state": x.State, "sent": fmt.Sprint(x.Sent), "lost": fmt.Sprint(x.Lost), "measured_s": number(&x.MeasuredS), "worse_s": number(&x.WorseS), "availability_ratio": number(x.Availability), "loss_ratio": number(x.Loss),
			"rtt_mean_ms": number(x.MeanMs), "objective": r.Objective, "within_ratio": number(x.Within), "objective_missed": strings.Join(x.Missed, " ")}
		if x.Met != nil {
			c["objective_met"] = strconv.FormatBool(*x.Met)
		}
		add("availability", x.Ends, c)
	}
	for _, x := range r.Throughput {
		add("carried", x.Ends, cells{"since_at": stamp(x.At), "measure": "throughput_" + x.Way, "unit": "bps", "normal": number(x.UsualBps), "normal_low": number(x.UsualLow), "normal_high": number(x.UsualHigh), "now": number(&x.Bps), "sentence": x.Says})
	}
	for _, x := range r.Sweeps {
		for _, part := range x.parts() {
			for _, a := range part.list {
				add("addresses", Ends{}, cells{"from": x.Agent, "to": strings.Fields(a)[0], "state": part.name, "since_at": stamp(x.At), "sentence": a})
			}
		}
	}
	for _, x := range r.NotJudged {
		add("not_judged", x.Ends, cells{"cause": x.Why, "sentence": x.Says})
	}
	for _, x := range r.Notes {
		add("note", x.Ends, cells{"since_at": stamp(x.At), "until_at": stampOf(x.Until), "cause": x.Author, "sentence": x.Text})
	}
	return document.RecordsOf(columns, rows)
}

func (e EpisodeTold) records(add func(cells)) {
	of := func() cells {
		return cells{"state": e.Kind, "since_at": stamp(e.BeganAt), "until_at": stampOf(e.EndedAt), "began_earliest_at": stamp(e.EarliestAt), "began_latest_at": stamp(e.LatestAt), "cause": e.Cause, "incident": e.Incident, "sentence": e.Sentence, "advice": e.Advice}
	}
	if len(e.Excesses) == 0 {
		add(of())
	}
	for _, x := range e.Excesses {
		c := of()
		c["measure"], c["unit"] = x.Measure, x.Unit
		for name, v := range map[string]float64{"normal": x.Normal, "normal_low": x.Low, "normal_high": x.High, "now": x.Now, "now_low": x.NowLow, "now_high": x.NowHigh, "worst": x.Worst} {
			c[name] = number(&v)
		}
		if x.Unit == "ratio" {
			c["sent"], c["lost"] = fmt.Sprint(x.Sent), fmt.Sprint(x.Lost)
		}
		add(c)
	}
}

func number(v *float64) string {
	if v == nil {
		return ""
	}
	return strconv.FormatFloat(*v, 'f', -1, 64)
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

func stampOf(t *time.Time) string {
	if t == nil {
		return ""
	}
	return stamp(*t)
}
