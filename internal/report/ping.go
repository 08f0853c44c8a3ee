package report

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
	"woodlark.example/internal/api/apitype"
)

// PingResult is what the measurement of one target gave.
type PingResult struct {
	Target  string `json:"target"`
	Address string `json:"address"`
	Via     string `json:"via"`
	From    string `json:"from"`
	reading.Figures
	Outcome  string            `json:"outcome"`
	Reason   string            `json:"reason"`
	Findings []apitype.Finding `json:"findings"`
}

// Ping writes results as text.
func Ping(w io.Writer, ink Ink, results []PingResult) error {
	l := lines{w: w}
	for i, r := range results {
		if i > 0 {
			l.put("")
		}
		head := ink.Strong(r.Target)
		if r.Address != "" && r.Address != r.Target {
			head += " (" + r.Address + ")"
		}
		l.put("%s  from %s by %s", head, r.From, strings.ToUpper(r.Via))
		if r.Reason != "" {
			l.put("  %s", r.Outcome+": "+r.Reason)
		}
		if r.Sent > 0 {
			pingFigures(&l, r)
		}
		for _, f := range r.Findings {
			l.put("  › %s", f.Sentence)
			if f.Advice != "" {
				l.put("    %s", ink.Faint(f.Advice))
			}
		}
	}
	return l.err
}

func pingFigures(l *lines, r PingResult) {
	answered := fmt.Sprintf("%d of %d probes", r.Answered, r.Sent)
	for _, extra := range []struct {
		n    int
		says string
	}{{r.Late, "late"}, {r.Refused, "refused"}, {r.Duplicates, "further copies"}, {r.LateSent, "sent late"}, {r.Unsent, "not sent"}} {
		if extra.n > 0 {
			answered += fmt.Sprintf(", %d %s", extra.n, extra.says)
		}
	}
	l.put("  answered   %s", answered)
	loss := Percent(r.LossRatio) + fmt.Sprintf("  (between %s and %s", Percent(r.LossLowRatio), Percent(r.LossHighRatio))
	if r.LossSettlesAt != nil && *r.LossSettlesAt > r.Sent {
		loss += fmt.Sprintf("; %d probes would settle it to ±1 point", *r.LossSettlesAt)
	}
	l.put("  loss       %s)", loss)
	if r.Answered == 0 {
		return
	}
	l.put("  RTT        median %s   from %s to %s   95 %% within %s", Ms(r.RTTMedianMs), Ms(r.RTTMinMs), Ms(r.RTTMaxMs), Ms(r.RTTP95Ms))
	l.put("  jitter     %s   spread %s", Ms(r.JitterMs), Ms(r.SpreadMs))
	l.put("  timed by   %s", map[string]string{"kernel": "the kernel", "user": "this program (the kernel gave no times)", "world": "the simulated network"}[r.Timestamps])
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
var pingColumns = []string{"target", "address", "via", "from", "started_at", "sent", "answered", "lost", "late", "refused", "duplicates", "late_sent",
	"loss_ratio", "loss_low_ratio", "loss_high_ratio", "rtt_min_ms", "rtt_mean_ms", "rtt_median_ms", "rtt_p95_ms", "rtt_p99_ms", "rtt_max_ms",
	"rtt_sd_ms", "jitter_ms", "jitter_rfc3550_ms", "pdv_ms", "spread_ms", "timestamps", "outcome", "reason"}

// PingCSV writes results as CSV (RFC 4180).
func PingCSV(w io.Writer, results []PingResult) error {
	rows := [][]string{pingColumns}
	for _, r := range results {
		rows = append(rows, append([]string{r.Target, r.Address, r.Via, r.From}, append(figureCells(r.Figures), r.Outcome, r.Reason)...))
	}
	return CSV(w, rows)
}

// figureCells are a reading's cells, from started_at to timestamps.
func figureCells(f reading.Figures) []string {
	return []string{f.StartedAt.UTC().Format(time.RFC3339Nano), strconv.Itoa(f.Sent), strconv.Itoa(f.Answered), strconv.Itoa(f.Lost), strconv.Itoa(f.Late),
		strconv.Itoa(f.Refused), strconv.Itoa(f.Duplicates), strconv.Itoa(f.LateSent),
		Cell(f.LossRatio), Cell(f.LossLowRatio), Cell(f.LossHighRatio), Cell(f.RTTMinMs), Cell(f.RTTMeanMs), Cell(f.RTTMedianMs), Cell(f.RTTP95Ms), Cell(f.RTTP99Ms),
		Cell(f.RTTMaxMs), Cell(f.RTTSDMs), Cell(f.JitterMs), Cell(f.JitterRFC3550Ms), Cell(f.PDVMs), Cell(f.SpreadMs), f.Timestamps}
}

// ReadingColumns are the columns of stored readings in CSV.
var ReadingColumns = append(append([]string{}, pingColumns[4:len(pingColumns)-2]...), "notes")

// ReadingCells are the cells of one stored reading.
func ReadingCells(r apitype.Reading) []string {
	return append(figureCells(r.Figures), strings.Join(r.Notes, " "))
}
