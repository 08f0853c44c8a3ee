package accept

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/report/document"
	"woodlark.example/wire"
)

// good reports whether all came to their end, and all limits are met.
func good(all []any) bool {
	for _, x := range all {
		r, is := x.(*Result)
		if !is {
			continue // an estimate
		}
		if !r.Complete || r.Found.Stopped != "" || r.Found.Verdict == acceptance.Fail || r.Found.Verdict == acceptance.Unknown {
			return false
		}
	}
	return true
}

// says writes how far it is.
func says(p kind.Progress) string {
	text := p.Says
	if t, is := p.More.(Told); is {
		part := ""
		if p.Of > 0 {
			part = fmt.Sprintf("%.0f %%, ", 100*float64(p.Done)/float64(p.Of))
		}
		text = fmt.Sprintf("%sabout %s left: %s", part, figure.FormatSpan(time.Duration(max(0, p.Of-p.Done))*time.Millisecond), p.Says)
		if t.Lost > 0 {
			text += fmt.Sprintf("   %d lost there so far", t.Lost)
		}
	}
	return text
}

// read is how results read: the verdict first, then the evidence.
func read(all []any, zone *time.Location) document.Document {
	list := make([]document.Document, len(all))
	for i, x := range all {
		switch r := x.(type) {
		case *Result:
			list[i] = documentOf(r, zone)
		case *Estimated:
			list[i] = r.document()
		}
	}
	return document.Join(list...)
}

// verdicts are the words of verdicts.
var verdicts = map[acceptance.Verdict]string{acceptance.Pass: "passed", acceptance.Fail: "missed", acceptance.Unknown: "not told", acceptance.None: "no limit"}

func marked(v acceptance.Verdict) string {
	text := verdicts[v]
	switch v {
	case acceptance.Fail:
		return document.Lost(text)
	case acceptance.Unknown:
		return document.Changed(text)
	}
	return text
}

// Title is what the report is called.
func (r *Result) Title() string { return cmp.Or(r.Plan.About.Title, r.Plan.Name, "Acceptance test") }

func documentOf(r *Result, zone *time.Location) document.Document {
	var d document.Document
	p, a := r.Plan, r.Plan.About
	d.Say("%s  %s", document.Strong(r.Title()), document.Faint(what(p)))
	d.Say("  %s", verdictLine(r))
	for _, f := range r.Findings {
		d.Add(document.Finding{Sign: signOf(f), Text: f.Sentence, Advice: f.Advice})
	}
	if r.Problem != "" && !r.Complete {
		d.Say("  %s", document.Changed("It ended early: "+r.Problem))
	}
	d.Gap()
	for _, x := range [][2]string{{"customer", a.Customer}, {"order", a.Order}, {"place", a.Place}, {"technician", a.Technician}, {"comment", a.Comment}} {
		if x[1] != "" {
			d.Field(x[0], "%s", x[1])
		}
	}
	d.Field("from", "%s", end(r.From, r.Near))
	d.Field("to", "%s", end(cmp.Or(r.To, r.Target)+"  "+document.Faint(r.Address), r.Far))
	d.Field("begun", "%s, %s", r.StartedAt.In(zone).Format("Mon 2 Jan 2006 15:04:05 MST"), took(r))
	criteria(&d, r)
	for _, s := range r.Found.Services {
		serviceOf(&d, s)
	}
	sizes(&d, r)
	conditions(&d, r)
	signature(&d)
	d.Records = records(r)
	return d
}

// signOf stands before a finding: what is bad is marked.
func signOf(f finding.Finding) string {
	if f.Bad() {
		return "!"
	}
	return "›"
}

func verdictLine(r *Result) string {
	n := map[acceptance.Verdict]int{}
	for _, c := range r.Found.Criteria {
		n[c.Verdict]++
	}
	text := fmt.Sprintf("%d limits: %d passed, %d missed, %d could not be told", len(r.Found.Criteria), n[acceptance.Pass], n[acceptance.Fail], n[acceptance.Unknown])
	if len(r.Found.Criteria) == 0 {
		text = "no limit is set: figures only"
	}
	return text
}

// what names what the plan tests.
func what(p acceptance.Plan) string {
	var parts []string
	if p.BySize != nil {
		parts = append(parts, "by frame size (RFC 2544)")
	}
	if p.By != nil {
		parts = append(parts, "by service (ITU-T Y.1564)")
	}
	way := map[acceptance.Way]string{acceptance.There: "there only", acceptance.Back: "back only", acceptance.Each: "one way after the other"}[p.Way]
	if way == "" {
		way = "both ways at once"
	}
	if p.Ends == acceptance.Returned {
		way = "returned by the far end: round trip only"
	}
	return strings.Join(append(parts, way), ", ")
}

func end(name string, e End) string {
	parts := []string{name}
	if e.Is != "" {
		parts = append(parts, e.Is)
	}
	if l := e.Link; l.Interface != "" {
		parts = append(parts, linkSays(l))
	}
	return strings.Join(parts, document.Faint(", "))
}

func linkSays(l session.Link) string {
	text := "by " + l.Interface
	if l.SpeedBps > 0 {
		text += " at " + capacity.Rate(l.SpeedBps).String()
	}
	if l.Duplex != "" {
		text += " " + l.Duplex + " duplex"
	}
	if l.Driver != "" {
		text += " (" + l.Driver + ")"
	}
	return text
}

func took(r *Result) string {
	text := figure.FormatSpan(r.EndedAt.Sub(r.StartedAt))
	if r.Estimate.Most > 0 {
		text += fmt.Sprintf(" (%s to %s were estimated)", figure.FormatSpan(r.Estimate.Least.D()), figure.FormatSpan(r.Estimate.Most.D()))
	}
	return text
}

// figureName is what a figure is called.
func figureName(f acceptance.Figure) string {
	if f == acceptance.FThroughput {
		return "throughput"
	}
	return string(f)
}

// where names what a criterion is of.
func where(c acceptance.Criterion) string {
	text := c.Service
	if c.Size > 0 {
		text = fmt.Sprintf("%d bytes", c.Size)
	}
	if c.At != "" {
		text += ", " + c.At
	}
	return text
}

func criteria(d *document.Document, r *Result) {
	if len(r.Found.Criteria) == 0 {
		return
	}
	d.Section("Limits")
	t := document.Table{Indent: 2, Columns: []document.Column{{Name: "verdict"}, {Name: "figure"}, {Name: "of"}, {Name: "way"}, {Name: "measured", Right: true}, {Name: "limit", Right: true}, {Name: "margin", Right: true}}}
	for _, c := range r.Found.Criteria {
		bound := "≤ "
		if c.AtLeast {
			bound = "≥ "
		}
		t.Rows = append(t.Rows, []string{marked(c.Verdict), figureName(c.Figure), where(c), wayName(r.Plan, c.There), amount(c.Measured, c.Unit), bound + finding.AmountSays(c.Limit, c.Unit), margin(c)})
	}
	d.Add(t)
	for _, c := range r.Found.Criteria {
		if c.Why != "" && c.Verdict != acceptance.Pass {
			d.Say("    %s", document.Faint(fmt.Sprintf("%s %s, %s: %s", figureName(c.Figure), wayName(r.Plan, c.There), where(c), c.Why)))
		}
	}
	said := map[string]bool{}
	for _, c := range r.Found.Criteria {
		if c.Why != "" && c.Verdict == acceptance.Pass && !said[c.Why] {
			said[c.Why] = true
			d.Say("    %s", document.Faint(fmt.Sprintf("%s, %s: %s", figureName(c.Figure), where(c), c.Why)))
		}
	}
}

func wayName(p acceptance.Plan, there bool) string {
	switch {
	case p.Ends == acceptance.Returned:
		return "round trip"
	case there:
		return "there"
	}
	return "back"
}

func amount(v *float64, unit string) string {
	if v == nil {
		return "–"
	}
	return finding.AmountSays(*v, unit)
}

func margin(c acceptance.Criterion) string {
	if c.Margin == nil {
		return "–"
	}
	s := "+"
	v := *c.Margin
	if v < 0 {
		s, v = "−", -v
	}
	return s + finding.AmountSays(v, c.Unit)
}

func bps(v float64) string { return capacity.Rate(v).String() }

// loss is a ratio with its interval.
func loss(s acceptance.Step) string {
	if s.Loss == nil {
		return "–"
	}
	if s.Lost == 0 {
		return fmt.Sprintf("0 of %d", s.Sent)
	}
	return fmt.Sprintf("%s (%s–%s)", figure.FormatRatio(*s.Loss), figure.FormatRatio(*s.LossLow), figure.FormatRatio(*s.LossHigh))
}

func delay(x *acceptance.Delay) (mean, variation string) {
	if x == nil {
		return "–", "–"
	}
	mean = figure.FormatMs(x.MeanMs)
	if x.Of == acceptance.OneWay && x.ErrorMs > 0 {
		mean += fmt.Sprintf(" ±%s", figure.FormatMs(x.ErrorMs))
	}
	return mean, figure.FormatMs(x.VariationMs())
}

func serviceOf(d *document.Document, s acceptance.ServiceResult) {
	d.Section("Service " + s.Service)
	t := document.Table{Indent: 2, Columns: []document.Column{{Name: "step"}, {Name: "way"}, {Name: "offered", Right: true}, {Name: "received", Right: true}, {Name: "lost", Right: true}, {Name: "delay", Right: true}, {Name: "variation", Right: true}}}
	row := func(name string, w acceptance.ServiceWay, x *acceptance.Step) {
		if x == nil {
			return
		}
		way := "back"
		if w.There {
			way = "there"
		}
		mean, variation := delay(x.Delay)
		t.Rows = append(t.Rows, []string{name, way, bps(x.Offered.FrameBps), bps(x.Received.FrameBps), loss(*x), mean, variation})
	}
	for _, w := range s.Ways {
		for i := range w.Steps {
			row(fmt.Sprintf("%.0f %% of CIR", 100*w.Steps[i].Share), w, &w.Steps[i])
		}
		row("CIR + EIR", w, w.Excess)
		row("policing", w, w.Policing)
		row("green", w, w.Green)
		if w.Run != nil {
			row("performance", w, &w.Run.Step)
		}
	}
	d.Add(t)
	for _, w := range s.Ways {
		way := "back"
		if w.There {
			way = "there"
		}
		if w.Through != nil {
			d.Field(way, "policing lets %s through in the end; CIR + EIR is %s", bps(*w.Through), bps(w.CIR.FrameBps+w.EIR.FrameBps))
		}
		for i, b := range []*acceptance.BurstSize{w.CBS, w.EBS} {
			if b != nil {
				d.Field(way, "%s: %d bytes were sent at once, %.0f are carried whole", []string{"CBS", "CBS + EBS"}[i], b.Asked, b.Found)
			}
		}
		if w.Run != nil && w.Run.Availability != nil {
			d.Field(way, "available for %s of %s; %d severely errored seconds, %d unavailable ones", figure.FormatRatio(*w.Run.Availability), figure.FormatSpan(time.Duration(w.Run.Seconds.Seconds)*time.Second), w.Run.Seconds.Severe, w.Run.Seconds.Unavailable)
		}
	}
	g := document.Graph{Title: fmt.Sprintf("Service %s: what was offered in each step, and what arrived", s.Service), Across: "offered, Mbit/s", Unit: "Mbit/s"}
	for _, w := range s.Ways {
		name := "back"
		if w.There {
			name = "there"
		}
		l := document.GraphLine{Name: "received " + name}
		steps := slices.Clone(w.Steps)
		for _, x := range []*acceptance.Step{w.Excess, w.Policing} {
			if x != nil {
				steps = append(steps, *x)
			}
		}
		for _, x := range steps {
			l.Points = append(l.Points, [2]float64{x.Offered.FrameBps / 1e6, x.Received.FrameBps / 1e6})
		}
		g.Lines = append(g.Lines, l)
		if w.CIR.FrameBps > 0 && len(g.Limits) == 0 {
			g.Limits = append(g.Limits, document.GraphLimit{At: w.CIR.FrameBps / 1e6, Says: "CIR"})
			if w.EIR.FrameBps > 0 {
				g.Limits = append(g.Limits, document.GraphLimit{At: (w.CIR.FrameBps + w.EIR.FrameBps) / 1e6, Says: "CIR + EIR"})
			}
		}
	}
	if len(g.Lines) > 0 && len(g.Lines[0].Points) > 1 {
		d.Add(g)
	}
}

// sizes are the figures by frame size: a table for each part, and pictures.
func sizes(d *document.Document, r *Result) {
	if len(r.Found.Sizes) == 0 {
		return
	}
	d.Section("By frame size")
	within := "IP"
	if r.Plan.Over == acceptance.Frame {
		within = "within"
	}
	t := document.Table{Indent: 2, Columns: []document.Column{{Name: "bytes", Right: true}, {Name: "way"}, {Name: "frames/s", Right: true}, {Name: "frame", Right: true}, {Name: "line", Right: true}, {Name: within, Right: true},
		{Name: "delay", Right: true}, {Name: "variation", Right: true}, {Name: "burst", Right: true}, {Name: "lost at the highest", Right: true}}}
	for _, s := range r.Found.Sizes {
		for _, w := range s.Ways {
			row := []string{strconv.Itoa(s.Size), wayName(r.Plan, w.There), "–", "–", "–", "–", "–", "–", "–", "–"}
			if x := w.Throughput; x != nil {
				row[2], row[3], row[4], row[5] = fmt.Sprintf("%.1f", x.Rates.FPS), bps(x.Rates.FrameBps), bps(x.Rates.LineBps), bps(x.Rates.IPBps)
				switch {
				case x.TooLarge:
					row[2], row[3], row[4], row[5] = "do not fit", "–", "–", "–"
				case x.Limited != "":
					row[2] += " *"
				}
			}
			if w.Latency != nil {
				row[6], row[7] = delay(&w.Latency.Delay)
			}
			if b := w.Burst; b != nil {
				row[8] = fmt.Sprintf("%.0f", b.Frames)
				if b.All {
					row[8] = "≥ " + row[8]
				}
			}
			if len(w.Loss) > 0 {
				row[9] = loss(w.Loss[0])
			}
			t.Rows = append(t.Rows, row)
		}
	}
	d.Add(t)
	for _, s := range r.Found.Sizes {
		for _, w := range s.Ways {
			if w.Throughput != nil && w.Throughput.Limited != "" {
				d.Say("    %s", document.Faint(fmt.Sprintf("* %d bytes %s: limited by a host, and not the circuit's: %s", s.Size, wayName(r.Plan, w.There), w.Throughput.Limited)))
			}
			if b := w.Burst; b != nil && b.Buffer != nil {
				d.Say("    %s", document.Faint(fmt.Sprintf("%d bytes %s: bursts left at %s; %.0f frames of the longest waited, for %s (RFC 9004)", s.Size, wayName(r.Plan, w.There), bps(b.Rate.FrameBps), *b.Buffer, figure.FormatMs(*b.BufferMs))))
			}
		}
	}
	graphs(d, r)
}

// conditions are what the figures hold under.
func conditions(d *document.Document, r *Result) {
	d.Section("Conditions")
	p := r.Plan
	more := ""
	if p.Over == acceptance.Frame {
		more = ", within without their header, tags, labels and FCS"
	}
	d.Field("rates", "of the %s layer where they are in bit/s and no layer is named; frames count with their FCS, on the line with 20 bytes more each%s", p.LayerOf(), more)
	d.Field("frames", "%s; each with its number, when it left and a check", packed(p))
	d.Field("here", "%s, clock %s", orNone(built(r.Near)), orNone(r.Near.Clock))
	d.Field("there", "%s, clock %s", orNone(built(r.Far)), orNone(r.Far.Clock))
	var list []string
	for _, h := range r.Found.Host {
		list = append(list, fmt.Sprintf("%.0f of %d bytes", h.Rates.FPS, h.Size))
	}
	if len(list) > 0 {
		d.Field("host", "this host sends itself, in frames a second: %s", strings.Join(list, ", "))
	}
	if l := r.Found.Look; l != nil && l.RTTMs != nil {
		d.Field("RTT", "%s at rest", figure.FormatMs(*l.RTTMs))
	}
	if l := r.Found.Look; l != nil && l.MTUThere > 0 {
		back := "none of that size back"
		if l.MTUBack > 0 {
			back = fmt.Sprintf("of %d bytes back", l.MTUBack)
		}
		d.Field("path MTU", "IP packets of %d bytes come through whole there, %s (larger than %d were not tried)", l.MTUThere, back, p.LargestIP())
	}
	text := fmt.Sprintf("%d trials", r.Found.Trials)
	if r.Found.Again > 0 {
		text += fmt.Sprintf(", %d of them made again because a host was late", r.Found.Again)
	}
	d.Field("made", "%s; 2 s are waited behind each, %v rested between", text, p.Rest())
	for _, n := range r.Found.Notes {
		d.Say("  %s", n)
	}
}

// packed is how frames of a plan look.
func packed(p acceptance.Plan) string {
	pack := p.Packing()
	var with []string
	for _, t := range p.TagsOf(acceptance.Load{Service: -1}) {
		with = append(with, fmt.Sprintf("%s VLAN %d priority %d", t.Type, t.VLAN, t.Priority))
	}
	for _, l := range p.Ethernet.Labels {
		with = append(with, fmt.Sprintf("MPLS label %d", l))
	}
	if p.Over == acceptance.Frame {
		text := fmt.Sprintf("Ethernet on the link of %s, without IP, EtherType 0x%04x", p.Ethernet.Interface, wire.TypeLocal)
		if len(with) > 0 {
			text += ", with " + strings.Join(with, ", ")
		}
		return text
	}
	text := fmt.Sprintf("IPv%d, UDP", pack.Family)
	if len(with) > 0 {
		text += "; counted with what the circuit adds: " + strings.Join(with, ", ")
	}
	return text
}

func built(x End) string { return strings.TrimSpace(x.Version + " " + x.System) }

func orNone(s string) string { return cmp.Or(s, "not known") }

// signature is room for who stands for it.
func signature(d *document.Document) {
	d.Gap()
	d.Say("  Date ____________   Technician ____________________   Customer ____________________")
}

// Estimated is what a plan takes, before anything is sent.
type Estimated struct {
	Plan     acceptance.Plan     `json:"plan"`
	Estimate acceptance.Estimate `json:"estimate"`
}

func (x *Estimated) document() document.Document {
	var d document.Document
	e := x.Estimate
	d.Say("%s  %s", document.Strong(cmp.Or(x.Plan.Name, "Acceptance test")), document.Faint(what(x.Plan)))
	if e.Least == e.Most {
		d.Field("takes", "%s, %d trials", figure.FormatSpan(e.Most.D()), e.Trials)
	} else {
		d.Field("takes", "%s to %s, %d to %d trials: a search ends sooner or later by what it finds", figure.FormatSpan(e.Least.D()), figure.FormatSpan(e.Most.D()), e.Trials, e.MostTrials)
	}
	gb := func(n int64) string { return fmt.Sprintf("%.3g GB", float64(n)/1e9) }
	d.Field("sends", "%s to %s there, %s to %s back, of frames with FCS", gb(e.LeastThere), gb(e.MostThere), gb(e.LeastBack), gb(e.MostBack))
	if x.Plan.BySize != nil {
		d.Say("  %s", document.Changed("Tests by frame size fill the circuit: it must carry nothing else then (RFC 6815)."))
	}
	rows := [][]string{{strconv.FormatFloat(e.Least.D().Seconds(), 'f', 1, 64), strconv.FormatFloat(e.Most.D().Seconds(), 'f', 1, 64), strconv.Itoa(e.Trials), strconv.Itoa(e.MostTrials), strconv.FormatInt(e.LeastThere, 10), strconv.FormatInt(e.MostThere, 10), strconv.FormatInt(e.LeastBack, 10), strconv.FormatInt(e.MostBack, 10)}}
	d.Records = document.RecordsOf([]string{"least_s", "most_s", "least_trials", "most_trials", "least_there_bytes", "most_there_bytes", "least_back_bytes", "most_back_bytes"}, rows)
	return d
}
