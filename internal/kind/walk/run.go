package walk

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/walk"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

// Result is what was met on the way.
type Result struct{ finding.WalkReport }

// Concluded are its findings.
func (r *Result) Concluded() []finding.Finding { return r.Findings }

// Listed are the figures of lists: steps that were good, of all.
func (r *Result) Listed() kind.Figures {
	answered, of := int64(0), int64(len(r.Steps))
	for _, s := range r.Steps {
		if s.Good == nil || *s.Good {
			answered++
		}
	}
	return kind.Figures{Answered: &answered, Of: &of}
}

func run(ctx context.Context, j *kind.Job) ([]kind.Outcome, error) {
	if j.Ground == nil {
		return nil, errors.New("this host does not know its own links")
	}
	s := j.Spec.(*Spec)
	out := j.Fail(time.Now(), "")
	for i, l := range j.Lanes {
		q := s.Request(l.Target)
		met := int64(0)
		q.Met = func(step finding.Step) {
			met++
			j.Tell(kind.Progress{Lane: i, Done: met, Of: steps, Says: step.Name, More: step})
		}
		began := time.Now()
		r, err := walk.Go(ctx, j.Network, j.Ground, q)
		r.From = j.Name
		out[i] = kind.Outcome{State: kind.Done, Started: began, Ended: time.Now(), Address: r.Address, Result: &Result{r.WalkReport}}
		switch {
		case err != nil && len(r.Steps) == 0:
			out[i].State, out[i].Reason, out[i].Result = kind.Failed, err.Error(), nil
		case ctx.Err() != nil:
			out[i].State, out[i].Reason = kind.Cancelled, kind.CutShort
		case err != nil:
			out[i].State, out[i].Reason = kind.Failed, err.Error()
		}
	}
	return out, nil
}

// steps is how many steps a walk has at most: neighbour, gateway, resolvers, address, name, port.
const steps = 6

// columns are those of the records of walks: one a step.
var columns = append(slices.Clone(report.MeasuredColumns), "step", "about", "good", "sent", "answered", "loss_ratio", "rtt_median_ms", "took_ms", "says")

func records(all []any) document.Records {
	var rows [][]string
	for _, x := range all {
		r := x.(*Result)
		for _, s := range r.Steps {
			good := ""
			if s.Good != nil {
				good = fmt.Sprint(*s.Good)
			}
			sent, answered, lost, rtt := "", "", "", ""
			m := report.Measured{Agent: r.From, Target: r.Target, Address: r.Address}
			if f := s.Figures; f != nil {
				m.StartedAt = f.StartedAt
				sent, answered, lost, rtt = strconv.Itoa(f.Sent), strconv.Itoa(f.Answered), report.Cell(f.LossRatio), report.Cell(f.RTTMedianMs)
			}
			rows = append(rows, append(m.Cells(), s.Name, s.About, good, sent, answered, lost, rtt, report.Cell(s.TookMs), s.Says))
		}
	}
	return document.RecordsOf(columns, rows)
}

// read is how walks read.
func read(all []any, _ *time.Location) document.Document {
	doc := document.Document{Records: records(all)}
	for _, x := range all {
		r := x.(*Result)
		doc.Say("%s  from %s, near to far", document.Strong(r.Target), r.From)
		for _, s := range r.Steps {
			doc.Add(step(s))
		}
		if len(r.Findings) == 0 {
			doc.Add(document.Finding{Sign: "›", Text: "Nothing is wrong from here to there, as far as these probes tell."})
		}
		for _, f := range r.Findings {
			doc.Add(document.Finding{Sign: "›", Text: f.Sentence, Advice: f.Advice})
		}
	}
	return doc
}

// step is a step: by sign and word, not by colour alone.
func step(s finding.Step) document.Line {
	sign := "?"
	if s.Good != nil {
		sign = "✓"
		if !*s.Good {
			sign = document.Lost("✗")
		}
	}
	took := ""
	if s.TookMs != nil {
		took = document.Faint(" in " + report.Ms(s.TookMs))
	}
	return document.Line{Indent: 2, Text: fmt.Sprintf("%s %-10s %s  %s%s", sign, s.Name, s.About, strings.TrimSpace(s.Says), took)}
}

// good reports whether nothing broke on the way.
func good(all []any) bool {
	for _, x := range all {
		r := x.(*Result)
		if slices.ContainsFunc(r.Findings, finding.Finding.Bad) {
			return false
		}
		filtered := slices.ContainsFunc(r.Findings, func(f finding.Finding) bool { return f.Code == finding.ICMPFiltered })
		for _, s := range r.Steps {
			if s.Good != nil && !*s.Good && !(filtered && s.Name == "address") { // the port answers: the host is good
				return false
			}
		}
	}
	return true
}
