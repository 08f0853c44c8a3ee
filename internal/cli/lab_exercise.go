package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"woodlark.example/core/compare"
	"woodlark.example/demo/faults"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report/document"
)

// runExercise makes the measurements that show what is true of an exercise.
func (c *call) runExercise(x faults.Exercise) error {
	var all []json.RawMessage
	if c.format == "text" {
		fmt.Fprintf(c.out, "“%s”\n", x.Complaint)
	}
	var failed error
	for _, s := range x.Shows {
		parts, err := c.runShow(x, s)
		all = append(all, parts...)
		if err != nil {
			var e exit
			if e, _ = err.(exit); e.status != exitNotGood {
				return err
			}
			failed = err // what is bad of a network is what it is there for
		}
	}
	if c.format == "json" {
		return document.JSON(c.out, map[string]any{"name": x.Name, "measurements": all})
	}
	if c.format == "text" {
		fmt.Fprintf(c.out, "\nWhat is it? woodlark lab learn -answer CODE,… %s\n", x.Name)
	}
	return failed
}

// runShow makes one measurement, at its moment, and beside that at another where that is asked for.
func (c *call) runShow(x faults.Exercise, s faults.Show) (parts []json.RawMessage, err error) {
	k, err := kind.Find(s.Kind)
	if err != nil {
		return nil, err
	}
	with, err := json.Marshal(s.With)
	if err != nil {
		return nil, err
	}
	var sides []compare.Side
	moments := []string{s.Against, s.At}
	if s.Against == "" {
		moments = moments[1:]
	}
	for _, moment := range moments {
		if moment == "" && !k.TwoEnds {
			moment = "12:00" // in virtual time, at once
		}
		spec, err := k.Decode(kind.ByHand, with)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", x.Name, err)
		}
		m := &measuring{call: c.beside(), kind: k, spec: spec, world: learnPrefix + x.Name, from: x.From, targets: []string{s.Target(x)}, moment: moment}
		if c.format == "text" {
			fmt.Fprintf(c.out, "\n%s\n\n", c.ink.Paint(document.Faint(howTo(x, k, s, moment))))
		}
		err = m.here()
		if c.format == "json" {
			parts = append(parts, bytes.TrimSpace(m.out.(*bytes.Buffer).Bytes()))
		}
		var e exit
		if e, _ = err.(exit); err != nil && e.status != exitNotGood {
			return parts, err
		}
		for _, r := range m.made {
			if r.outcome == nil {
				return parts, exit{exitUnmeasured, fmt.Errorf("%s: %s", s.Kind, r.reason)}
			}
			if found, is := r.outcome.(kind.Comparable); is {
				side := found.Compared()
				side.Name, side.What = x.From+" → "+x.To, s.Kind+" at "+moment
				side.Short = moment
				sides = append(sides, side)
			}
		}
	}
	if s.Against == "" || len(sides) != 2 {
		return parts, nil
	}
	r := compare.Of(sides[0], sides[1])
	if c.format == "json" {
		b, err := json.Marshal(r)
		return append(parts, b), err
	}
	fmt.Fprintln(c.out)
	return parts, c.write(r, comparison(r))
}

// beside is a call that writes to a buffer where several results become one document.
func (c *call) beside() *call {
	if c.format != "json" {
		return c
	}
	other := *c
	other.out = &bytes.Buffer{}
	return &other
}

// howTo is the command that makes a measurement of an exercise.
func howTo(x faults.Exercise, k *kind.Kind, s faults.Show, moment string) string {
	words := []string{"woodlark", k.Name, "-world", learnPrefix + x.Name, "-from", x.From}
	if moment != "" {
		if strings.Contains(moment, " ") {
			moment = "'" + moment + "'"
		}
		words = append(words, "-moment", moment)
	}
	spec := k.New(kind.ByHand)
	for _, f := range kind.FieldsOf(spec) {
		v, given := s.With[f.Name]
		switch {
		case !given:
		case v == true:
			words = append(words, "-"+f.Flag)
		default:
			words = append(words, "-"+f.Flag, fmt.Sprint(v))
		}
	}
	return strings.Join(append(words, s.Target(x)), " ")
}

// listCodes are the codes of findings that exercises are about.
func (c *call) listCodes() error {
	type one struct {
		Code    string `json:"code"`
		Meaning string `json:"meaning"`
	}
	var list []one
	var rows [][]string
	for _, code := range faults.Codes() {
		list = append(list, one{code, faults.Meaning(code)})
		rows = append(rows, []string{code, faults.Meaning(code)})
	}
	return c.write(list, document.Of(document.Table{Columns: []document.Column{{Name: "code"}, {Name: "meaning"}}, Rows: rows}, document.RecordsOf([]string{"code", "meaning"}, rows)))
}

// checked is what came of an answer.
type checked struct {
	Name    string        `json:"name"`
	Right   bool          `json:"right"`
	Fits    []toldMeans   `json:"fits"`
	Wrong   []toldMeans   `json:"wrong"` // it is not so
	Beside  []toldMeans   `json:"beside_the_point"`
	Missing int           `json:"missing"` // how many more are to be concluded
	Where   *checkedWhere `json:"where,omitempty"`
}

type checkedWhere struct {
	Given string `json:"given"`
	Right bool   `json:"right"`
}

// checkAnswer holds a learner's answer against the truth, without telling it.
func (c *call) checkAnswer(x faults.Exercise, answer, where string) error {
	var given []string
	if strings.TrimSpace(answer) != "none" {
		for _, code := range strings.Split(answer, ",") {
			code = strings.TrimSpace(code)
			if faults.Meaning(code) == "" {
				return wrongCall("-answer: %q is no code of a finding; 'woodlark lab learn -codes' lists them", short(code))
			}
			given = append(given, code)
		}
	}
	r := judgeAnswer(x, given, where)
	d := answerRead(x, r, given)
	if err := c.write(r, d); err != nil {
		return err
	}
	if !r.Right {
		return exit{status: exitNotGood}
	}
	return nil
}

func judgeAnswer(x faults.Exercise, given []string, where string) checked {
	r := checked{Name: x.Name, Fits: []toldMeans{}, Wrong: []toldMeans{}, Beside: []toldMeans{}}
	must := map[string]bool{}
	for _, e := range x.Must {
		must[e.Code] = true
	}
	for _, code := range given {
		m := toldMeans{code, faults.Meaning(code)}
		switch {
		case must[code]:
			r.Fits = append(r.Fits, m)
			delete(must, code)
		case slices.Contains(x.MustNot, code) || !x.Fault:
			r.Wrong = append(r.Wrong, m)
		default:
			r.Beside = append(r.Beside, m)
		}
	}
	if r.Missing = len(must); !x.Fault && len(given) == 0 {
		r.Missing = 0 // that something looks odd need not be said where nothing is wrong
	}
	r.Right = len(r.Wrong) == 0 && len(r.Beside) == 0 && r.Missing == 0
	if where != "" {
		r.Where = &checkedWhere{where, slices.ContainsFunc(x.Must, func(e faults.Expectation) bool {
			return e.Hop == where || slices.Contains(e.Hops, where) || e.Branch == where
		})}
		r.Right = r.Right && r.Where.Right
	}
	return r
}

func answerRead(x faults.Exercise, r checked, given []string) (d document.Document) {
	switch {
	case r.Right && len(given) == 0:
		d.Say("Right: nothing is wrong there.")
	case r.Right:
		d.Say("Right.")
	case len(given) == 0:
		d.Say("No: something is wrong there.")
	default:
		d.Say("Not quite.")
	}
	var rows [][]string
	for _, part := range []struct {
		says string
		list []toldMeans
	}{{"is so", r.Fits}, {"is not so", r.Wrong}, {"is beside the point", r.Beside}} {
		for _, m := range part.list {
			d.Say("  %s  %s: %s", document.Strong(m.Code), part.says, m.Meaning)
			rows = append(rows, []string{m.Code, part.says})
		}
	}
	if r.Missing > 0 {
		d.Say("  %d more to be concluded.", r.Missing)
	}
	if w := r.Where; w != nil && !w.Right {
		d.Say("  It is not at %s.", w.Given)
	}
	if !r.Right {
		d.Say("  'woodlark lab learn -run %s' measures; -truth tells.", x.Name)
	}
	d.Records = document.RecordsOf([]string{"code", "verdict"}, rows)
	return d
}
