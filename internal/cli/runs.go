package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/report/document/pdf"
)

var runsCommand = command{
	name: "runs", summary: "what goes on and went on: list, show, follow, stop, resume, report",
	usage:   "list [options]\nshow ID\nfollow ID\nstop ID\nresume ID\nreport ID -out FILE",
	example: "woodlark runs list -since 24h -outcome failed\nwoodlark runs list -running\nwoodlark runs stop 0190a1b2-0000-7000-8000-000000000000",
	more: "Runs of every kind of measurement, by hand and of watches. 'stop' ends the measurement\n" +
		"that a run is of, with the runs that were begun together with it; what was measured\n" +
		"until then is kept. 'resume' goes on with one that was stopped or cut, of kinds that can:\n" +
		"so a long test is paused. 'report' writes what was found as HTML or PDF, by the file's end. 'follow' waits for the end and shows what was found.",
	run: runRuns,
}

type runsOptions struct {
	kind, via, from, to, watch, outcome, since string
	running                                    bool
	limit                                      int
	key, keyFile, out                          string
}

func runRuns(c *call) error { return runsOfKind(c, "") }

// runsOfKind is the same of one kind, whose command has these verbs, too.
func runsOfKind(c *call, only string) error {
	o := runsOptions{kind: only}
	c.withFormat()
	c.withService()
	f := c.flags
	f.StringVar(&o.kind, "kind", only, "of this kind only: "+strings.Join(kind.Names(), ", "))
	f.StringVar(&o.from, "from", "", "of this agent only")
	f.StringVar(&o.to, "to", "", "to this target only, as it was asked for")
	f.StringVar(&o.via, "via", "", "by this kind of probe only")
	f.StringVar(&o.watch, "watch", "", "of this watch only")
	f.StringVar(&o.outcome, "outcome", "", "running, done, failed, missed or cancelled only")
	f.BoolVar(&o.running, "running", false, "only those that go on")
	f.StringVar(&o.since, "since", "", "begun since: a time, a date, or so long ago as 2h or 7d")
	f.IntVar(&o.limit, "limit", 50, "so many of the newest; 0 for all")
	f.StringVar(&o.out, "out", "", "of report: file to write it to, which ends in .html or .pdf")
	registerKey(f, &o.key, &o.keyFile)
	if err := c.parse(); err != nil {
		return err
	}
	verb, args := "list", c.args
	if len(args) > 0 {
		verb, args = args[0], args[1:]
	}
	takes, known := map[string]int{"list": 0, "show": 1, "follow": 1, "stop": 1, "resume": 1, "report": 1}[verb]
	switch {
	case !known:
		return wrongCall("%q is none of list, show, follow, stop, resume, report", short(verb))
	case len(args) < takes:
		return wrongCall("runs %s needs the identifier of a run; 'woodlark runs list' shows them", verb)
	case len(args) > takes:
		return wrongCall("runs %s has no use for %q", verb, short(args[takes]))
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	switch verb {
	case "list":
		return c.listRuns(api, o)
	case "stop":
		return c.stopRun(api, args[0])
	case "report":
		return c.reportRun(api, args[0], o.out)
	case "resume":
		var list []apitype.Run
		key, err := sharedKey(o.key, o.keyFile)
		if err != nil {
			return err
		}
		if err := api.Do(c.ctx, http.MethodPost, "/runs/"+client.Segment(args[0])+"/resume", apitype.Resume{Key: key}, &list); err != nil {
			return err
		}
		return c.leftRunning(list)
	}
	return c.showRun(api, args[0], verb == "follow")
}

func (c *call) listRuns(api *client.Client, o runsOptions) error {
	if o.running {
		if o.outcome != "" && o.outcome != string(kind.Running) {
			return wrongCall("-running and -outcome %s exclude each other", short(o.outcome))
		}
		o.outcome = string(kind.Running)
	}
	q := url.Values{"kind": {o.kind}, "via": {o.via}, "from": {o.from}, "to": {o.to}, "watch": {o.watch}, "outcome": {o.outcome}}
	for key, v := range q {
		if v[0] == "" {
			q.Del(key)
		}
	}
	if o.since != "" {
		at, err := readWhen(o.since, time.Now())
		if err != nil {
			return wrongCall("-since: %v", err)
		}
		q.Set("from_at", at.UTC().Format(time.RFC3339Nano))
	}
	if o.limit < 0 {
		return wrongCall("-limit %d is below zero", o.limit)
	}
	list, err := c.runsOf(api, q, o.limit)
	if err != nil {
		return err
	}
	return c.writeRuns(list)
}

// runsOf are the newest runs that a query means, at most so many; all when that is 0.
func (c *call) runsOf(api *client.Client, q url.Values, most int) ([]apitype.Run, error) {
	list := []apitype.Run{}
	for {
		page := pageOfRuns
		if most > 0 {
			page = min(page, most-len(list))
		}
		q.Set("limit", strconv.Itoa(page))
		var more []apitype.Run
		if err := api.Get(c.ctx, "/runs", q, &more); err != nil {
			return nil, err
		}
		list = append(list, more...)
		if len(more) < page || len(list) == most {
			return list, nil
		}
		last := more[len(more)-1]
		q.Set("before_at", last.StartAt.Format(time.RFC3339Nano))
		q.Set("before_id", last.ID)
	}
}

const pageOfRuns = 1000

func (c *call) writeRuns(list []apitype.Run) error {
	return c.write(list, report.Runs(list, zone()).OrSay(len(list), "No such runs."))
}

func (c *call) stopRun(api *client.Client, id string) error {
	if err := api.Do(c.ctx, http.MethodDelete, "/runs/"+client.Segment(id), nil, nil); err != nil {
		return err
	}
	// What was measured until then comes from the agent in a moment.
	ctx, cancel := context.WithTimeout(c.ctx, stopTime)
	defer cancel()
	for {
		var r apitype.Run
		if err := api.Get(ctx, "/runs/"+client.Segment(id), nil, &r); err != nil {
			return err
		}
		if r.Outcome != string(kind.Running) {
			fmt.Fprintf(c.out, "%s  %s: %s\n", r.ID, r.Outcome, r.Reason)
			return nil
		}
		select {
		case <-ctx.Done():
			return exit{exitUnmeasured, fmt.Errorf("run %s was told to stop; what it measured has not come yet", id)}
		case <-time.After(pollEvery):
		}
	}
}

// showRun shows what a run found, or how far it is.
// reportRun writes what a run found as a page or a PDF.
func (c *call) reportRun(api *client.Client, id, out string) error {
	var r apitype.Run
	if err := api.Get(c.ctx, "/runs/"+client.Segment(id), nil, &r); err != nil {
		return err
	}
	k, err := kind.Find(r.Kind)
	if err != nil {
		return exit{exitUnmeasured, fmt.Errorf("this program (an older one?) does not know it: %w", err)}
	}
	if r.Result == nil {
		return exit{exitUnmeasured, fmt.Errorf("there is nothing to report of run %s: %s %s", id, r.Outcome, r.Reason)}
	}
	found, err := k.ReadResult(k.Version, json.RawMessage(r.Result))
	if err != nil {
		return err
	}
	return c.writeReport(out, k, found)
}

// writeReport writes a result into a file, by the file's end as a page or as a PDF.
func (c *call) writeReport(out string, k *kind.Kind, found any) error {
	page, paged := strings.HasSuffix(out, ".html"), strings.HasSuffix(out, ".pdf")
	if !page && !paged {
		return wrongCall("-out %q ends in neither .html nor .pdf", short(out))
	}
	file, err := newFile(out)
	if err != nil {
		return err
	}
	d := k.Document([]any{found}, zone())
	now := time.Now()
	title := "Woodlark: " + k.Name
	if t, is := found.(interface{ Title() string }); is {
		title = t.Title()
	}
	about := document.About{Title: title, Subject: k.Summary, Made: "Printed " + now.In(zone()).Format("Mon 2 Jan 2006 15:04 MST") + " by Woodlark " + Version}
	if page {
		err = document.HTML(file, about, d)
	} else {
		err = pdf.Print(file, about, now, d)
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return fmt.Errorf("write %s: %w", out, err)
	}
	fmt.Fprintf(c.err, "%s is written.\n", out)
	return nil
}

func (c *call) showRun(api *client.Client, id string, follow bool) error {
	var r apitype.Run
	if err := api.Get(c.ctx, "/runs/"+client.Segment(id), nil, &r); err != nil {
		return err
	}
	k, err := kind.Find(r.Kind)
	if err != nil {
		return exit{exitUnmeasured, fmt.Errorf("this program (an older one?) does not know it: %w", err)}
	}
	m := &measuring{call: c, kind: k, spec: k.New(kind.Standing), from: r.From}
	if follow {
		return m.follow(api, []apitype.Run{r})
	}
	if c.format == "json" {
		return document.JSON(c.out, r)
	}
	if c.format == "text" || r.Result == nil {
		if err := c.writeRuns([]apitype.Run{r}); err != nil || c.format == "csv" {
			return err
		}
		fmt.Fprintln(c.out)
	}
	if r.Outcome == string(kind.Running) {
		says := r.Says
		if r.Of > 0 {
			says = report.Heard(r)
		}
		fmt.Fprintf(c.out, "It goes on: %s. 'woodlark runs follow %s' waits for its end.\n", strings.TrimSpace(says), r.ID)
		return nil
	}
	if r.Result == nil {
		return exit{exitUnmeasured, fmt.Errorf("%s: %s", r.Outcome, r.Reason)}
	}
	found, err := k.ReadResult(k.Version, json.RawMessage(r.Result))
	if err != nil {
		return err
	}
	return m.finish([]result{{laneOf(r), kind.State(r.Outcome), r.Reason, found}})
}
