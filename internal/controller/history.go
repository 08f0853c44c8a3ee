package controller

import (
	"context"
	"iter"
	"slices"
	"time"

	"woodlark.example/core/guard"
	normal "woodlark.example/core/normal"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
)

// Minute is a reading with its probes.
type Minute struct {
	Reading reading.Reading
	Probes  []reading.Probe // good until the next Minute is asked for
}

// Import takes in the past of a path as if it had been measured: readings,
// rollups, episodes and the baselines as they would have been learnt.
func (c *Controller) Import(ctx context.Context, path ident.ID, minutes iter.Seq[Minute]) error {
	p, err := c.path(path)
	if err != nil {
		return err
	}
	options := c.guards
	options.Elsewhere = false
	past := guard.NewPath(&options, spreadOf(path))
	var points []normal.Point // the last ones
	var changes []guard.Change
	rolls := newRoller()
	batch := make([]plan.Record, 0, importRows)
	var first time.Time
	var last *plan.Record
	for m := range minutes {
		r := plan.Record{Path: path, Reading: m.Reading, Packed: reading.Pack(m.Reading.At, m.Probes)}
		point := normal.PointOf(m.Reading)
		changes = append(changes, past.Add(point)...)
		if points = append(points, point); len(points) >= 2*resumeReadings {
			points = append(points[:0], points[len(points)-resumeReadings:]...)
		}
		rolls.add(m)
		batch = append(batch, r)
		last = &r
		if first.IsZero() {
			first = m.Reading.At
		}
		if len(batch) == importRows {
			if err := c.store.ImportReadings(ctx, batch); err != nil {
				return err
			}
			batch = batch[:0]
		}
	}
	if last == nil {
		return nil
	}
	if err := c.store.ImportReadings(ctx, batch); err != nil {
		return err
	}
	if err := c.store.SaveRollups(ctx, path, rolls.all()); err != nil {
		return err
	}
	p.mu.Lock()
	b := past.Judge().Baseline()
	p.guard = newGuarding(guard.Resume(&c.guards, spreadOf(path), past.State(), b, points[max(0, len(points)-resumeReadings):]))
	p.first, p.last, p.judged = first, last, last.Reading.At
	var episodes []store.Episode
	byID := map[ident.ID]int{}
	for _, change := range changes {
		e := p.note(change)
		if i, ok := byID[e.ID]; ok {
			episodes[i] = e
			continue
		}
		byID[e.ID] = len(episodes)
		episodes = append(episodes, e)
	}
	p.mu.Unlock()
	if err := c.store.SaveEpisodes(ctx, episodes); err != nil {
		return err
	}
	if b != nil {
		if _, err := c.keepBaseline(ctx, p, b, false); err != nil {
			return err
		}
	}
	if err := c.saveGuards(ctx, p); err != nil {
		return err
	}
	slots, err := c.store.Rollups(ctx, path, TraceSpan, last.Reading.At.Add(-24*time.Hour), last.Reading.At)
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range slots {
		p.keepSlot(s)
	}
	return err
}

const importRows = 1000

// roller makes rollups of all lengths at once from minutes in order.
type roller struct {
	spans []time.Duration
	open  []*reading.Rollup
	done  []reading.Rollup
}

func newRoller() *roller {
	spans := store.RollupSpans()
	return &roller{spans: spans, open: make([]*reading.Rollup, len(spans))}
}

func (r *roller) add(m Minute) {
	at := m.Reading.At.Truncate(r.spans[0])
	if r.open[0] == nil || !r.open[0].At.Equal(at) {
		r.close(0)
		r.open[0] = &reading.Rollup{At: at, Span: r.spans[0]}
	}
	r.open[0].Add(m.Reading, m.Probes)
}

// close ends the open rollup of a length and adds it to the next longer one.
func (r *roller) close(level int) {
	u := r.open[level]
	if u == nil {
		return
	}
	r.done = append(r.done, *u)
	r.open[level] = nil
	if level+1 == len(r.spans) {
		return
	}
	at := u.At.Truncate(r.spans[level+1])
	if above := r.open[level+1]; above == nil || !above.At.Equal(at) {
		r.close(level + 1)
		r.open[level+1] = &reading.Rollup{At: at, Span: r.spans[level+1]}
	}
	r.open[level+1].Merge(*u)
}

func (r *roller) all() []reading.Rollup {
	for level := range r.spans {
		r.close(level)
	}
	return slices.Clip(r.done)
}
