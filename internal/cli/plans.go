package cli

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"slices"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report/document"
)

// plans lists the plans that the service keeps of a kind, keeps one, or forgets one.
func (m *measuring) plans(verb string) error {
	if takes := map[string]int{"plans": 0, "keep": 1, "forget": 1}[verb]; len(m.args) != takes {
		return wrongCall("%s %s takes %s", m.kind.Name, verb, map[int]string{0: "nothing more", 1: "the name of a plan"}[takes])
	}
	api, err := m.client()
	if err != nil {
		return err
	}
	switch verb {
	case "forget":
		if err := api.Do(m.ctx, http.MethodDelete, "/plans/"+client.Segment(m.args[0]), nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(m.out, "The plan %s is forgotten; its runs stay.\n", m.args[0])
		return nil
	case "keep":
		return m.keep(api, m.args[0])
	}
	var list []apitype.Plan
	if err := api.Get(m.ctx, "/plans", nil, &list); err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(p apitype.Plan) bool { return p.Kind != m.kind.Name })
	t := document.Table{Columns: []document.Column{{Name: "plan"}, {Name: "revision", Right: true}, {Name: "changed"}, {Name: "by"}}}
	var rows [][]string
	for _, p := range list {
		changed := p.ChangedAt.In(zone()).Format("Mon 2 Jan 2006 15:04")
		t.Rows = append(t.Rows, []string{document.Strong(p.Name), fmt.Sprint(p.Revision), changed, p.ChangedBy})
		rows = append(rows, []string{p.Name, fmt.Sprint(p.Revision), p.ChangedAt.Format("2006-01-02T15:04:05Z07:00"), p.ChangedBy})
	}
	return m.write(list, document.Of(t, document.RecordsOf([]string{"plan", "revision", "changed_at", "changed_by"}, rows)).OrSay(len(list), "No plans are kept: 'woodlark "+m.kind.Name+" keep NAME' keeps one."))
}

// keep keeps what the options say under a name, over what is there.
func (m *measuring) keep(api *client.Client, name string) error {
	if err := m.settled(); err != nil {
		return err
	}
	if err := m.spec.Check(); err != nil {
		return exit{exitWrongCall, kind.ByFlag(m.spec, err)}
	}
	how, err := m.kind.Give(m.spec)
	if err != nil {
		return err
	}
	change := apitype.PlanChange{Name: name, Kind: m.kind.Name, How: how}
	var was, kept apitype.Plan
	err = api.Get(m.ctx, "/plans/"+client.Segment(name), nil, &was)
	var p *client.Problem
	switch {
	case err == nil:
		change.Revision = was.Revision
		err = api.Do(m.ctx, http.MethodPut, "/plans/"+was.ID, change, &kept)
	case errors.As(err, &p) && p.Status == http.StatusNotFound:
		err = api.Do(m.ctx, http.MethodPost, "/plans", change, &kept)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(m.out, "The plan %s is kept, revision %d; '-kept %q' runs it.\n", kept.Name, kept.Revision, kept.Name)
	return nil
}

// takeKept takes what a plan says that the service keeps; options that are given go over it.
func (m *measuring) takeKept() error {
	api, err := m.client()
	if err != nil {
		return err
	}
	var p apitype.Plan
	if err := api.Get(m.ctx, "/plans/"+client.Segment(m.kept), nil, &p); err != nil {
		return err
	}
	if p.Kind != m.kind.Name {
		return wrongCall("-kept %s is a plan of %s", m.kept, p.Kind)
	}
	spec, err := m.kind.Take(kind.Standing, map[string]json.RawMessage(p.How))
	if err != nil {
		return exit{exitUnmeasured, fmt.Errorf("this program (an older one?) does not know the plan: %w", err)}
	}
	given := map[string]string{}
	m.flags.Visit(func(f *flag.Flag) { given[f.Name] = f.Value.String() })
	mine := kind.FieldsOf(m.spec)
	for i, f := range kind.FieldsOf(spec) {
		if _, is := given[f.Flag]; !is {
			mine[i].SetTo(f)
		}
	}
	return nil
}
