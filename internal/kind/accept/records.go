package accept

import (
	"fmt"
	"slices"
	"strconv"

	"woodlark.example/core/acceptance"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

// columns of the records, behind what was measured from where.
var columns = []string{"part", "frame_bytes", "service", "direction", "step", "offered_fps", "offered_frame_bps", "received_frame_bps", "sent", "lost", "loss_ratio", "loss_low_ratio", "loss_high_ratio",
	"delay_of", "delay_least_ms", "delay_mean_ms", "delay_p99_ms", "delay_p999_ms", "delay_most_ms", "variation_ms", "burst_frames", "figure", "measured", "low", "high", "limit", "margin", "unit", "verdict"}

// records are all figures, a row each: what was sent and came, and how it stands to its limits.
func records(r *Result) document.Records {
	var rows [][]string
	f := func(v *float64) string { return report.Cell(v) }
	num := func(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }
	row := func(part acceptance.Part, size int, service string, there bool, step string) []string {
		x := make([]string, len(columns))
		x[0], x[2], x[3], x[4] = string(part), service, wayName(r.Plan, there), step
		if size > 0 {
			x[1] = strconv.Itoa(size)
		}
		return x
	}
	delays := func(x []string, d *acceptance.Delay) {
		if d == nil {
			return
		}
		x[13] = string(d.Of)
		for i, v := range []float64{d.LeastMs, d.MeanMs, d.P99Ms, d.P999Ms, d.MostMs, d.VariationMs()} {
			x[14+i] = num(v)
		}
	}
	step := func(x []string, s acceptance.Step) {
		x[5], x[6], x[7] = num(s.Offered.FPS), num(s.Offered.FrameBps), num(s.Received.FrameBps)
		x[8], x[9] = strconv.FormatInt(s.Sent, 10), strconv.FormatInt(s.Lost, 10)
		x[10], x[11], x[12] = f(s.Loss), f(s.LossLow), f(s.LossHigh)
		delays(x, s.Delay)
		rows = append(rows, x)
	}
	for _, s := range r.Found.Sizes {
		for _, w := range s.Ways {
			if t := w.Throughput; t != nil {
				x := row(acceptance.Throughput, s.Size, "", w.There, "found")
				x[5], x[7] = num(t.Rates.FPS), num(t.Rates.FrameBps)
				rows = append(rows, x)
				for _, y := range t.Tried {
					step(row(acceptance.Throughput, s.Size, "", w.There, "tried"), y)
				}
			}
			if l := w.Latency; l != nil {
				x := row(acceptance.Latency, s.Size, "", w.There, "")
				x[5], x[6] = num(l.Rates.FPS), num(l.Rates.FrameBps)
				delays(x, &l.Delay)
				rows = append(rows, x)
			}
			for _, y := range w.Loss {
				step(row(acceptance.FrameLoss, s.Size, "", w.There, fmt.Sprintf("%.4g %%", 100*y.Share)), y)
			}
			if b := w.Burst; b != nil {
				x := row(acceptance.BackToBack, s.Size, "", w.There, "")
				x[5], x[20] = num(b.Rate.FPS), num(b.Frames)
				rows = append(rows, x)
			}
		}
	}
	for _, s := range r.Found.Services {
		for _, w := range s.Ways {
			for _, y := range w.Steps {
				step(row(acceptance.Committed, 0, s.Service, w.There, fmt.Sprintf("%.4g %% of CIR", 100*y.Share)), y)
			}
			if w.Excess != nil {
				step(row(acceptance.Excess, 0, s.Service, w.There, ""), *w.Excess)
			}
			if w.Policing != nil {
				step(row(acceptance.Policing, 0, s.Service, w.There, ""), *w.Policing)
			}
			if w.Run != nil {
				step(row(acceptance.Performing, 0, s.Service, w.There, ""), w.Run.Step)
			}
		}
	}
	for _, c := range r.Found.Criteria {
		x := row(c.Part, c.Size, c.Service, c.There, c.At)
		x[21], x[22], x[23], x[24], x[25], x[26], x[27], x[28] = string(c.Figure), f(c.Measured), f(c.Low), f(c.High), num(c.Limit), f(c.Margin), c.Unit, string(c.Verdict)
		rows = append(rows, x)
	}
	measured := report.Measured{Agent: r.From, Target: r.Target, Address: r.Address, StartedAt: r.StartedAt}.Cells()
	for i := range rows {
		rows[i] = append(slices.Clone(measured), rows[i]...)
	}
	return document.RecordsOf(append(slices.Clone(report.MeasuredColumns), columns...), rows)
}
