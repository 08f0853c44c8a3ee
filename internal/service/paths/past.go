package paths

import (
	"cmp"
	"context"
	"iter"
	"maps"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// Minute is a reading with its probes.
type Minute struct {
	Reading reading.Reading
	Probes  []reading.Probe // good until the next Minute is asked for
}

// Past takes in what was measured before, as if it had been measured by this service:
// readings, rollups, and then what would have been told of them: episodes, incidents, and the
// baselines as they would have been learnt. Paths may be added side by side.
//
//	past := c.Past()
//	err := past.Add(ctx, path, minutes)
//	past.Trace(agent, trace)
//	err = past.Judge(ctx)
type Past struct {
	of     *Paths
	mu     sync.Mutex
	paths  map[ident.ID]*pastPath
	traces []pastTrace
}

type pastPath struct {
	*Path
	points []baseline.Point
	begin  time.Time
	newest protocol.Record
}

type pastTrace struct {
	agent ident.ID
	protocol.Trace
}

// Past begins to take in what was measured before.
func (x *Paths) Past() *Past { return &Past{of: x, paths: map[ident.ID]*pastPath{}} }

// Import takes in the past of one path.
func (x *Paths) Import(ctx context.Context, path ident.ID, minutes iter.Seq[Minute]) error {
	past := x.Past()
	if err := past.Add(ctx, path, minutes); err != nil {
		return err
	}
	return past.Judge(ctx)
}

// Add keeps the readings of a path and their rollups.
func (x *Past) Add(ctx context.Context, path ident.ID, minutes iter.Seq[Minute]) error {
	p, err := x.of.find(path)
	if err != nil {
		return err
	}
	mine := &pastPath{Path: p}
	rolls := newRoller()
	batch := make([]protocol.Record, 0, importRows)
	for m := range minutes {
		r := protocol.Record{Path: path, Reading: m.Reading, Packed: reading.Pack(m.Reading.At, m.Probes)}
		mine.points = append(mine.points, baseline.PointOf(m.Reading))
		rolls.add(m)
		batch = append(batch, r)
		mine.newest = r
		if mine.begin.IsZero() {
			mine.begin = m.Reading.At
		}
		if len(batch) == importRows {
			if err := x.of.Store.ImportReadings(ctx, batch); err != nil {
				return err
			}
			batch = batch[:0]
		}
	}
	if len(mine.points) == 0 {
		return nil
	}
	if err := x.of.Store.ImportReadings(ctx, batch); err != nil {
		return err
	}
	x.mu.Lock()
	x.paths[path] = mine
	x.mu.Unlock()
	return x.of.Store.SaveRollups(ctx, path, rolls.all())
}

// Trace takes in a trace of an agent that is kept already.
func (x *Past) Trace(agent ident.ID, t protocol.Trace) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if t.Report != nil && t.Outcome == protocol.Done {
		x.traces = append(x.traces, pastTrace{agent, t})
		x.of.Devices.Note(t.Report)
	}
}

// Judge judges all that was taken in, in the order of time.
func (x *Past) Judge(ctx context.Context) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	options := x.of.Guards
	options.Elsewhere = false
	g := guard.New(options)
	keys := map[ident.ID]guard.Key{}
	for id, p := range x.paths {
		keys[id] = x.of.Key(p.Path)
	}
	changes, err := x.follow(ctx, g, keys)
	if err != nil {
		return err
	}
	for id, p := range x.paths {
		if err := x.keep(ctx, p, g.Path(keys[id]), changes[id]); err != nil {
			return err
		}
	}
	return x.of.Incidents.Found(ctx, g.Incidents())
}

// follow hands the guard all readings and routes in the order of time.
func (x *Past) follow(ctx context.Context, g *guard.Guard, keys map[ident.ID]guard.Key) (map[ident.ID][]guard.Change, error) {
	type one struct {
		at time.Time
		id ident.ID
		n  int
	}
	var all []one
	for id, p := range x.paths {
		for n := range p.points {
			all = append(all, one{p.points[n].At, id, n})
		}
	}
	slices.SortFunc(all, func(a, b one) int { return cmp.Or(a.at.Compare(b.at), slices.Compare(a.id[:], b.id[:])) })
	slices.SortStableFunc(x.traces, func(a, b pastTrace) int { return a.Started.Compare(b.Started) })
	traces := x.traces
	changes := map[ident.ID][]guard.Change{}
	for i, o := range all {
		if i%4096 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		for len(traces) > 0 && !traces[0].Started.After(o.at) {
			for id, p := range x.paths {
				if traces[0].isOf(p) {
					g.Route(keys[id], traces[0].Started, hopsOf(traces[0].Report))
				}
			}
			traces = traces[1:]
		}
		changes[o.id] = append(changes[o.id], g.Add(keys[o.id], x.paths[o.id].points[o.n])...)
	}
	g.Flush()
	return changes, nil
}

func (t pastTrace) isOf(p *pastPath) bool {
	return t.agent == p.AgentID && t.Target == p.Target && t.Family == p.Family
}

// keep keeps what is known of a path now, and how it is guarded on.
func (x *Past) keep(ctx context.Context, p *pastPath, judged *guard.Path, changes []guard.Change) error {
	c := x.of
	p.mu.Lock()
	b := judged.Judge().Baseline()
	p.guard, p.ids = guard.Resume(&c.Guards, spreadOf(p.ID), judged.Record(), b, p.points[max(0, len(p.points)-resumeReadings):]), map[int]ident.ID{}
	p.guard.SetMaintenance(p.windows)
	p.first, p.last, p.judged = p.begin, &p.newest, p.newest.Reading.At
	episodes := map[ident.ID]Episode{}
	for _, change := range changes {
		e := p.note(change.Number, change.Episode)
		episodes[e.ID] = e
	}
	for id, e := range episodes {
		for _, t := range x.traces {
			if t.isOf(p) && !t.Started.Before(e.From) && (e.Open() || t.Started.Before(e.To)) {
				e.Seen = t.Report.Whence()
				break
			}
		}
		episodes[id] = e
		for i := range p.episodes {
			if p.episodes[i].ID == id {
				p.episodes[i] = e
			}
		}
	}
	p.mu.Unlock()
	if err := c.Store.SaveEpisodes(ctx, rowsOf(slices.Collect(maps.Values(episodes)))); err != nil {
		return err
	}
	if b != nil {
		if _, err := c.keepBaseline(ctx, p.Path, b, false, true); err != nil {
			return err
		}
	}
	if err := c.SaveGuards(ctx, p.Path); err != nil {
		return err
	}
	slots, err := c.Store.Rollups(ctx, p.ID, TraceSpan, p.newest.Reading.At.Add(-24*time.Hour), p.newest.Reading.At)
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
