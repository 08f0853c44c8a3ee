package store

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

// Result is what the run found, as JSON; nil when that is not here.
func (r Run) Result() (json.RawMessage, error) {
	if len(r.Body) == 0 {
		return nil, nil
	}
	var raw json.RawMessage
	return raw, wrap("read "+r.Kind+" "+r.ID.String(), unpack(r.Body, &raw))
}

// RunOf is what is stored of a run of an agent. Its body is left out when another table has it.
func RunOf(agent ident.ID, m protocol.Made, body bool) (Run, error) {
	f := m.Figures
	r := Run{ID: m.Run, Kind: m.Kind, Version: m.Version, WatchID: m.Watch, PathID: m.Path, AgentID: agent, FarID: m.FarID, Target: clip(m.Lane.Target, 253), Family: m.Lane.Family, Via: m.Lane.Via,
		StartedAt: m.Started.UTC(), Address: m.Address, Outcome: m.Outcome, Reason: clip(m.Reason, 500),
		ThereBps: f.ThereBps, BackBps: f.BackBps, MOS: f.MOS, Answered: f.Answered, Asked: f.Of, SentBytes: f.SentBytes}
	if !m.Ended.IsZero() {
		ended := m.Ended.UTC()
		r.EndedAt = &ended
	}
	if m.Body == nil || !body {
		return r, nil
	}
	var err error
	r.Body, err = pack(m.Body)
	return r, err
}

// runColumns are those that the end of a run sets; the outcome, by which it is known whether
// it is done, comes last.
var runColumns = []string{"started_at", "ended_at", "address", "reason", "there_bps", "back_bps", "mos", "answered", "asked", "sent_bytes", "body", "outcome"}

// saveRuns keeps runs over what is there of them, unless that is done.
func saveRuns(tx *gorm.DB, runs []Run) error {
	if len(runs) == 0 {
		return nil
	}
	return tx.Clauses(clause.OnConflict{DoUpdates: untilDone(runColumns...)}).CreateInBatches(runs, batchRows).Error
}

// BeginRuns notes runs that are going on.
func (s *Store) BeginRuns(ctx context.Context, runs []Run) error {
	return s.transact(ctx, "note runs", func(tx *gorm.DB) error {
		return tx.CreateInBatches(runs, batchRows).Error
	})
}

// BeginKinds notes what of an upload is going on where its kinds are looked for.
func (s *Store) BeginKinds(ctx context.Context, u protocol.Upload) error {
	if len(u.Sweeps)+len(u.Traces)+len(u.TwoEnded) == 0 {
		return nil
	}
	return s.transact(ctx, "note what goes on", func(tx *gorm.DB) error {
		for _, x := range u.Sweeps {
			row, err := SweepOf(u.Agent, x)
			if err == nil {
				err = tx.Create(&row).Error
			}
			if err != nil {
				return err
			}
		}
		for _, x := range u.TwoEnded {
			row, err := TwoEndedOf(u.Agent, x)
			if err == nil {
				err = saveTwoEnded(tx, row)
			}
			if err != nil {
				return err
			}
		}
		return saveTraces(tx, u.Agent, u.Traces)
	})
}

// NoteRun keeps what is known of a run over what was there of it.
func (s *Store) NoteRun(ctx context.Context, r Run) error {
	return wrap("note a run", saveRuns(s.db.WithContext(ctx), []Run{r}))
}

// RunFilter selects runs; zero fields select all.
type RunFilter struct {
	Watches           []ident.ID // any of them
	Path, Agent       ident.ID
	Kind, Target, Via string
	Outcome           protocol.Outcome
	From, To          time.Time
	Within            *Within // nil: everywhere
	Page              Page
}

// Within is a part of the network: what was measured at an agent, towards it, or between two ends.
type Within struct {
	Agents []ident.ID
	Ends   [][]any // agent and target
}

// on narrows a search; an empty list is of nothing. columns are those that name an agent.
func (w *Within) on(q *gorm.DB, target bool, columns ...string) *gorm.DB {
	if w == nil {
		return q
	}
	var parts []string
	var values []any
	for _, c := range columns {
		parts, values = append(parts, c+" IN ?"), append(values, w.Agents)
	}
	if target && len(w.Ends) > 0 {
		parts, values = append(parts, "(agent_id, target) IN ?"), append(values, w.Ends)
	}
	return q.Where(strings.Join(parts, " OR "), values...)
}

const runWithoutBody = "id, kind, version, watch_id, path_id, agent_id, far_id, target, family, via, started_at, ended_at, address, outcome, reason, there_bps, back_bps, mos, answered, asked, sent_bytes"

// Runs are runs, newest first, without their bodies.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]Run, error) {
	q := s.db.WithContext(ctx).Select(runWithoutBody).Order("started_at DESC, id DESC").Limit(f.Page.limit())
	for column, id := range map[string]ident.ID{"path_id": f.Path, "agent_id": f.Agent} {
		if !id.IsZero() {
			q = q.Where(column+" = ?", id)
		}
	}
	if len(f.Watches) > 0 {
		q = q.Where("watch_id IN ?", f.Watches)
	}
	for column, text := range map[string]string{"kind": f.Kind, "target": f.Target, "via": f.Via, "outcome": string(f.Outcome)} {
		if text != "" {
			q = q.Where(column+" = ?", text)
		}
	}
	if !f.From.IsZero() {
		q = q.Where("started_at >= ?", f.From.UTC())
	}
	if !f.To.IsZero() {
		q = q.Where("started_at < ?", f.To.UTC())
	}
	q = f.Page.older(f.Within.on(q, true, "agent_id", "far_id"))
	var list []Run
	return list, wrap("list runs", q.Find(&list).Error)
}

// Run is one run with its body.
func (s *Store) Run(ctx context.Context, id ident.ID) (Run, error) {
	var r Run
	return r, wrap("find run "+id.String(), s.db.WithContext(ctx).Where("id = ?", id).Take(&r).Error)
}

// ResultOf is what a run found, as JSON, wherever that is kept; nil when there is nothing.
func (s *Store) ResultOf(ctx context.Context, r Run) (json.RawMessage, error) {
	if len(r.Body) > 0 {
		return r.Result()
	}
	for _, table := range []string{"traces", "sweeps", "two_ended"} {
		var bodies [][]byte
		if err := s.db.WithContext(ctx).Raw("SELECT body FROM "+table+" WHERE id = ? AND body IS NOT NULL", r.ID).Scan(&bodies).Error; err != nil {
			return nil, wrap("read "+r.Kind+" "+r.ID.String(), err)
		}
		if len(bodies) > 0 && len(bodies[0]) > 0 {
			r.Body = bodies[0]
			return r.Result()
		}
	}
	return nil, nil
}

// counted is how many there are of something.
type counted struct {
	Name  string
	Count int
}

func byName(list []counted) map[string]int {
	out := map[string]int{}
	for _, c := range list {
		out[c.Name] = c.Count
	}
	return out
}

// Outcomes are how many runs began since a time, by outcome.
func (s *Store) Outcomes(ctx context.Context, since time.Time) (map[string]int, error) {
	var list []counted
	err := s.db.WithContext(ctx).Raw("SELECT outcome AS name, COUNT(*) AS count FROM runs WHERE started_at >= ? GROUP BY outcome", since.UTC()).Scan(&list).Error
	return byName(list), wrap("count runs", err)
}

// KeepPartial keeps what a run between two ends measured so far, while it goes on.
func (s *Store) KeepPartial(ctx context.Context, run ident.ID, body json.RawMessage) error {
	packed, err := pack(body)
	if err != nil {
		return wrap("keep what was measured so far", err)
	}
	return s.transact(ctx, "keep what was measured so far", func(tx *gorm.DB) error {
		return tx.Model(&TwoEnded{}).Where("id = ? AND outcome = ?", run, protocol.Running).Update("body", packed).Error
	})
}

// CutRuns are those of some kinds, on demand, that went on as the service was stopped, and began
// since a time: the newest towards each target of each agent, unless a later one was made there.
func (s *Store) CutRuns(ctx context.Context, kinds []string, since time.Time) ([]Run, error) {
	if len(kinds) == 0 {
		return nil, nil
	}
	var list []Run
	err := s.db.WithContext(ctx).Where("kind IN ? AND started_at >= ? AND (watch_id IS NULL OR watch_id = ?)", kinds, since.UTC(), ident.ID{}).Order("started_at DESC, id DESC").Find(&list).Error
	if err != nil {
		return nil, wrap("find runs that were cut", err)
	}
	known := map[string]bool{}
	var cut []Run
	for _, r := range list {
		key := r.AgentID.String() + " " + r.Target + " " + r.Kind
		if known[key] {
			continue
		}
		known[key] = true
		if r.Outcome == protocol.Failed && r.Reason == CutOff {
			cut = append(cut, r)
		}
	}
	return cut, nil
}

// MarkCut notes that runs were cut as the service was stopped, and not by anybody.
func (s *Store) MarkCut(ctx context.Context, runs []ident.ID) error {
	if len(runs) == 0 {
		return nil
	}
	for _, table := range []any{&TwoEnded{}, &Run{}} {
		if err := s.db.WithContext(ctx).Model(table).Where("id IN ? AND outcome <> ?", runs, protocol.Done).
			Updates(map[string]any{"outcome": protocol.Failed, "reason": CutOff}).Error; err != nil {
			return wrap("note runs that were cut", err)
		}
	}
	return nil
}
