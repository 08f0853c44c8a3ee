package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"woodlark.example/internal/ident"
)

// Maintenance is a maintenance window, or a calendar of them; its body says which.
type Maintenance struct {
	ID        ident.ID `gorm:"primaryKey"`
	Name      string
	Body      string
	CreatedAt time.Time
}

// TableName is that of the migration.
func (Maintenance) TableName() string { return "maintenance" }

// Objective is a set of limits with a name.
type Objective struct {
	ID        ident.ID `gorm:"primaryKey"`
	Name      string
	Body      string
	CreatedAt time.Time
}

// Evidence is a measurement that was made while an episode opened, or as it closed.
type Evidence struct {
	ID        ident.ID `gorm:"primaryKey"`
	PathID    ident.ID
	EpisodeID ident.ID
	Phase     string // opening, closing
	What      string
	RunID     *ident.ID // nil when none could be begun
	Says      string    // why not
	At        time.Time
}

// TableName is that of the migration.
func (Evidence) TableName() string { return "evidence" }

// Maintenances are all windows, by name.
func (s *Store) Maintenances(ctx context.Context) (list []Maintenance, err error) {
	return list, wrap("list maintenance windows", s.db.WithContext(ctx).Order("name, id").Find(&list).Error)
}

// SaveMaintenance keeps a window.
func (s *Store) SaveMaintenance(ctx context.Context, m Maintenance) error {
	return s.transact(ctx, "keep a maintenance window", func(tx *gorm.DB) error { return tx.Save(&m).Error })
}

// DeleteMaintenance removes a window.
func (s *Store) DeleteMaintenance(ctx context.Context, id ident.ID) error {
	return s.transact(ctx, "remove a maintenance window", func(tx *gorm.DB) error { return tx.Delete(&Maintenance{}, "id = ?", id).Error })
}

// Objectives are all objectives, by name.
func (s *Store) Objectives(ctx context.Context) (list []Objective, err error) {
	return list, wrap("list objectives", s.db.WithContext(ctx).Order("name").Find(&list).Error)
}

// SaveObjective keeps an objective; one of the same name is replaced.
func (s *Store) SaveObjective(ctx context.Context, o Objective) error {
	return s.transact(ctx, "keep an objective", func(tx *gorm.DB) error {
		if err := tx.Delete(&Objective{}, "name = ?", o.Name).Error; err != nil {
			return err
		}
		return tx.Create(&o).Error
	})
}

// DeleteObjective removes an objective.
func (s *Store) DeleteObjective(ctx context.Context, name string) error {
	return s.transact(ctx, "remove an objective", func(tx *gorm.DB) error { return tx.Delete(&Objective{}, "name = ?", name).Error })
}

// SaveEvidence keeps what was measured of an episode.
func (s *Store) SaveEvidence(ctx context.Context, list []Evidence) error {
	if len(list) == 0 {
		return nil
	}
	return s.transact(ctx, "keep evidence", func(tx *gorm.DB) error { return tx.Create(&list).Error })
}

// EvidenceBetween is what was measured of episodes of a path within a time, in the order in which
// it was begun.
func (s *Store) EvidenceBetween(ctx context.Context, path ident.ID, from, to time.Time) (list []Evidence, err error) {
	return list, wrap("list evidence", s.db.WithContext(ctx).Where("path_id = ? AND at >= ? AND at < ?", path, from.UTC(), to.UTC()).Order("at, id").Limit(500).Find(&list).Error)
}

// EvidenceOf is what was measured of an episode, in the order in which it was begun.
func (s *Store) EvidenceOf(ctx context.Context, episode ident.ID) (list []Evidence, err error) {
	return list, wrap("list evidence", s.db.WithContext(ctx).Where("episode_id = ?", episode).Order("at, id").Find(&list).Error)
}
