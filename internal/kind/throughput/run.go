package throughput

import (
	"context"
	"fmt"
	"slices"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/capacity"
	"woodlark.example/core/compare"
	"woodlark.example/core/finding"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/throughput"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

// Result is what a path carried, each way.
type Result struct{ finding.ThroughputReport }

// Concluded are its findings.
func (r *Result) Concluded() []finding.Finding { return r.Findings }

// Listed are the figures of lists.
func (r *Result) Listed() (f kind.Figures) {
	for i := range r.Directions {
		d := &r.Directions[i]
		f.SentBytes += d.SentBytes * int64(max(1, len(r.Repeats)/max(1, len(r.Directions))))
		if d.There {
			f.ThereBps = d.Trimmed
		} else {
			f.BackBps = d.Trimmed
		}
	}
	return f
}

// Point are the figures that a path is judged by.
func (r *Result) Point(at time.Time, took time.Duration) (p baseline.Point, ok bool) {
	p = baseline.Point{At: at, Span: took}
	f := r.Listed()
	for m, v := range map[baseline.Measure]*float64{baseline.ThroughputThere: f.ThereBps, baseline.ThroughputBack: f.BackBps} {
		if v != nil {
			p.Set(m, *v)
			ok = true
		}
	}
	return p, ok
}

func run(ctx context.Context, j *kind.Job) ([]kind.Outcome, error) {
	s := j.Spec.(*Spec)
	out := j.Fail(time.Now(), "")
	q := s.Request()
	if err := allowed(j, q); err != nil {
		return nil, err
	}
	for i, l := range j.Lanes {
		options, err := j.Near(ctx, i, s.Family, s.Source, kind.UsualPort)
		if err != nil {
			return nil, err
		}
		q.Target = l.Target
		r, err := throughput.Measure(ctx, options, q, func(step string, p nearend.Progress) { j.TellEnds(i, step, p) })
		out[i].Ended = time.Now()
		if err != nil {
			return nil, err
		}
		out[i].Result, out[i].Address = &Result{r}, r.Address
		out[i].Close(r.Complete, r.Problem)
	}
	return out, nil
}

// allowed says what the owner of the host does not allow.
func allowed(j *kind.Job, q throughput.Request) error {
	switch limit := j.Limits.Rate; {
	case j.Limits.Loads != nil && !j.Limits.Loads(time.Now()):
		return fmt.Errorf("the owner of this agent allows load runs only at %s", j.Limits.Hours)
	case limit > 0 && q.Protocol != capacity.UDP:
		return fmt.Errorf("the owner of this agent allows %v at most, and TCP keeps to no rate: measure with -protocol udp", limit)
	case limit > 0 && (q.Rate > limit || q.Search && q.Rate == 0):
		return fmt.Errorf("the owner of this agent allows %v at most", limit)
	}
	return nil
}

const packetHeaders = 20 + 8 // bytes, of IPv4 and UDP

// cost is what a run sends; of what TCP moves it is not known beforehand.
func (s *Spec) cost(targets []string) kind.Cost {
	if s.Protocol != string(capacity.UDP) || s.Rate <= 0 || s.Search {
		return kind.Cost{}
	}
	ways := 2.0
	if s.Direction == string(throughput.There) || s.Direction == string(throughput.Back) {
		ways = 1
	}
	packets := float64(s.Rate) / 8 / float64(s.Size) * time.Duration(s.For).Seconds() * ways * float64(s.Repeats) * float64(len(targets))
	return kind.Cost{Packets: packets, Bytes: packets * float64(s.Size+packetHeaders)}
}

// read is how results read.
func read(all []any, zone *time.Location) document.Document {
	list := make([]document.Document, len(all))
	for i, x := range all {
		list[i] = report.Throughput(x.(*Result).ThroughputReport, zone)
	}
	return document.Join(list...)
}

// good reports whether it went on to its end, and nothing bad was found.
func good(all []any) bool {
	for _, x := range all {
		r := x.(*Result)
		if !r.Complete && r.Problem != nearend.Stopped || slices.ContainsFunc(r.Findings, finding.Finding.Bad) {
			return false
		}
	}
	return true
}

// says writes how far it is.
func says(p kind.Progress) string {
	text := fmt.Sprintf("%s: %s of %s", p.Says, (time.Duration(p.Done) * time.Millisecond).Round(time.Second), (time.Duration(p.Of) * time.Millisecond).Round(time.Second))
	if x, is := p.More.(nearend.Progress); is {
		text += fmt.Sprintf("   %.1f MB there, %.1f MB back", float64(x.There)/1e6, float64(x.Back)/1e6)
	}
	return text
}

// FarFamily is by which family a far end that is a name is looked for.
func (s *Spec) FarFamily() kind.Family { return s.Family }

// FarPort is the port of a far end when none is named.
func (s *Spec) FarPort() uint16 {
	return kind.UsualPort
}

// Compared are the figures of each direction, to be laid beside others.
func (r *Result) Compared() (s compare.Side) {
	for _, d := range r.Directions {
		way := "back"
		if d.There {
			way = "there"
		}
		var rates []float64
		for _, x := range d.Spans {
			if !x.WarmUp {
				rates = append(rates, x.ReceivedBps)
			}
		}
		s.Figures = append(s.Figures, compare.Rates("throughput", "throughput", way, rates), compare.Known("rtt_loaded", "RTT under load", way, "ms", d.RTTLoadMs, nil, nil, false))
	}
	return s
}
