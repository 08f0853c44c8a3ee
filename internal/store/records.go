package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/wire"
)

// EnsureAgent returns the agent of a name, made when it is not there, with its
// other properties brought up to date.
func (s *Store) EnsureAgent(ctx context.Context, a Agent) (Agent, error) {
	var found Agent
	err := s.transact(ctx, "keep agent "+a.Name, func(tx *gorm.DB) error {
		found = Agent{}
		err := tx.Where("name = ?", a.Name).Take(&found).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			a.ID, a.CreatedAt = ident.New(), time.Now().UTC()
			found = a
			return tx.Create(&a).Error
		}
		if err != nil {
			return err
		}
		found.Site, found.Kind, found.Address, found.Version = a.Site, a.Kind, a.Address, a.Version
		return tx.Save(&found).Error
	})
	return found, err
}

// Agents are all agents, by name.
func (s *Store) Agents(ctx context.Context) ([]Agent, error) {
	var list []Agent
	return list, wrap("list agents", s.db.WithContext(ctx).Order("name").Find(&list).Error)
}

// SeenAgents notes that agents were heard of.
func (s *Store) SeenAgents(ctx context.Context, ids []ident.ID, at time.Time) error {
	if len(ids) == 0 {
		return nil
	}
	return s.transact(ctx, "note agents", func(tx *gorm.DB) error {
		return tx.Model(&Agent{}).Where("id IN ?", ids).Update("seen_at", at.UTC()).Error
	})
}

// Ends are what tells paths apart.
type Ends struct {
	Agent  ident.ID
	Target string
	Family wire.Family
	Via    string // see reading.Via
}

// Ends are those of the path.
func (p Path) Ends() Ends { return Ends{p.AgentID, p.Target, p.Family, p.Via} }

// EnsurePaths returns the paths between ends, in their order; those that are not there are made,
// at the site that siteOf says their target is at.
func (s *Store) EnsurePaths(ctx context.Context, list []Ends, siteOf func(target string) string) ([]Path, error) {
	out := make([]Path, len(list))
	err := s.transact(ctx, fmt.Sprintf("keep %d paths", len(list)), func(tx *gorm.DB) error {
		known, err := pathsBetween(tx, list)
		if err != nil {
			return err
		}
		var fresh []Path
		now := time.Now().UTC()
		for i, e := range list {
			p, ok := known[e]
			if !ok {
				p = Path{ID: ident.New(), AgentID: e.Agent, Target: e.Target, Family: e.Family, Via: e.Via, Site: siteOf(e.Target), CreatedAt: now}
				known[e] = p
				fresh = append(fresh, p)
			}
			out[i] = p
		}
		if len(fresh) == 0 {
			return nil
		}
		return tx.CreateInBatches(fresh, batchRows).Error
	})
	return out, err
}

// pathsBetween are the paths that are there between any of the ends.
func pathsBetween(tx *gorm.DB, list []Ends) (map[Ends]Path, error) {
	targets := map[ident.ID][]string{}
	for _, e := range list {
		targets[e.Agent] = append(targets[e.Agent], e.Target)
	}
	known := map[Ends]Path{}
	for agent, names := range targets {
		slices.Sort(names)
		for part := range slices.Chunk(slices.Compact(names), batchRows) {
			var rows []Path
			if err := tx.Where("agent_id = ? AND target IN ?", agent, part).Find(&rows).Error; err != nil {
				return nil, err
			}
			for _, p := range rows {
				known[p.Ends()] = p
			}
		}
	}
	return known, nil
}

// Paths are all paths.
func (s *Store) Paths(ctx context.Context) ([]Path, error) {
	var list []Path
	return list, wrap("list paths", s.db.WithContext(ctx).Order("id").Find(&list).Error)
}

// Watches are all watches, by name.
func (s *Store) Watches(ctx context.Context) ([]Watch, error) {
	var list []Watch
	return list, wrap("list watches", s.db.WithContext(ctx).Order("name").Find(&list).Error)
}

// WatchPaths are which watch measures which path.
func (s *Store) WatchPaths(ctx context.Context) ([]WatchPath, error) {
	var list []WatchPath
	return list, wrap("list the paths of watches", s.db.WithContext(ctx).Find(&list).Error)
}

// SaveWatch keeps a watch and which paths it measures. The error wraps
// ErrTaken when another watch has its name.
func (s *Store) SaveWatch(ctx context.Context, w Watch, paths []ident.ID) error {
	return s.SaveWatches(ctx, []Watch{w}, [][]ident.ID{paths}, nil)
}

// SaveWatches keeps watches and which paths each measures, and removes those that are gone: all
// of that or nothing. The error wraps ErrTaken when another watch has the name of one.
func (s *Store) SaveWatches(ctx context.Context, list []Watch, paths [][]ident.ID, gone []ident.ID) error {
	return s.transact(ctx, "keep watches", func(tx *gorm.DB) error {
		for _, id := range gone {
			if err := deleteWatch(tx, id); err != nil {
				return err
			}
		}
		for i, w := range list {
			if err := saveWatch(tx, w, paths[i]); err != nil {
				return fmt.Errorf("keep watch %q: %w", w.Name, err)
			}
		}
		return nil
	})
}

func saveWatch(tx *gorm.DB, w Watch, paths []ident.ID) error {
	var other int64
	if err := tx.Model(&Watch{}).Where("name = ? AND id <> ?", w.Name, w.ID).Count(&other).Error; err != nil {
		return err
	}
	if other > 0 {
		return ErrTaken
	}
	if err := tx.Save(&w).Error; err != nil {
		return err
	}
	if err := tx.Where("watch_id = ?", w.ID).Delete(&WatchPath{}).Error; err != nil {
		return err
	}
	rows := make([]WatchPath, len(paths))
	for i, p := range paths {
		rows[i] = WatchPath{WatchID: w.ID, PathID: p}
	}
	if len(rows) == 0 {
		return nil
	}
	return tx.CreateInBatches(rows, batchRows).Error
}

// DeleteWatch removes a watch. Its paths and their readings stay.
func (s *Store) DeleteWatch(ctx context.Context, id ident.ID) error {
	return s.SaveWatches(ctx, nil, nil, []ident.ID{id})
}

func deleteWatch(tx *gorm.DB, id ident.ID) error {
	if err := tx.Where("watch_id = ?", id).Delete(&WatchPath{}).Error; err != nil {
		return err
	}
	return tx.Where("id = ?", id).Delete(&Watch{}).Error
}

// CutOff is the reason of records that a stopped service left running.
const CutOff = "the service was stopped in the middle"

// EndRunning marks the runs that a killed service left running.
func (s *Store) EndRunning(ctx context.Context) error {
	for _, kind := range []any{&Sweep{}, &Trace{}, &TwoEnded{}, &Run{}} {
		if err := s.db.WithContext(ctx).Model(kind).Where("outcome = ?", protocol.Running).
			Updates(map[string]any{"outcome": protocol.Failed, "reason": CutOff, "ended_at": time.Now().UTC()}).Error; err != nil {
			return wrap(fmt.Sprintf("end cut-off records (%T)", kind), err)
		}
	}
	return nil
}

// SaveEpisodes keeps episodes, over those with the same identifier.
func (s *Store) SaveEpisodes(ctx context.Context, list []Episode, guards ...Guard) error {
	if len(list)+len(guards) == 0 {
		return nil
	}
	var matters []Matter
	for _, e := range list {
		matters = append(matters, e.Matters...)
	}
	return s.transact(ctx, "keep episodes", func(tx *gorm.DB) error {
		if len(list) > 0 {
			if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(list, batchRows).Error; err != nil {
				return err
			}
		}
		if err := saveGuards(tx, guards); err != nil {
			return err
		}
		return keepMatters(tx, matters)
	})
}

// Episodes are the episodes that touch a stretch of time, of one path or, when
// path is none, of all, oldest first.
func (s *Store) Episodes(ctx context.Context, path ident.ID, from, to time.Time) ([]Episode, error) {
	q := s.db.WithContext(ctx).Where("from_at < ? AND (to_at IS NULL OR to_at > ?)", to.UTC(), from.UTC()).Order("from_at, id")
	if !path.IsZero() {
		q = q.Where("path_id = ?", path)
	}
	var list []Episode
	return list, wrap("list episodes", q.Find(&list).Error)
}

// EpisodeByID is one episode; the error wraps ErrNotFound.
func (s *Store) EpisodeByID(ctx context.Context, id ident.ID) (e Episode, err error) {
	return e, wrap("find episode "+id.String(), s.db.WithContext(ctx).Where("id = ?", id).First(&e).Error)
}

// SaveIncidents keeps incidents, over those with the same identifier.
func (s *Store) SaveIncidents(ctx context.Context, list []Incident) error {
	if len(list) == 0 {
		return nil
	}
	var matters []Matter
	for _, x := range list {
		matters = append(matters, x.Matters...)
	}
	return s.transact(ctx, "keep incidents", func(tx *gorm.DB) error {
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(list, batchRows).Error; err != nil {
			return err
		}
		return keepMatters(tx, matters)
	})
}

// Incidents are the incidents that touch a stretch of time, oldest first.
func (s *Store) Incidents(ctx context.Context, from, to time.Time) ([]Incident, error) {
	var list []Incident
	err := s.db.WithContext(ctx).Where("from_at < ? AND (to_at IS NULL OR to_at > ?)", to.UTC(), from.UTC()).Order("told_at, id").Find(&list).Error
	return list, wrap("list incidents", err)
}

// SaveBaseline keeps a baseline. Of a path's rolling baselines only the newest
// is kept; pinned ones stay.
func (s *Store) SaveBaseline(ctx context.Context, b Baseline) error {
	return s.transact(ctx, "keep a baseline", func(tx *gorm.DB) error {
		if !b.Pinned {
			if err := tx.Where("path_id = ? AND pinned = 0 AND id <> ?", b.PathID, b.ID).Delete(&Baseline{}).Error; err != nil {
				return err
			}
		}
		return tx.Save(&b).Error
	})
}

// PinBaseline pins a baseline of a path, or unpins all of them.
func (s *Store) PinBaseline(ctx context.Context, path, id ident.ID, pin bool) error {
	return s.transact(ctx, "pin a baseline", func(tx *gorm.DB) error {
		if !pin {
			return tx.Model(&Baseline{}).Where("path_id = ?", path).Update("pinned", false).Error
		}
		found := tx.Model(&Baseline{}).Where("path_id = ? AND id = ?", path, id).Update("pinned", true)
		if found.Error == nil && found.RowsAffected == 0 {
			return gorm.ErrRecordNotFound
		}
		return found.Error
	})
}

// Baselines are the baselines of one path or, when path is none, of all, newest
// first, without their bodies unless asked for.
func (s *Store) Baselines(ctx context.Context, path ident.ID, bodies bool) ([]Baseline, error) {
	q := s.db.WithContext(ctx).Order("taken_at DESC")
	if !path.IsZero() {
		q = q.Where("path_id = ?", path)
	}
	if !bodies {
		q = q.Select("id, path_id, taken_at, pinned, readings")
	}
	var list []Baseline
	return list, wrap("list baselines", q.Find(&list).Error)
}

// WithBaselines are the paths that have one.
func (s *Store) WithBaselines(ctx context.Context) (map[ident.ID]bool, error) {
	var list []Baseline
	if err := s.db.WithContext(ctx).Distinct("path_id").Find(&list).Error; err != nil {
		return nil, wrap("list baselines", err)
	}
	by := make(map[ident.ID]bool, len(list))
	for _, b := range list {
		by[b.PathID] = true
	}
	return by, nil
}

// SaveNotice keeps a notice.
func (s *Store) SaveNotice(ctx context.Context, n Notice) error {
	n.Text = clip(n.Text, 500)
	return s.transact(ctx, "keep a notice", func(tx *gorm.DB) error {
		return tx.Create(&n).Error
	})
}

// Notices are the notices since a time, newest first.
func (s *Store) Notices(ctx context.Context, since time.Time) ([]Notice, error) {
	var list []Notice
	return list, wrap("list notices", s.db.WithContext(ctx).Where("at >= ?", since.UTC()).Order("at DESC").Limit(200).Find(&list).Error)
}
