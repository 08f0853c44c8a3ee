package accept

import (
	"fmt"
	"slices"

	"woodlark.example/core/acceptance"
	"woodlark.example/internal/report/document"
)

// graphs are the pictures by frame size.
func graphs(d *document.Document, r *Result) {
	across := "bytes of a frame"
	over := func(title, unit string, f func(acceptance.SizeWay) (float64, bool), limits ...document.GraphLimit) {
		g := document.Graph{Title: title, Across: across, Unit: unit, Limits: limits}
		for _, there := range []bool{true, false} {
			l := document.GraphLine{Name: wayName(r.Plan, there)}
			for _, s := range r.Found.Sizes {
				for _, w := range s.Ways {
					if v, ok := f(w); ok && w.There == there {
						l.Points = append(l.Points, [2]float64{float64(s.Size), v})
					}
				}
			}
			if len(l.Points) > 0 {
				g.Lines = append(g.Lines, l)
			}
		}
		if len(g.Lines) > 0 && len(g.Lines[0].Points) > 1 {
			d.Add(g)
		}
	}
	var limit []document.GraphLimit
	for _, c := range r.Found.Criteria {
		if c.Figure == acceptance.FThroughput && r.Plan.BySize.Limits.Throughput.There.Unit == acceptance.Bits && len(limit) == 0 {
			limit = append(limit, document.GraphLimit{At: c.Limit / 1e6, Says: "limit"})
		}
	}
	over("Throughput over frame size, with FCS", "Mbit/s", func(w acceptance.SizeWay) (float64, bool) {
		if w.Throughput == nil || w.Throughput.TooLarge {
			return 0, false
		}
		return w.Throughput.Rates.FrameBps / 1e6, true
	}, limit...)
	limit = nil
	if l := r.Plan.BySize.Limits.Latency; l > 0 {
		limit = append(limit, document.GraphLimit{At: float64(l.D()) / 1e6, Says: "limit"})
	}
	over("Delay over frame size, at the throughput", "ms", func(w acceptance.SizeWay) (float64, bool) {
		if w.Latency == nil {
			return 0, false
		}
		return w.Latency.Delay.MeanMs, true
	}, limit...)
	over("Longest burst that is carried whole, over frame size", "frames", func(w acceptance.SizeWay) (float64, bool) {
		if w.Burst == nil {
			return 0, false
		}
		return w.Burst.Frames, true
	})
	for _, s := range r.Found.Sizes {
		g := document.Graph{Title: fmt.Sprintf("Frame loss over rate, %d bytes", s.Size), Across: "% of the highest rate", Unit: "%"}
		for _, w := range s.Ways {
			l := document.GraphLine{Name: wayName(r.Plan, w.There)}
			for _, x := range w.Loss {
				if x.Loss != nil {
					l.Points = append(l.Points, [2]float64{100 * x.Share, 100 * *x.Loss})
				}
			}
			slices.Reverse(l.Points)
			if len(l.Points) > 1 {
				g.Lines = append(g.Lines, l)
			}
		}
		if len(g.Lines) > 0 {
			d.Add(g)
		}
	}
}
