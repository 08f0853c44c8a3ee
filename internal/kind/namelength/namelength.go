// Package namelength is a kind of measurement for tests: it measures the length of a name. No
// program has it. What it needs to reach a command line, a watch, an agent, the database, HTTP
// and CSV is this folder alone.
package namelength

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"
	"unicode/utf8"

	"woodlark.example/core/finding"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

// Spec says how to measure a name.
type Spec struct {
	Unit  string    `json:"unit" enum:"characters,bytes" help:"characters or bytes"`
	Most  int       `json:"length_most" flag:"most" help:"the length that is still good"`
	Pause kind.Span `json:"pause" help:"time to take for each character"`
}

// Result is how long a name is.
type Result struct {
	From     string            `json:"from"`
	Target   string            `json:"target"`
	Unit     string            `json:"unit"`
	Length   int               `json:"length"`
	Cut      bool              `json:"cut"`
	Findings []finding.Finding `json:"findings"`
}

// Step is how much of a name is measured.
type Step struct {
	Letter string `json:"letter"`
}

// Concluded are its findings.
func (r *Result) Concluded() []finding.Finding { return r.Findings }

// Listed are the figures of lists.
func (r *Result) Listed() kind.Figures {
	n, of := int64(r.Length), int64(utf8.RuneCountInString(r.Target))
	return kind.Figures{Answered: &n, Of: &of}
}

// Kind is this kind.
var Kind = kind.Register(&kind.Kind{
	Counts: "letters", Name: "name-length", Version: 1, Rank: 99, Summary: "the length of a name", Usage: "NAME …", Example: "woodlark name-length holm.example",
	New:   func(kind.Occasion) kind.Spec { return &Spec{Unit: "characters", Most: 20} },
	Lanes: func(kind.Spec) kind.Rule { return kind.Rule{} },
	Least: time.Second,
	Limit: func(kind.Spec, int) time.Duration { return time.Minute },
	Run:   run, Result: func() any { return &Result{} }, More: func() any { return &Step{} }, Document: read,
	Good: func(all []any) bool {
		for _, x := range all {
			if len(x.(*Result).Findings) > 0 {
				return false
			}
		}
		return true
	},
})

// Check says what is wrong with it.
func (s *Spec) Check() error {
	var c kind.Checks
	c.Must(s.Most > 0, "length_most", "%d is not above zero", s.Most)
	c.Must(s.Pause >= 0, "pause", "%v is below zero", time.Duration(s.Pause))
	return c.Err()
}

func run(ctx context.Context, j *kind.Job) ([]kind.Outcome, error) {
	s := j.Spec.(*Spec)
	out := j.Fail(time.Now(), "")
	for i, l := range j.Lanes {
		r := &Result{From: j.Name, Target: l.Target, Unit: s.Unit, Findings: []finding.Finding{}}
		out[i].State, out[i].Result = kind.Done, r
		for _, letter := range l.Target {
			if s.Pause > 0 {
				select {
				case <-ctx.Done():
					r.Cut = true
				case <-time.After(time.Duration(s.Pause)):
				}
			}
			if r.Cut {
				out[i].State, out[i].Reason = kind.Cancelled, kind.CutShort
				break
			}
			r.Length++
			if s.Unit == "bytes" {
				r.Length += utf8.RuneLen(letter) - 1
			}
			j.Tell(kind.Progress{Lane: i, Done: int64(r.Length), Of: int64(len(l.Target)), More: Step{string(letter)}})
		}
		if r.Length > s.Most {
			r.Findings = append(r.Findings, finding.Finding{Code: finding.NameUnresolved, Sentence: fmt.Sprintf("%s is longer than %d %s.", l.Target, s.Most, s.Unit), Sure: 1})
		}
		out[i].Ended = time.Now()
	}
	return out, nil
}

// read is how names read.
func read(all []any, _ *time.Location) (doc document.Document) {
	var rows [][]string
	for _, x := range all {
		r := x.(*Result)
		doc.Say("%s  from %s is %d %s long", r.Target, r.From, r.Length, r.Unit)
		rows = append(rows, append(report.Measured{Agent: r.From, Target: r.Target}.Cells(), r.Unit, strconv.Itoa(r.Length)))
	}
	doc.Records = document.RecordsOf(append(slices.Clone(report.MeasuredColumns), "unit", "length"), rows)
	return doc
}
