package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"woodlark.example/internal/ident"
)

// Invite lets one agent on another machine join, until it ends.
type Invite struct {
	ID        ident.ID `gorm:"primaryKey"`
	CodeHash  []byte
	Name      string // that the agent gets; its own choice when empty
	Site      string
	Labels    string
	CreatedAt time.Time
	EndsAt    time.Time
	UsedAt    *time.Time
}

// Removed is the kind of an agent that was locked out.
const Removed = "removed"

// ErrInvite is wrapped when an invite cannot be used.
var ErrInvite = errors.New("this invite cannot be used")

// HashOf is what is kept of a secret, by which it is known again: secrets are random,
// so nothing slower is needed.
func HashOf(secret string) []byte {
	sum := sha256.Sum256([]byte("woodlark " + secret))
	return sum[:]
}

// SaveInvite keeps an invite.
func (s *Store) SaveInvite(ctx context.Context, i Invite) error {
	return s.transact(ctx, "keep an invite", func(tx *gorm.DB) error {
		return tx.Create(&i).Error
	})
}

// Invites are those that can still be used.
func (s *Store) Invites(ctx context.Context) ([]Invite, error) {
	var list []Invite
	return list, wrap("list invites", s.db.WithContext(ctx).Where("used_at IS NULL AND ends_at > ?", time.Now().UTC()).Order("created_at").Find(&list).Error)
}

// UseInvite lets an agent join by a code, once: the agent is kept with the hash of its
// key, under the invite's name and site where it has them. One that did and asks again, with the
// public key that it came with, has not heard the answer: it is who it was.
func (s *Store) UseInvite(ctx context.Context, code string, a Agent, keyHash []byte) (Agent, error) {
	err := s.transact(ctx, "let an agent join", func(tx *gorm.DB) error {
		var i Invite
		err := tx.Where("code_hash = ?", HashOf(code)).Take(&i).Error
		switch {
		case errors.Is(err, gorm.ErrRecordNotFound):
			return fmt.Errorf("%w: there is none with this code", ErrInvite)
		case err != nil:
			return err
		case i.UsedAt != nil && len(a.PublicKey) > 0:
			var joined Agent
			err := tx.Where("public_key = ? AND kind <> ?", a.PublicKey, Removed).Take(&joined).Error
			if err == nil {
				a = joined
			}
			if !errors.Is(err, gorm.ErrRecordNotFound) {
				return err
			}
			fallthrough
		case i.UsedAt != nil:
			return fmt.Errorf("%w: it was used on %s; make another with 'woodlark agents invite'", ErrInvite, i.UsedAt.UTC().Format(time.RFC3339))
		case time.Now().After(i.EndsAt):
			return fmt.Errorf("%w: it ended on %s; make another with 'woodlark agents invite'", ErrInvite, i.EndsAt.UTC().Format(time.RFC3339))
		}
		now := time.Now().UTC()
		// Of two who use it at once only one changes the row.
		used := tx.Model(&Invite{}).Where("id = ? AND used_at IS NULL", i.ID).Update("used_at", now)
		if used.Error != nil {
			return used.Error
		}
		if used.RowsAffected == 0 {
			return fmt.Errorf("%w: it was used just now", ErrInvite)
		}
		if i.Name != "" {
			a.Name = i.Name
		}
		if i.Site != "" {
			a.Site = i.Site
		}
		if i.Labels != "" {
			a.Labels = i.Labels
		}
		a.ID, a.CreatedAt, a.SeenAt, a.KeyHash = ident.New(), now, &now, keyHash
		var before Agent
		err = tx.Where("name = ?", a.Name).Take(&before).Error
		switch {
		case errors.Is(err, gorm.ErrRecordNotFound):
			return tx.Create(&a).Error
		case err != nil:
			return err
		case before.Kind != Removed:
			return fmt.Errorf("%w: there is an agent named %q already; join with another -name", ErrInvite, a.Name)
		}
		// One that was removed comes back as who it was: its paths are its own, and so is
		// what it still holds of them.
		a.ID, a.CreatedAt = before.ID, before.CreatedAt
		return tx.Save(&a).Error
	})
	return a, err
}

// AgentByKey is the agent whose key has a hash.
func (s *Store) AgentByKey(ctx context.Context, keyHash []byte) (Agent, error) {
	var a Agent
	return a, wrap("find an agent", s.db.WithContext(ctx).Where("key_hash = ?", keyHash).Take(&a).Error)
}

// LockOut takes an agent's key away. What it measured stays.
func (s *Store) LockOut(ctx context.Context, id ident.ID) error {
	return s.transact(ctx, "lock out an agent", func(tx *gorm.DB) error {
		return tx.Model(&Agent{}).Where("id = ?", id).Updates(map[string]any{"key_hash": nil, "public_key": nil, "kind": Removed}).Error
	})
}

// NoteHealth keeps what an agent says of itself.
func (s *Store) NoteHealth(ctx context.Context, id ident.ID, at time.Time, version, health string) error {
	return wrap("note an agent", s.db.WithContext(ctx).Model(&Agent{}).Where("id = ?", id).
		Updates(map[string]any{"seen_at": at.UTC(), "version": version, "health": health}).Error)
}

// SetAgentKey keeps by what an agent signs; what it showed before is good no more.
func (s *Store) SetAgentKey(ctx context.Context, id ident.ID, keyHash, public []byte) error {
	return s.transact(ctx, "keep an agent's key", func(tx *gorm.DB) error {
		return tx.Model(&Agent{}).Where("id = ?", id).Updates(map[string]any{"key_hash": keyHash, "public_key": public}).Error
	})
}
