package store

import (
	"context"
	"crypto/rand"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

type signingKey struct {
	Name   string `gorm:"primaryKey"`
	Seed   []byte
	MadeAt time.Time
}

func (signingKey) TableName() string { return "signing_keys" }

// SigningSeed is the seed of the key of a name (Ed25519, RFC 8032): made once, and then the same
// for all services on the database.
func (s *Store) SigningSeed(ctx context.Context, name string) ([]byte, error) {
	fresh := signingKey{Name: name, Seed: make([]byte, 32), MadeAt: time.Now().UTC()}
	if _, err := rand.Read(fresh.Seed); err != nil {
		return nil, err
	}
	var kept signingKey
	err := s.transact(ctx, "keep a key", func(tx *gorm.DB) error {
		if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&fresh).Error; err != nil {
			return err
		}
		return tx.Where("name = ?", name).Take(&kept).Error
	})
	return kept.Seed, err
}
