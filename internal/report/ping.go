package report

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/loss"
	"woodlark.example/core/objective"
	"woodlark.example/core/reading"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report/document"
)

// PingResult is what the measurement of one target gave.
type PingResult struct {
	Target  string `json:"target"`
	Address string `json:"address"`
	Via     string `json:"via"`
	From    string `json:"from"`
	reading.Figures
	Resolved  *Resolved          `json:"name"`         // null for an address
	Pattern   *LossPattern       `json:"loss_pattern"` // null where nothing was lost, or single probes are not known
	PathMTU   *finding.PathMTU   `json:"path_mtu"`
	Objective *objective.Verdict `json:"objective"`
	Dropped   int                `json:"dropped"` // packets that this host had no room for
	Outcome   string             `json:"outcome"`
	Reason    string             `json:"reason"`
	Findings  []apitype.Finding  `json:"findings"`
}

// Resolved is what a target's name was resolved to.
type Resolved struct {
	Resolver  string   `json:"resolver"` // that answered; empty for the hosts file
	TookMs    float64  `json:"took_ms"`
	Addresses []string `json:"addresses"`
}

// LossPattern is how losses are spread.
type LossPattern struct {
	Runs       int      `json:"runs"`
	LongestRun int      `json:"longest_run"`
	MeanRun    *float64 `json:"mean_run"`
	BurstRatio *float64 `json:"burst_ratio"` // 1 when they lie at random, more when they come in bursts
	Every      *int     `json:"every"`       // one of so many is lost; null when they do not come regularly
}

// PatternOf describes the losses among probes; nil when there are none.
func PatternOf(probes []reading.Probe) *LossPattern {
	var gone []bool
	for _, p := range probes {
		if p.Outcome != reading.Unsent && p.Outcome != reading.Refused {
			gone = append(gone, p.Outcome != reading.Answered)
		}
	}
	pattern := loss.PatternOf(gone)
	if pattern.Runs == 0 {
		return nil
	}
	out := &LossPattern{Runs: pattern.Runs, LongestRun: pattern.Longest}
	if v, ok := pattern.MeanRun.Get(); ok {
		out.MeanRun = &v
	}
	if v, ok := pattern.BurstRatio.Get(); ok {
		out.BurstRatio = &v
	}
	if n, _, ok := loss.Every(gone); ok {
		out.Every = &n
	}
	return out
}

func (p LossPattern) String() string {
	says := fmt.Sprintf("%d runs, the longest of %d", p.Runs, p.LongestRun)
	if p.Runs == 1 {
		says = fmt.Sprintf("1 run of %d", p.LongestRun)
	}
	switch {
	case p.Every != nil:
		says += fmt.Sprintf("; regular, one of each %d", *p.Every)
	case p.BurstRatio != nil:
		says += fmt.Sprintf("; burst ratio %.2g (1 is random)", *p.BurstRatio)
	}
	return says
}

// The most results of one target that stand side by side, and the most targets
// that are told in full.
const (
	mostBeside = 4
	mostInFull = 12
)

// Ping is how results read: each target by itself, what it gave when asked in
// several ways side by side; many targets as a table.
func Ping(results []PingResult) document.Document {
	groups := byTarget(results)
	if len(groups) > mostInFull {
		return document.Of(pingTable(results), pingRecords(results))
	}
	doc := document.Document{Records: pingRecords(results)}
	for i, g := range groups {
		if i > 0 {
			doc.Gap()
		}
		switch {
		case len(g) == 1:
			pingOne(&doc, g[0])
		case len(g) <= mostBeside:
			pingBeside(&doc, g)
		default:
			doc.Say("%s  from %s", document.Strong(g[0].Target), g[0].From)
			pingResolved(&doc, g[0])
			doc.Add(pingTable(g))
		}
		pingFindings(&doc, g)
	}
	return doc
}

// byTarget groups results that stand behind each other.
func byTarget(results []PingResult) [][]PingResult {
	var groups [][]PingResult
	for i, r := range results {
		if i > 0 && r.Target == results[i-1].Target {
			groups[len(groups)-1] = append(groups[len(groups)-1], r)
			continue
		}
		groups = append(groups, []PingResult{r})
	}
	return groups
}

func pingOne(doc *document.Document, r PingResult) {
	head := document.Strong(r.Target)
	if r.Address != "" && r.Address != r.Target {
		head += " (" + r.Address + ")"
	}
	doc.Say("%s  from %s by %s", head, r.From, r.Via)
	if r.Reason != "" {
		doc.Say("  %s", r.Outcome+": "+r.Reason)
	}
	pingResolved(doc, r)
	if r.Sent > 0 {
		for _, f := range pingFigures(r) {
			doc.Add(document.Field{Name: f.name, Says: f.says})
		}
	}
	pingSize(doc, r)
	pingObjective(doc, r)
}

// pingBeside writes results side by side.
func pingBeside(doc *document.Document, g []PingResult) {
	doc.Say("%s  from %s", document.Strong(g[0].Target), g[0].From)
	pingResolved(doc, g[0])
	var of []string
	rows := [][]string{{"address"}, {"answered"}, {"loss"}, {"between"}, {"RTT median"}, {"RTT from"}, {"RTT to"}, {"95 % within"}, {"jitter"}, {"timed by"}, {"note"}}
	for _, r := range g {
		of = append(of, "by "+r.Via)
		for i, cell := range []string{r.Address, fmt.Sprintf("%d of %d", r.Answered, r.Sent), Percent(r.LossRatio), Percent(r.LossLowRatio) + " – " + Percent(r.LossHighRatio),
			Ms(r.RTTMedianMs), Ms(r.RTTMinMs), Ms(r.RTTMaxMs), Ms(r.RTTP95Ms), Ms(r.JitterMs), r.Timestamps, pingNote(r)} {
			rows[i] = append(rows[i], cell)
		}
	}
	doc.Add(document.Beside(of, rows))
	for _, r := range g {
		pingSize(doc, r)
		pingObjective(doc, r)
	}
}

// pingNote is what a row of a table says beside its figures.
func pingNote(r PingResult) string {
	switch {
	case r.Outcome == "failed":
		return r.Reason
	case r.Refused > 0:
		return fmt.Sprintf("%d refused: %s", r.Refused, r.Cause)
	case r.AnsweredAs != "":
		return "answered by " + r.AnsweredAs
	case r.OtherAddress != "":
		return "answered from " + r.OtherAddress
	case r.Reason != "":
		return r.Reason
	}
	return ""
}

// pingTable is one row a result.
func pingTable(results []PingResult) document.Table {
	columns := []document.Column{{Name: "target"}, {Name: "address"}, {Name: "by"}, {Name: "answered", Right: true}, {Name: "loss", Right: true},
		{Name: "RTT median", Right: true}, {Name: "95 % within", Right: true}, {Name: "jitter", Right: true}, {Name: "note"}}
	var rows [][]string
	for _, r := range results {
		rows = append(rows, []string{r.Target, r.Address, r.Via, fmt.Sprintf("%d of %d", r.Answered, r.Sent), Percent(r.LossRatio), Ms(r.RTTMedianMs), Ms(r.RTTP95Ms), Ms(r.JitterMs), pingNote(r)})
	}
	return document.Table{Columns: columns, Rows: rows}
}

func pingResolved(doc *document.Document, r PingResult) {
	if r.Resolved == nil || len(r.Resolved.Addresses) == 0 {
		return
	}
	by := ""
	if r.Resolved.Resolver != "" {
		by = " by resolver " + r.Resolved.Resolver + " in " + figure.FormatMs(r.Resolved.TookMs)
	}
	doc.Field("name", "%s%s", strings.Join(r.Resolved.Addresses, ", "), by)
}

func pingSize(doc *document.Document, r PingResult) {
	if r.PathMTU == nil {
		return
	}
	if r.PathMTU.MTU == 0 {
		doc.Field("path MTU", "not known: no probe of any size was answered")
		return
	}
	says := fmt.Sprintf("%d bytes to %s", r.PathMTU.MTU, r.Address)
	if r.PathMTU.Link > 0 {
		says += fmt.Sprintf("; the link here takes %d", r.PathMTU.Link)
	}
	doc.Add(document.Field{Name: "path MTU", Says: says})
}

func pingObjective(doc *document.Document, r PingResult) {
	v := r.Objective
	if v == nil {
		return
	}
	says := map[objective.State]string{objective.Met: "met", objective.Missed: "missed", objective.Open: "not settled by these probes"}
	half := ""
	if v.Halved {
		half = "; half of the round trip stands for one way"
	}
	doc.Field(v.Objective, "%s (%s by %s%s)", says[v.State], v.Source, r.Via, half)
	for _, line := range v.Lines {
		limit := fmt.Sprintf("limit %g ms", line.Limit)
		switch line.Measure {
		case "loss_ratio":
			limit = fmt.Sprintf("limit %g %%", 100*line.Limit)
		case "mos":
			limit = fmt.Sprintf("least %.1f", line.Limit)
		}
		doc.Field("", "%s: %s (%s)", says[line.State], line.Says, limit)
	}
}

// pingFindings writes what is concluded, each sentence once, with the ways of
// asking that it is about where it is not about all.
func pingFindings(doc *document.Document, g []PingResult) {
	var order []apitype.Finding
	about := map[string][]string{}
	for _, r := range g {
		for _, f := range r.Findings {
			if about[f.Sentence] == nil {
				order = append(order, f)
			}
			about[f.Sentence] = append(about[f.Sentence], "by "+r.Via+" to "+r.Address)
		}
	}
	for _, f := range order {
		ways := ""
		if list := about[f.Sentence]; len(list) < len(g) && !aboutAll[string(f.Code)] {
			ways = document.Faint(" [" + strings.Join(list, ", ") + "]")
		}
		doc.Add(document.Finding{Sign: "›", Text: f.Sentence + ways, Advice: f.Advice})
	}
}

// aboutAll are the findings that are not about one way of asking.
var aboutAll = map[string]bool{"icmp_filtered": true, "port_filtered": true, "port_closed": true, "family_differs": true, "nearby_copy": true,
	"name_slow": true, "name_differs": true, "name_unresolved": true, "mtu_reduced": true, "mtu_black_hole": true}

type named struct{ name, says string }

func pingFigures(r PingResult) []named {
	answered := fmt.Sprintf("%d of %d probes", r.Answered, r.Sent)
	for _, extra := range []struct {
		n    int
		says string
	}{{r.Late, "late"}, {r.Refused, "refused"}, {r.Duplicates, "further copies"}, {count(r.Reordered), "overtaken"}, {count(r.Damaged), "damaged"}, {r.LateSent, "sent late"}, {r.Unsent, "not sent"}} {
		if extra.n > 0 {
			answered += fmt.Sprintf(", %d %s", extra.n, extra.says)
		}
	}
	if r.AnsweredAs != "" {
		answered += ", by " + r.AnsweredAs
	}
	if r.OtherAddress != "" {
		answered += ", from " + r.OtherAddress + " in its place"
	}
	ratio := Percent(r.LossRatio) + fmt.Sprintf("  (between %s and %s", Percent(r.LossLowRatio), Percent(r.LossHighRatio))
	// Where a finding names how many probes would do for its question, that is the number.
	asked := slices.ContainsFunc(r.Findings, func(f finding.Finding) bool { return f.Figures["settles_at"] > 0 })
	if r.LossSettlesAt != nil && *r.LossSettlesAt > r.Sent && !asked {
		ratio += fmt.Sprintf("; %d probes would settle it to ±1 point", *r.LossSettlesAt)
	}
	list := []named{{"answered", answered}, {"loss", ratio + ")"}}
	if r.Pattern != nil {
		list = append(list, named{"losses", r.Pattern.String()})
	}
	if r.Answered == 0 {
		return list
	}
	return append(list,
		named{"RTT", fmt.Sprintf("median %s   from %s to %s   95 %% within %s", Ms(r.RTTMedianMs), Ms(r.RTTMinMs), Ms(r.RTTMaxMs), Ms(r.RTTP95Ms))},
		named{"jitter", fmt.Sprintf("%s   spread %s", Ms(r.JitterMs), Ms(r.SpreadMs))},
		named{"timed by", map[string]string{"kernel": "the kernel", "user": "this program (the kernel gave no times)", "world": "the simulated network"}[r.Timestamps]})
}

func count(n *int) int {
	if n == nil {
		return 0
	}
	return *n
}

// Ms writes milliseconds, a dash when absent.
func Ms(v *float64) string {
	if v == nil {
		return "–"
	}
	return figure.FormatMs(*v)
}

// Percent writes a ratio as a percentage, a dash when absent.
func Percent(v *float64) string {
	if v == nil {
		return "–"
	}
	return figure.FormatRatio(*v)
}

// pingColumns are the columns of CSV, named as the keys of JSON.
var pingColumns = append(slices.Clone(MeasuredColumns), "sent", "answered", "lost", "late", "refused", "duplicates", "late_sent",
	"loss_ratio", "loss_low_ratio", "loss_high_ratio", "rtt_min_ms", "rtt_mean_ms", "rtt_median_ms", "rtt_p95_ms", "rtt_p99_ms", "rtt_max_ms",
	"rtt_sd_ms", "jitter_ms", "jitter_rfc3550_ms", "pdv_ms", "spread_ms", "timestamps", "outcome", "reason")

func pingRecords(results []PingResult) document.Records {
	var rows [][]string
	for _, r := range results {
		rows = append(rows, append(Measured{r.From, r.Target, r.Address, r.Via, r.StartedAt}.Cells(), append(figureCells(r.Figures), r.Outcome, r.Reason)...))
	}
	return document.RecordsOf(pingColumns, rows)
}

// figureCells are a reading's cells, from sent to timestamps.
func figureCells(f reading.Figures) []string {
	return []string{strconv.Itoa(f.Sent), strconv.Itoa(f.Answered), strconv.Itoa(f.Lost), strconv.Itoa(f.Late),
		strconv.Itoa(f.Refused), strconv.Itoa(f.Duplicates), strconv.Itoa(f.LateSent),
		Cell(f.LossRatio), Cell(f.LossLowRatio), Cell(f.LossHighRatio), Cell(f.RTTMinMs), Cell(f.RTTMeanMs), Cell(f.RTTMedianMs), Cell(f.RTTP95Ms), Cell(f.RTTP99Ms),
		Cell(f.RTTMaxMs), Cell(f.RTTSDMs), Cell(f.JitterMs), Cell(f.JitterRFC3550Ms), Cell(f.PDVMs), Cell(f.SpreadMs), f.Timestamps}
}

// ReadingRecords are stored readings of a path.
func ReadingRecords(p apitype.Path, list []apitype.Reading) document.Records {
	columns := append(slices.Clone(pingColumns[:len(pingColumns)-2]), "notes", "path_id")
	return document.Records{Columns: columns, Rows: func(yield func([]string) bool) {
		for _, r := range list {
			cells := Measured{Agent: p.From, Target: p.To, Via: p.Via, StartedAt: r.StartedAt}.Cells()
			cells[slices.Index(MeasuredColumns, "family")] = strconv.Itoa(p.Family)
			if !yield(append(append(cells, figureCells(r.Figures)...), strings.Join(r.Notes, " "), p.ID)) {
				return
			}
		}
	}}
}
