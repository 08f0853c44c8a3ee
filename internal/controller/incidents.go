package controller

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"sync"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
)

// Incident is an incident as it is kept.
type Incident struct {
	ID ident.ID
	guard.Incident
	Finding finding.Finding // what it says
}

// incidents are what paths have in common, and how strictly they are judged.
type incidents struct {
	mu      sync.Mutex
	list    *guard.Incidents
	ids     map[int]ident.ID // by number
	look    time.Time        // when to look for more; zero when nothing calls for it
	strict  guard.Strictness
	unsaved []store.Incident
}

// incidentMemory is from how far back incidents are known.
const incidentMemory = 35 * 24 * time.Hour

// loadIncidents takes up the incidents of before.
func (c *Controller) loadIncidents(ctx context.Context) error {
	now := time.Now()
	rows, err := c.store.Incidents(ctx, now.Add(-incidentMemory), now.Add(time.Hour))
	if err != nil {
		return err
	}
	var known []guard.Incident
	c.incidents.ids = map[int]ident.ID{}
	for i, row := range rows {
		x, err := readIncident(row)
		if err != nil {
			return err
		}
		x.Number = i + 1
		known = append(known, x)
		c.incidents.ids[x.Number] = row.ID
	}
	c.incidents.list = guard.NewIncidents(known)
	return nil
}

func readIncident(row store.Incident) (x guard.Incident, err error) {
	if err := json.Unmarshal([]byte(row.Body), &x); err != nil {
		return x, fmt.Errorf("read incident %s: %w", row.ID, err)
	}
	return x, nil
}

// keyOf names a path by its ends. It is called with the controller's mu held.
func (c *Controller) keyOf(p *pathState) guard.Key {
	k := guard.Key{To: p.Target, Family: strconv.Itoa(int(p.Family)), Via: p.Via}
	if a := c.agents[p.AgentID]; a != nil {
		k.From = a.Name
	}
	return k
}

// noteChanges has incidents looked for when something got worse, and ended when it is over.
func (c *Controller) noteChanges(changes []guard.Change) (ended bool) {
	c.incidents.mu.Lock()
	defer c.incidents.mu.Unlock()
	for _, x := range changes {
		switch x.What {
		case guard.Opened:
			c.incidents.strict.Told(x.At)
			fallthrough
		case guard.Resumed, guard.Worse:
			c.lookSoon()
		case guard.Closed, guard.Accepted:
			ended = true
		}
	}
	return ended
}

// lookSoon is called with the lock of the incidents held.
func (c *Controller) lookSoon() {
	if c.incidents.look.IsZero() {
		c.incidents.look = time.Now().Add(guard.LookDelay)
	}
}

// lookDue looks for incidents, and weighs strictness, when it is time.
func (c *Controller) lookDue(ctx context.Context, now time.Time) error {
	c.incidents.mu.Lock()
	due := !c.incidents.look.IsZero() && !now.Before(c.incidents.look)
	if due {
		c.incidents.look = time.Time{}
	}
	weigh := c.incidents.strict.Due(now)
	c.incidents.mu.Unlock()
	if weigh {
		c.weighStrictness(now)
	}
	if !due {
		return c.saveIncidents(ctx, nil)
	}
	return c.FindIncidents(ctx, now)
}

func (c *Controller) weighStrictness(now time.Time) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	c.incidents.mu.Lock()
	strict := c.incidents.strict.Weigh(now, len(c.paths))
	c.incidents.mu.Unlock()
	for _, p := range c.paths {
		p.mu.Lock()
		p.guard.Judge().SetStrict(strict)
		p.mu.Unlock()
	}
}

// FindIncidents looks for what the paths that got worse in the last while have in common.
func (c *Controller) FindIncidents(ctx context.Context, now time.Time) error {
	var witnesses []guard.Witness
	c.mu.RLock()
	for _, p := range c.paths {
		k := c.keyOf(p)
		p.mu.Lock()
		witnesses = append(witnesses, p.guard.Witness(k, now))
		p.mu.Unlock()
	}
	c.mu.RUnlock()
	c.incidents.mu.Lock()
	changed := c.incidents.list.Find(now, witnesses)
	c.incidents.mu.Unlock()
	return c.saveIncidents(ctx, changed)
}

// endIncidents ends those whose episodes are all over.
func (c *Controller) endIncidents(ctx context.Context) error {
	c.mu.RLock()
	byKey := make(map[guard.Key]*pathState, len(c.paths))
	for _, p := range c.paths {
		byKey[c.keyOf(p)] = p
	}
	c.mu.RUnlock()
	c.incidents.mu.Lock()
	ended := c.incidents.list.End(func(k guard.Key, number int) (guard.Episode, bool) {
		p := byKey[k]
		if p == nil {
			return guard.Episode{}, false
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.guard.Episode(number)
	})
	c.incidents.mu.Unlock()
	return c.saveIncidents(ctx, ended)
}

// saveIncidents keeps incidents that changed, with those that could not be kept before, and
// tells the listeners.
func (c *Controller) saveIncidents(ctx context.Context, list []guard.Incident) error {
	c.incidents.mu.Lock()
	rows := c.incidents.unsaved
	c.incidents.unsaved = nil
	for _, x := range list {
		id, ok := c.incidents.ids[x.Number]
		if !ok {
			id = ident.New()
			c.incidents.ids[x.Number] = id
		}
		body, _ := json.Marshal(x)
		row := store.Incident{ID: id, FromAt: x.From.UTC(), ToldAt: x.ToldAt.UTC(), Body: string(body)}
		if !x.Open() {
			to := x.To.UTC()
			row.ToAt = &to
		}
		rows = append(rows, row)
	}
	c.incidents.mu.Unlock()
	if len(rows) == 0 {
		return nil
	}
	if err := c.store.SaveIncidents(ctx, rows); err != nil {
		c.incidents.mu.Lock()
		c.incidents.unsaved = append(rows, c.incidents.unsaved...)
		c.incidents.mu.Unlock()
		return err
	}
	if len(list) > 0 {
		c.publish(Event{Kind: IncidentChanged})
	}
	return nil
}

// Incidents are those that touch a stretch of time, those that go on first, then the newest.
func (c *Controller) Incidents(ctx context.Context, from, to time.Time) ([]Incident, error) {
	rows, err := c.store.Incidents(ctx, from, to)
	if err != nil {
		return nil, err
	}
	var open, over []Incident
	for i := len(rows) - 1; i >= 0; i-- {
		x, err := readIncident(rows[i])
		if err != nil {
			return nil, err
		}
		one := c.incident(rows[i].ID, x)
		if x.Open() {
			open = append(open, one)
		} else {
			over = append(over, one)
		}
	}
	return append(open, over...), nil
}

func (c *Controller) incident(id ident.ID, x guard.Incident) Incident {
	return Incident{ID: id, Incident: x, Finding: finding.OfIncident(x, c.devices.call)}
}

// OpenIncidents are those that go on.
func (c *Controller) OpenIncidents() (list []Incident) {
	c.incidents.mu.Lock()
	defer c.incidents.mu.Unlock()
	for _, x := range c.incidents.list.List() {
		if x.Open() {
			list = append(list, c.incident(c.incidents.ids[x.Number], x))
		}
	}
	return list
}

// Call says what an address is called and whose it is, as far as traces have shown.
func (c *Controller) Call(address string) string { return c.devices.call(address) }
