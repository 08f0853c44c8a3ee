package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/objective"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var objectiveCommand = command{
	name: "objective", summary: "named limits for a purpose: list, show, add, remove; 'woodlark results -objective' holds paths against them",
	usage:   "[list]\nshow NAME\nadd NAME -loss 0.5% -delay 100ms [limits]\nremove NAME",
	example: "woodlark objective add counter -loss 0.5% -rtt 80ms -mos 3.8 -source 'contract of 2026'\nwoodlark results -objective counter -last 7d -from northquay",
	more: "Limits on a delay are spans (80ms), on a ratio percentages (0.5%), on a rate bits a second (20M).\n" +
		"-mos, -there, -back and -availability are the least that is good. A limit one way is held\nagainst half of a round trip where one way is not measured.",
	run: runObjective,
}

// limitOptions are the options of limits, and the measures that they are of.
var limitOptions = []struct {
	name, help string
	of         objective.Measure
}{
	{"loss", "loss, such as 0.5%", objective.Loss}, {"rtt", "mean round trip, such as 80ms", objective.RTT}, {"delay", "mean delay one way", objective.Delay},
	{"jitter", "jitter", objective.Jitter}, {"spread", "mean less minimum of round trips", objective.Spread}, {"variation", "variation of delay one way", objective.Variation},
	{"mos", "least MOS of a call", objective.MOS}, {"there", "least rate there, such as 20M", objective.RateThere}, {"back", "least rate back", objective.RateBack},
	{"availability", "least share of the time with answers, such as 99.9%", objective.Availability},
}

func runObjective(c *call) error {
	texts := make([]string, len(limitOptions))
	var source string
	c.withFormat()
	c.withService()
	for i, l := range limitOptions {
		c.flags.StringVar(&texts[i], l.name, "", l.help)
	}
	c.flags.StringVar(&source, "source", "", "where the limits come from")
	if err := c.parse(); err != nil {
		return err
	}
	verb := "list"
	if len(c.args) > 0 {
		verb = c.args[0]
	}
	if n, known := map[string]int{"list": 1, "show": 2, "add": 2, "remove": 2}[verb]; !known {
		return wrongCall("%q is none of list, show, add, remove", short(verb))
	} else if len(c.args) > n {
		return wrongCall("objective %s has no use for %q", verb, short(c.args[n]))
	} else if len(c.args) < n && verb != "list" {
		return wrongCall("objective %s needs a name", verb)
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	switch verb {
	case "list":
		var list []apitype.Objective
		if err := api.Get(c.ctx, "/objectives", nil, &list); err != nil {
			return err
		}
		return c.writeObjectives(list)
	case "remove":
		if err := api.Do(c.ctx, http.MethodDelete, "/objectives/"+client.Segment(c.args[1]), nil, nil); err != nil {
			return err
		}
		fmt.Fprintln(c.err, "Removed.")
		return nil
	}
	var o apitype.Objective
	if verb == "add" {
		o = apitype.Objective{Name: c.args[1], Source: source, Limits: map[string]float64{}}
		for i, l := range limitOptions {
			if texts[i] == "" {
				continue
			}
			v, err := readLimit(l.of, texts[i])
			if err != nil {
				return wrongCall("-%s: %v", l.name, err)
			}
			o.Limits[string(l.of)] = v
		}
		err = api.Do(c.ctx, http.MethodPost, "/objectives", o, &o)
	} else {
		err = api.Get(c.ctx, "/objectives/"+client.Segment(c.args[1]), nil, &o)
	}
	if err != nil {
		return err
	}
	return c.writeObjectives([]apitype.Objective{o})
}

// readLimit reads a limit as people write it.
func readLimit(m objective.Measure, text string) (float64, error) {
	switch {
	case strings.HasSuffix(string(m), "_ratio"):
		n, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
		v, err := strconv.ParseFloat(strings.TrimSpace(n), 64)
		if err != nil {
			return 0, fmt.Errorf("%q is no share such as 0.5%%", short(text))
		}
		if percent {
			v /= 100
		}
		return v, nil
	case strings.HasSuffix(string(m), "_ms"):
		d, err := readSpan(text)
		if err != nil {
			return 0, fmt.Errorf("%q is no delay such as 80ms", short(text))
		}
		return float64(d) / 1e6, nil
	case strings.HasSuffix(string(m), "_bps"):
		v, err := capacity.ParseRate(text)
		return float64(v), err
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return 0, fmt.Errorf("%q is no number", short(text))
	}
	return v, nil
}

func (c *call) writeObjectives(list []apitype.Objective) error {
	var rows, raw [][]string
	for _, o := range list {
		var limits []string
		for _, m := range objective.Measures() {
			if v, is := o.Limits[string(m)]; is {
				limits = append(limits, report.Limit(string(m), v))
				raw = append(raw, []string{o.Name, string(m), strconv.FormatFloat(v, 'f', -1, 64), o.Source, strconv.FormatBool(o.Ready)})
			}
		}
		rows = append(rows, []string{o.Name, strings.Join(limits, ", "), o.Source})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "objective"}, {Name: "limits"}, {Name: "source"}}, Rows: rows}, document.RecordsOf([]string{"objective", "measure", "limit", "source", "ready_made"}, raw))
	return c.write(list, doc)
}

// fitness holds paths against objectives, one or several.
func (c *call) fitness(api *client.Client, o resultsOptions) error {
	names := list(o.objective)
	if len(names) == 0 {
		return wrongCall("-objective names none; 'woodlark objective' lists them")
	}
	paths, err := c.pathsMeant(api, o.pathOptions)
	if err != nil {
		return err
	}
	query := url.Values{"from_at": {time.Now().Add(-o.last).UTC().Format(time.RFC3339)}}
	var all []apitype.Fitness
	good := true
	for _, p := range paths {
		for _, name := range names {
			query.Set("objective", name)
			var f apitype.Fitness
			if err := api.Get(c.ctx, "/paths/"+p.ID+"/fitness", query, &f); err != nil {
				return err
			}
			all = append(all, f)
			good = good && !slices.ContainsFunc(f.Lines, func(l apitype.FitnessLine) bool { return !l.Met })
		}
	}
	if err := c.write(all, report.Fitness(all, zone()).OrSay(len(all), "No such paths.")); err != nil {
		return err
	}
	if !good {
		return exit{status: exitNotGood}
	}
	return nil
}
