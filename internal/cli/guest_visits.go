package cli

import (
	"fmt"
	"os"
	"strings"
	"time"

	"woodlark.example/core/compare"
	"woodlark.example/core/visitor"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/needfile"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

// needText is what the service is to read a need from: the name of one that is ready-made, or what a
// file holds.
func needText(text string) (string, error) {
	if text == "" || needfile.ReadyMade(text) {
		return text, nil
	}
	b, err := os.ReadFile(text)
	if err != nil {
		if _, none := needfile.NameOrText(text); none != nil && !strings.ContainsAny(text, "./") {
			return "", wrongCall("-need: %v", none)
		}
		return "", wrongCall("-need: %v", err)
	}
	if _, err := needfile.Read(b); err != nil {
		return "", wrongCall("-need: %s: %v", text, err)
	}
	return string(b), nil
}

// visits lists what browsers measured, or shows what one did.
func (c *call) visits(api *client.Client, args []string) error {
	if len(args) > 1 {
		return wrongCall("guest visits has no use for %q", short(args[1]))
	}
	if len(args) == 1 {
		var v apitype.Visit
		if err := api.Get(c.ctx, "/visits/"+client.Segment(args[0]), nil, &v); err != nil {
			return err
		}
		return c.write(v, visitRead(v))
	}
	list := []apitype.Visit{}
	if err := api.Get(c.ctx, "/visits", nil, &list); err != nil {
		return err
	}
	var rows, records [][]string
	for _, v := range list {
		says := v.Sentence
		if v.Outcome != "done" {
			says = document.Faint("went away before the end")
		}
		rows = append(rows, []string{report.When(v.StartedAt, zone()), v.Title, v.Address, fmt.Sprintf("%s for %d", v.Need, v.Seats), says, document.Faint(v.ID)})
		records = append(records, []string{v.ID, v.LinkID, v.Title, v.StartedAt.UTC().Format(time.RFC3339), v.Address, v.Outcome, v.Need, fmt.Sprint(v.Seats), v.Answer, v.Sentence, v.Words})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "when"}, {Name: "link"}, {Name: "from"}, {Name: "asked"}, {Name: "answer"}, {Name: ""}}, Rows: rows},
		document.RecordsOf([]string{"visit", "link", "title", "started_at", "address", "outcome", "need", "seats", "answer", "sentence", "words"}, records))
	return c.write(list, doc.OrSay(len(list), "Nobody measured by a guest link yet. 'woodlark guest add readiness' makes one."))
}

// words is on whose word a figure rests.
var onWhoseWord = map[visitor.By]string{visitor.ByVisitor: "by the visitor's word", visitor.ByService: "seen by the service", visitor.ByBoth: "seen by the service, against what the visitor sent"}

// visitRead is how a visit reads.
func visitRead(v apitype.Visit) (d document.Document) {
	d.Add(document.Finding{Sign: "›", Text: v.Sentence})
	if v.Outcome != "done" {
		d.Say("The visitor went away before the end.")
	}
	if v.Words != "" {
		d.Say("“%s”", v.Words)
	}
	d.Gap()
	d.Field("link", "%s", v.Title)
	d.Field("when", "%s", report.When(v.StartedAt, zone()))
	d.Field("from", "%s  %s", v.Address, document.Faint(v.Agent))
	d.Field("asked", "%s for %d", v.Need, v.Seats)
	if v.Problem != "" {
		d.Field("problem", "%s", v.Problem)
	}
	if v.Route != "" {
		d.Field("route", "woodlark runs show %s", v.Route)
	}
	d.Gap()
	t := document.Table{Indent: 2, Columns: []document.Column{{Name: "figure"}, {Name: "way"}, {Name: "measured", Right: true}, {Name: "on whose word"}}}
	columns := []string{"figure", "way", "unit", "value", "by"}
	var records [][]string
	add := func(what, way, unit string, value *float64, by visitor.By) {
		written := "–"
		if value != nil {
			written = compare.Written(*value, unit)
		}
		t.Rows = append(t.Rows, []string{what, way, written, document.Faint(onWhoseWord[by])})
		records = append(records, []string{what, way, unit, report.Cell(value), string(by)})
	}
	if f := v.Found; f != nil {
		visitFigures(*f, add)
		d.Add(t)
		for _, n := range f.Notes {
			d.Say("  %s", document.Faint(n))
		}
		for _, a := range f.Answer.Advice {
			d.Say("  %s", a)
		}
	}
	d.Records = document.RecordsOf(columns, records)
	return d
}

func visitFigures(f apitype.VisitFound, add func(what, way, unit string, value *float64, by visitor.By)) {
	ways := map[bool]string{true: "there", false: "back"}
	for _, t := range []struct {
		what string
		trip *visitor.TripFound
	}{{"RTT at rest, over HTTP", f.Rest}, {"RTT at rest, of packets", f.Packets}} {
		if t.trip != nil {
			add(t.what, "", "ms", t.trip.MedianMs, t.trip.By)
		}
	}
	for _, w := range f.Ways {
		way := ways[w.There]
		add("loss", way, "ratio", w.LossRatio, w.By)
		add("delay, mean", way, "ms", w.MeanMs, w.By)
		add("delay variation", way, "ms", w.Variation, w.By)
		add("out of order", way, "ratio", w.Reorder, w.By)
	}
	for _, r := range f.Rates {
		add("rate of HTTP's payload", ways[r.There], "bit/s", r.Bps, r.By)
	}
	for _, l := range f.Loaded {
		add("RTT under load", ways[l.There], "ms", l.MedianMs, l.By)
	}
}
