package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"woodlark.example/internal/ident"
)

// Site is a place and what stands at it. Lat and Lon are degrees, nil where it is not known
// where it is; Targets is a list in JSON.
type Site struct {
	Name      string `gorm:"primaryKey"`
	Lat, Lon  *float64
	Targets   string
	Note      string
	ChangedAt time.Time
}

// PrefixOwner is who has a prefix.
type PrefixOwner struct {
	Prefix    string `gorm:"primaryKey"`
	Name      string
	Kind      string
	ChangedAt time.Time
}

// TableName is where they are kept.
func (PrefixOwner) TableName() string { return "owners" }

// Sites are all of them, by name.
func (s *Store) Sites(ctx context.Context) (list []Site, err error) {
	return list, wrap("list sites", s.db.WithContext(ctx).Order("name").Find(&list).Error)
}

// SaveSites keeps sites, all or none; those that are there are replaced.
func (s *Store) SaveSites(ctx context.Context, list []Site) error {
	return s.transact(ctx, "keep sites", func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(list, batchRows).Error
	})
}

// DeleteSite removes a site.
func (s *Store) DeleteSite(ctx context.Context, name string) error {
	return s.transact(ctx, "remove a site", func(tx *gorm.DB) error { return tx.Delete(&Site{}, "name = ?", name).Error })
}

// MovePaths notes at which sites the targets of paths are.
func (s *Store) MovePaths(ctx context.Context, sites map[ident.ID]string) error {
	by := map[string][]ident.ID{}
	for id, site := range sites {
		by[site] = append(by[site], id)
	}
	return s.transact(ctx, "note the sites of paths", func(tx *gorm.DB) error {
		for site, ids := range by {
			for len(ids) > 0 {
				some := ids[:min(len(ids), batchRows)]
				ids = ids[len(some):]
				if err := tx.Model(&Path{}).Where("id IN ?", some).Update("site", site).Error; err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Owners are all owners of prefixes, by prefix.
func (s *Store) Owners(ctx context.Context) (list []PrefixOwner, err error) {
	return list, wrap("list owners", s.db.WithContext(ctx).Order("prefix").Find(&list).Error)
}

// SaveOwners keeps owners of prefixes, all or none; those that are there are replaced.
func (s *Store) SaveOwners(ctx context.Context, list []PrefixOwner) error {
	return s.transact(ctx, "keep owners", func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(list, batchRows).Error
	})
}

// DeleteOwner forgets who has a prefix.
func (s *Store) DeleteOwner(ctx context.Context, prefix string) error {
	return s.transact(ctx, "remove an owner", func(tx *gorm.DB) error { return tx.Delete(&PrefixOwner{}, "prefix = ?", prefix).Error })
}
