package stream

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
	"woodlark.example/internal/probe/stream"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
	"woodlark.example/wire"
)

// Result is what became of a stream, each way.
type Result struct{ finding.StreamReport }

// Concluded are its findings.
func (r *Result) Concluded() []finding.Finding { return r.Findings }

// Listed are the figures of lists.
func (r *Result) Listed() (f kind.Figures) {
	for _, d := range r.Directions {
		if d.Quality != nil && d.Quality.MOS != nil && (f.MOS == nil || *d.Quality.MOS < *f.MOS) {
			f.MOS = d.Quality.MOS // the worse direction is what a caller hears of
		}
		f.SentBytes += int64(d.Bps / 8 * r.ElapsedMs / 1000)
		if came, sent := int64(d.Received), int64(d.Sent); d.Sent > 0 && (f.Of == nil || came**f.Of < *f.Answered*sent) {
			f.Answered, f.Of = &came, &sent // of the worse direction
		}
	}
	return f
}

// Point are the figures that a path is judged by: voice quality, variation and losses by
// direction, and delay by direction where the two clocks are in step.
func (r *Result) Point(at time.Time, took time.Duration) (p baseline.Point, ok bool) {
	p = baseline.Point{At: at, Span: took}
	set := func(m baseline.Measure, v *float64) {
		if v != nil {
			p.Set(m, *v)
			ok = true
		}
	}
	set(baseline.MOS, r.Listed().MOS)
	for _, d := range r.Directions {
		delay, jitter, loss := baseline.DelayBack, baseline.JitterBack, baseline.LossBack
		if d.There {
			delay, jitter, loss = baseline.DelayThere, baseline.JitterThere, baseline.LossThere
		}
		set(jitter, d.JitterMs)
		if d.Lost != nil && d.Sent > 0 { // in which direction they were lost is known
			p.SetLost(loss, *d.Lost, d.Sent)
			ok = true
		}
		if r.Clock.InStep {
			set(delay, d.MedianMs)
		}
	}
	return p, ok
}

func run(ctx context.Context, j *kind.Job) ([]kind.Outcome, error) {
	s := j.Spec.(*Spec)
	out := j.Fail(time.Now(), "")
	for i := range j.Lanes {
		r, err := one(ctx, j, s, i)
		out[i].Ended = time.Now()
		if err != nil {
			return nil, err
		}
		out[i].Result, out[i].Address = &Result{r}, r.Address
		out[i].Close(r.Complete, r.Problem)
	}
	return out, nil
}

func one(ctx context.Context, j *kind.Job, s *Spec, i int) (finding.StreamReport, error) {
	options, err := j.Near(ctx, i, s.Family, s.Source, s.FarPort())
	if err != nil {
		return finding.StreamReport{}, err
	}
	heard := func(p nearend.Progress) { j.TellEnds(i, "streaming", p) }
	if s.Reflector {
		x := s.Reflected()
		x.Target = j.Lanes[i].Target
		shape, err := x.Shape(options.To.Addr().Is6())
		if err == nil {
			err = allowed(j, capacity.Rate(shape.Rate()))
		}
		if err != nil {
			return finding.StreamReport{}, err
		}
		return stream.Reflect(ctx, options, x, heard)
	}
	q, err := s.Request()
	if err != nil {
		return finding.StreamReport{}, err
	}
	q.Target = j.Lanes[i].Target
	order, err := q.Order()
	if err == nil {
		err = allowed(j, capacity.Rate(order.Rate()))
	}
	if err != nil {
		return finding.StreamReport{}, err
	}
	return stream.Measure(ctx, options, q, heard)
}

func allowed(j *kind.Job, rate capacity.Rate) error {
	if limit := j.Limits.Rate; limit > 0 && rate > limit {
		return fmt.Errorf("it sends %v, and the owner of this agent allows %v", rate, limit)
	}
	return nil
}

// read is how results read.
func read(all []any, zone *time.Location) document.Document {
	list := make([]document.Document, len(all))
	for i, x := range all {
		list[i] = report.Stream(x.(*Result).StreamReport, zone)
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
	x, _ := p.More.(nearend.Progress)
	done := time.Duration(p.Done) * time.Millisecond
	text := fmt.Sprintf("%s of %s", done.Round(time.Second), (time.Duration(p.Of) * time.Millisecond).Round(time.Second))
	if x.Lost > 0 {
		text += fmt.Sprintf("   %d lost on the way there, or not answered, so far", x.Lost)
	}
	return text
}

// FarFamily is by which family a far end that is a name is looked for.
func (s *Spec) FarFamily() kind.Family { return s.Family }

// ReflectorKey is that of the authenticated mode of a reflector; nil for the other.
func (s *Spec) ReflectorKey() []byte {
	if s.StampKey == "" {
		return nil
	}
	return []byte(s.StampKey)
}

// FarPort is the port of a far end when none is named.
func (s *Spec) FarPort() uint16 {
	if s.Reflector {
		return wire.StampPort
	}
	return kind.UsualPort
}

// Compared are the figures of each direction, to be laid beside others.
func (r *Result) Compared() (s compare.Side) {
	for _, d := range r.Directions {
		way := "back"
		if d.There {
			way = "there"
		}
		var medians, jitters, ratios []float64
		for _, x := range d.Spans {
			if x.MedianMs != nil {
				medians = append(medians, *x.MedianMs)
			}
			if x.JitterMs != nil {
				jitters = append(jitters, *x.JitterMs)
			}
			if x.Sent > 0 {
				ratios = append(ratios, float64(x.Lost)/float64(x.Sent))
			}
		}
		if d.Lost != nil {
			s.Figures = append(s.Figures, compare.LossOver(way, *d.Lost, d.Sent, ratios))
		}
		s.Figures = append(s.Figures, compare.Delays("delay", "median delay", way, medians), compare.Delays("jitter", "jitter", way, jitters))
		if d.Quality != nil {
			f := compare.Known("mos", "MOS", way, "mos", d.Quality.MOS, nil, nil, true)
			f.Worth = 0.1
			s.Figures = append(s.Figures, f)
		}
	}
	if !r.Clock.InStep {
		s.Notes = append(s.Notes, "the two clocks are not in step: delays one way are half of the round trip in part")
	}
	return s
}
