package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"woodlark.example/core/finding"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/wire"
)

// Trace is a trace as it is stored. Body is its report as JSON, packed; lists
// leave it out.
type Trace struct {
	ID        ident.ID `gorm:"primaryKey"`
	Lane      ident.ID // of all traces by one agent to one target in one way
	WatchID   ident.ID
	AgentID   ident.ID
	Target    string
	Family    wire.Family
	Via       string
	StartedAt time.Time
	EndedAt   *time.Time
	Outcome   protocol.Outcome
	Reason    string
	Reached   bool
	Changed   bool // from the usual route
	Hops      int
	RTTMs     *float64 `gorm:"column:rtt_ms"`
	LossRatio *float64
	Route     ident.ID // see Route
	Body      []byte
}

// Route is a distinct route: when it was seen first and last, and how often.
type Route struct {
	Lane      ident.ID `gorm:"primaryKey"`
	Route     ident.ID `gorm:"primaryKey"`
	Hops      string   // see route.Route.Key
	FirstAt   time.Time
	LastAt    time.Time
	Times     int
	LastTrace ident.ID
}

// HopMinute is what a minute of a trace found at each hop, packed.
type HopMinute struct {
	Lane   ident.ID  `gorm:"primaryKey"`
	At     time.Time `gorm:"primaryKey"`
	Route  ident.ID
	Packed []byte
}

// HopRow is one hop of a HopMinute.
type HopRow struct {
	TTL       int
	Addresses []string // who answered, most flows first; empty when nobody did
	Probes    int
	Answered  int
	RTTMs     *float64
	AddedMs   *float64 // that carries on
	Carried   *float64 // loss that carries on, 0 to 1
}

// packedHop is a HopRow as it is stored: short, since there are many.
type packedHop struct {
	T int      `json:"t"`
	A []string `json:"a,omitempty"`
	N int      `json:"n"`
	K int      `json:"k"`
	R *int64   `json:"r,omitempty"` // µs
	D *int64   `json:"d,omitempty"` // µs
	C *float64 `json:"c,omitempty"`
}

func micros(ms *float64) *int64 {
	if ms == nil {
		return nil
	}
	us := int64(*ms*1000 + 0.5)
	return &us
}

func milli(us *int64) *float64 {
	if us == nil {
		return nil
	}
	ms := float64(*us) / 1000
	return &ms
}

// Rows unpacks the hops.
func (h HopMinute) Rows() ([]HopRow, error) {
	var packed []packedHop
	if err := json.Unmarshal(h.Packed, &packed); err != nil {
		return nil, fmt.Errorf("read the hops of %s: %w", h.At, err)
	}
	rows := make([]HopRow, len(packed))
	for i, p := range packed {
		rows[i] = HopRow{TTL: p.T, Addresses: p.A, Probes: p.N, Answered: p.K, RTTMs: milli(p.R), AddedMs: milli(p.D), Carried: p.C}
	}
	return rows, nil
}

// LaneOf names all traces by one agent to one target in one way.
func LaneOf(agent ident.ID, target string, family wire.Family, via string) ident.ID {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %s %d %s", agent, target, family, via))
	return ident.ID(sum[:16])
}

// Report reads what the trace found; nil when there is nothing.
func (t Trace) Report() (*finding.TraceReport, error) {
	if len(t.Body) == 0 {
		return nil, nil
	}
	var r finding.TraceReport
	return &r, wrap("read trace "+t.ID.String(), unpack(t.Body, &r))
}

func unpack(b []byte, into any) error {
	unpacked, err := gzip.NewReader(bytes.NewReader(b))
	if err != nil {
		return err
	}
	return json.NewDecoder(unpacked).Decode(into)
}

func pack(v any) ([]byte, error) {
	var b bytes.Buffer
	packed := gzip.NewWriter(&b)
	if err := json.NewEncoder(packed).Encode(v); err != nil {
		return nil, err
	}
	if err := packed.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// TraceOf is what is stored of a trace of an agent.
func TraceOf(agent ident.ID, p protocol.Trace) (t Trace, err error) {
	t = Trace{ID: p.ID, Lane: LaneOf(agent, p.Target, p.Family, p.Via), WatchID: p.Watch, AgentID: agent, Target: p.Target, Family: p.Family, Via: p.Via,
		StartedAt: p.Started.UTC(), Outcome: p.Outcome, Reason: clip(p.Reason, 500)}
	if !p.Ended.IsZero() {
		ended := p.Ended.UTC()
		t.EndedAt = &ended
	}
	r := p.Report
	if r == nil {
		return t, nil
	}
	t.Reached, t.Hops, t.RTTMs, t.LossRatio = r.Reached, len(r.Hops), r.RTTMs, r.LossRatio
	t.Changed = r.Compared != nil && r.Compared.Changed
	t.Route = routeID(r.Route().Key())
	t.Body, err = pack(r)
	return t, err
}

// hopMinutesOf are the minutes of a trace: the one that it began in, or each when it
// was measured for longer.
func hopMinutesOf(t Trace, r finding.TraceReport) ([]HopMinute, error) {
	minutes := r.Minutes
	if len(minutes) == 0 {
		whole := r.AsMinute()
		whole.At = t.StartedAt.Truncate(time.Minute)
		minutes = []finding.HopMinute{whole}
	}
	var list []HopMinute
	for _, m := range minutes {
		packed := []packedHop{}
		for _, h := range m.Hops {
			packed = append(packed, packedHop{T: h.TTL, A: h.Addresses, N: h.Probes, K: h.Answered, R: micros(h.RTTMs), D: micros(h.CarriedMs), C: h.CarriedRatio})
		}
		b, err := json.Marshal(packed)
		if err != nil {
			return nil, err
		}
		list = append(list, HopMinute{Lane: t.Lane, At: m.At.UTC(), Route: routeID(m.Route), Packed: b})
	}
	return list, nil
}

// routeID names a route by its hops; see route.Route.Key.
func routeID(key string) ident.ID {
	sum := sha256.Sum256([]byte(key))
	return ident.ID(sum[:16])
}

// saveTraces keeps traces over those that were going on, with their hops; and each
// distinct route once, with its sightings. A trace that comes again counts once.
func saveTraces(tx *gorm.DB, agent ident.ID, list []protocol.Trace) error {
	for _, p := range list {
		t, err := TraceOf(agent, p)
		if err != nil {
			return fmt.Errorf("keep a trace: %w", err)
		}
		var before Trace
		err = tx.Select("id, route").Where("id = ?", t.ID).Take(&before).Error
		if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
			return err
		}
		counted := err == nil && !before.Route.IsZero()
		columns := []string{"ended_at", "outcome", "reason", "reached", "changed", "hops", "rtt_ms", "loss_ratio", "route", "body"}
		if err := tx.Clauses(clause.OnConflict{DoUpdates: clause.AssignmentColumns(columns)}).Create(&t).Error; err != nil {
			return err
		}
		if p.Report == nil {
			continue
		}
		minutes, err := hopMinutesOf(t, *p.Report)
		if err != nil {
			return err
		}
		if err := tx.Clauses(clause.OnConflict{DoUpdates: clause.AssignmentColumns([]string{"route", "packed"})}).Create(&minutes).Error; err != nil {
			return err
		}
		if counted {
			continue
		}
		seen := Route{Lane: t.Lane, Route: t.Route, Hops: p.Report.Route().Key(), FirstAt: t.StartedAt, LastAt: t.StartedAt, Times: 1, LastTrace: t.ID}
		if err := tx.Clauses(clause.OnConflict{DoUpdates: clause.Assignments(map[string]any{
			"last_trace": gorm.Expr("IF(VALUES(last_at) >= last_at, VALUES(last_trace), last_trace)"),
			"first_at":   gorm.Expr("LEAST(first_at, VALUES(first_at))"), "last_at": gorm.Expr("GREATEST(last_at, VALUES(last_at))"), "times": gorm.Expr("times + 1"),
		})}).Create(&seen).Error; err != nil {
			return err
		}
	}
	return nil
}

// BeginTraces notes traces that are going on.
func (s *Store) BeginTraces(ctx context.Context, list []Trace) error {
	return s.transact(ctx, "note traces", func(tx *gorm.DB) error {
		return tx.Create(&list).Error
	})
}

const traceWithoutBody = "id, lane, watch_id, agent_id, target, family, via, started_at, ended_at, outcome, reason, reached, changed, hops, rtt_ms, loss_ratio, route"

// TraceFilter chooses traces; what is empty does not matter.
type TraceFilter struct {
	Watches []ident.ID // any of them
	Agent   ident.ID
	Target  string
	Family  wire.Family
	Before  time.Time // begun before it
	Within  *Within   // nil: everywhere
	Page    Page
}

func (f TraceFilter) on(q *gorm.DB) *gorm.DB {
	q = f.Within.on(q, true, "agent_id")
	if len(f.Watches) > 0 {
		q = q.Where("watch_id IN ?", f.Watches)
	}
	if !f.Agent.IsZero() {
		q = q.Where("agent_id = ?", f.Agent)
	}
	if f.Target != "" {
		q = q.Where("target = ?", f.Target)
	}
	if f.Family != 0 {
		q = q.Where("family = ?", f.Family)
	}
	if !f.Before.IsZero() {
		q = q.Where("started_at < ?", f.Before.UTC())
	}
	q = f.Page.older(q)
	return q
}

// Traces are traces, newest first, without their bodies.
func (s *Store) Traces(ctx context.Context, f TraceFilter) ([]Trace, error) {
	var list []Trace
	q := f.on(s.db.WithContext(ctx)).Select(traceWithoutBody).Order("started_at DESC, id DESC").Limit(f.Page.limit())
	return list, wrap("list traces", q.Find(&list).Error)
}

// Trace is one trace with its body.
func (s *Store) Trace(ctx context.Context, id ident.ID) (Trace, error) {
	var t Trace
	return t, wrap("find trace "+id.String(), s.db.WithContext(ctx).Where("id = ?", id).Take(&t).Error)
}

// TraceBefore is the last whole trace of a lane before a time, with its body; false
// when there is none.
func (s *Store) TraceBefore(ctx context.Context, lane ident.ID, t time.Time) (Trace, bool, error) {
	var x Trace
	err := s.db.WithContext(ctx).Where("lane = ? AND started_at < ? AND outcome = ?", lane, t.UTC(), protocol.Done).Order("started_at DESC").Take(&x).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return x, false, nil
	}
	return x, err == nil, wrap("find the trace before", err)
}

// LastTraces are the traces that saw each distinct route last, of those that were seen after a
// time, with their bodies.
func (s *Store) LastTraces(ctx context.Context, after time.Time) ([]Trace, error) {
	var list []Trace
	err := s.db.WithContext(ctx).Where("id IN (?)", s.db.Model(&Route{}).Select("last_trace").Where("last_at >= ?", after.UTC())).Find(&list).Error
	return list, wrap("read the last traces", err)
}

// Routes are the distinct routes of a lane, the last seen first.
func (s *Store) Routes(ctx context.Context, lane ident.ID) ([]Route, error) {
	var list []Route
	return list, wrap("list routes", s.db.WithContext(ctx).Where("lane = ?", lane).Order("last_at DESC").Limit(500).Find(&list).Error)
}

// UsualRoute is the route of a lane that was seen most often, of those that were
// seen before a time and after another; with the trace that saw it last. False when
// none was seen at least so often.
func (s *Store) UsualRoute(ctx context.Context, lane ident.ID, after time.Time, least int) (Trace, bool, error) {
	var r Route
	err := s.db.WithContext(ctx).Where("lane = ? AND last_at >= ? AND times >= ?", lane, after.UTC(), least).Order("times DESC, last_at DESC").Take(&r).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return Trace{}, false, nil
	}
	if err != nil {
		return Trace{}, false, wrap("find the usual route", err)
	}
	t, err := s.Trace(ctx, r.LastTrace)
	if errors.Is(err, ErrNotFound) {
		return t, false, nil
	}
	return t, err == nil, err
}

// HopMinutes are the hops of a lane over time, from (inclusive) to (exclusive), the
// oldest first.
func (s *Store) HopMinutes(ctx context.Context, lane ident.ID, from, to time.Time, most int) ([]HopMinute, error) {
	var list []HopMinute
	q := s.db.WithContext(ctx).Where("lane = ? AND at >= ? AND at < ?", lane, from.UTC(), to.UTC()).Order("at").Limit(most)
	return list, wrap("read hops", q.Find(&list).Error)
}

// ImportTraces keeps traces of the past.
func (s *Store) ImportTraces(ctx context.Context, agent ident.ID, list []protocol.Trace) error {
	return s.transact(ctx, "import traces", func(tx *gorm.DB) error { return saveTraces(tx, agent, list) })
}
