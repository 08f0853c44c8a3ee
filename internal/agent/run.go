package agent

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/host"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
)

// lasts are the last results of measurements that are compared with the one before, by what
// makes them the same.
type lasts struct {
	mu sync.Mutex
	by map[string]json.RawMessage
}

func (l *lasts) read(key string, into any) (bool, error) {
	l.mu.Lock()
	raw := l.by[key]
	l.mu.Unlock()
	if raw == nil {
		return false, nil
	}
	return true, json.Unmarshal(raw, into)
}

// mostLasts is how many are remembered.
const mostLasts = 50

func (l *lasts) keep(key string, body json.RawMessage) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.by == nil || len(l.by) >= mostLasts && l.by[key] == nil {
		l.by = map[string]json.RawMessage{}
	}
	l.by[key] = body
}

// ground is what the agent's network, or its machine, knows of how it sends; nil when neither does.
func (a *Agent) ground() kind.Ground {
	if g, ok := a.options.Network.(kind.Ground); ok {
		return g
	}
	if a.options.Ground != nil {
		return a.options.Ground
	}
	return nil
}

// host is the agent as the place of a measurement.
func (a *Agent) host() kind.Host {
	h := kind.Host{Name: a.options.Name, Network: a.options.Network, Wall: a.options.Wall, End: a.end(),
		Limits: kind.Limits{Rate: a.options.MostRate, Loads: a.options.LoadHours.Allow, Hours: a.options.LoadHours.String()}}
	h.Ground = a.ground()
	if a.options.Ground != nil {
		h.Links, h.LinkTo = a.options.Ground, host.LinkTo
	}
	return h
}

// read reads what an order is of.
func read(name string, version int, spec json.RawMessage) (*kind.Kind, kind.Spec, error) {
	k, err := kind.Find(name)
	if err != nil {
		return nil, nil, fmt.Errorf("this agent (an older one?) cannot: %w", err)
	}
	if version > k.Version {
		return nil, nil, fmt.Errorf("this agent (an older one?) knows version %d of %s, and is asked for %w version %d", k.Version, k.Name, kind.ErrUnknown, version)
	}
	s, err := k.Decode(kind.Standing, spec)
	if err == nil {
		err = s.Check()
	}
	return k, s, err
}

// Locate resolves targets; see protocol.Runner.
func (a *Agent) Locate(ctx context.Context, o protocol.LocateOrder) ([]kind.Lane, error) {
	k, s, err := read(o.Kind, o.Version, o.Spec)
	if err != nil {
		return nil, err
	}
	return k.Lanes(s).Locate(ctx, a.options.Network, o.Targets), nil
}

// Do carries an order out; see protocol.Runner.
func (a *Agent) Do(ctx context.Context, o protocol.RunOrder, heard func(kind.Progress)) ([]protocol.Made, error) {
	a.noteOrdered(o, time.Now())
	made, err := a.do(ctx, o, heard)
	if err != nil || !o.Return {
		return nil, err
	}
	return made, nil
}

// do carries an order out, and hands over what came of it unless that is to be returned.
func (a *Agent) do(ctx context.Context, o protocol.RunOrder, heard func(kind.Progress)) ([]protocol.Made, error) {
	k, s, err := read(o.Kind, o.Version, o.Spec)
	if err != nil {
		return nil, err
	}
	if o.Extra && k.Cost != nil {
		if err := a.extra.spend(k.Cost(s, o.Targets).Packets, time.Now()); err != nil {
			return nil, err
		}
	}
	j := &kind.Job{Host: a.host(), Spec: s, Targets: o.Targets, Far: o.Far, Heard: heard}
	for _, l := range o.Lanes {
		j.Lanes = append(j.Lanes, l.Lane)
	}
	if len(o.Before) > 0 {
		if j.Before, err = k.ReadResult(o.Version, o.Before); err != nil {
			return nil, err
		}
	}
	same := k.Name + " " + string(o.Spec) + " " + fmt.Sprint(o.Targets)
	if k.Remembers {
		j.Last = func(_ int, into any) (bool, error) { return a.lasts.read(same, into) }
	}
	ctx, cancel := context.WithTimeout(ctx, k.Limit(s, len(o.Lanes)))
	defer cancel()
	began := time.Now()
	outcomes, err := k.Run(ctx, j)
	if err != nil {
		outcomes = j.Fail(began, err.Error())
	}
	made := make([]protocol.Made, len(outcomes))
	for i, x := range outcomes {
		if made[i], err = a.made(k, o, i, j.Lanes[i], x); err != nil {
			return nil, err
		}
		if k.Remembers && x.State == kind.Done {
			a.lasts.keep(same, made[i].Body)
		}
	}
	if o.Return {
		return made, nil
	}
	for i, m := range made {
		if x := outcomes[i]; x.Reading != nil && k.Paths {
			r := protocol.Record{Path: m.Path, Watch: m.Watch, Run: m.Run, Reading: *x.Reading, Packed: reading.PackSecond(x.Reading.At, x.Probes)}
			if m.OnDemand {
				r.Flags = protocol.OnDemand
			}
			a.spool.add(r)
		}
		a.spool.addMade(m)
	}
	return made, nil
}

// made wraps up an outcome.
func (a *Agent) made(k *kind.Kind, o protocol.RunOrder, i int, lane kind.Lane, x kind.Outcome) (protocol.Made, error) {
	m := protocol.Made{Run: o.Lanes[i].Run, Watch: o.Watch, Path: o.Lanes[i].Path, FarID: o.FarID, Kind: k.Name, Version: k.Version, Lane: lane,
		Started: x.Started, Ended: x.Ended, Outcome: x.State, Reason: x.Reason, Address: x.Address, OnDemand: o.Watch.IsZero()}
	if x.Result == nil {
		return m, nil
	}
	m.Figures = kind.FiguresOf(x.Result)
	var err error
	m.Body, err = json.Marshal(x.Result)
	return m, err
}

// repeatedly carries a standing measurement out at its times.
func (a *Agent) repeatedly(ctx context.Context, t protocol.Standing) {
	none := func(from, to time.Time, outcome protocol.Outcome, reason string) {
		for _, l := range t.Order.Lanes {
			a.spool.addMade(protocol.Made{Run: ident.New(), Watch: t.Order.Watch, Path: l.Path, FarID: t.Order.FarID, Kind: t.Order.Kind, Version: t.Order.Version, Lane: l.Lane,
				Started: from, Ended: to, Outcome: outcome, Reason: reason})
		}
	}
	when, err := t.Schedule()
	if err != nil { // it was checked
		return
	}
	a.atTimes(ctx, periodic{
		key: t.Name(), when: when,
		do: func(ctx context.Context, x due) {
			if t.Away && (!a.away.now() || a.wasOrdered(t.Order, x.At.Add(-t.Phase))) {
				return
			}
			o := t.Order
			o.Lanes = append([]protocol.RunLane{}, t.Order.Lanes...)
			for i := range o.Lanes {
				o.Lanes[i].Run = ident.New()
			}
			began := time.Now()
			if err := a.doStanding(ctx, t, o); err != nil {
				none(began, time.Now(), protocol.Failed, err.Error())
			}
		},
		missed: func(from, to time.Time, reason string) {
			if !t.Away || a.away.now() {
				none(from, to, protocol.Missed, reason)
			}
		},
		broken: func(x due) { none(x.Began, time.Now(), protocol.Failed, wasKilled) },
	})
}
