package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"woodlark.example/internal/ident"
)

// Person is somebody who may come in.
type Person struct {
	ID        ident.ID `gorm:"primaryKey"`
	Name      string   // by which they sign in, in small letters
	FullName  string
	Role      string
	Scope     string // JSON; empty for everything
	Password  string // its hash; empty when there is none
	Elsewhere string // whom a provider says they are; empty when none does
	CreatedAt time.Time
	CreatedBy string
	SeenAt    *time.Time
	EndedAt   *time.Time
}

// TableName is where people are.
func (Person) TableName() string { return "people" }

// Welcome is a link that is good once, by which a person says how they come in. Only a hash of
// its secret is kept.
type Welcome struct {
	ID       ident.ID `gorm:"primaryKey"`
	Mark     []byte
	PersonID *ident.ID // nil: by it the first administrator is made
	MadeAt   time.Time
	MadeBy   string
	EndsAt   time.Time
}

// PersonToken is a key of a person's programs. Only its hash is kept.
type PersonToken struct {
	ID        ident.ID `gorm:"primaryKey"`
	Mark      []byte
	PersonID  ident.ID
	Title     string
	Role      string
	Scope     string
	CreatedAt time.Time
	EndsAt    *time.Time
	EndedAt   *time.Time
	UsedAt    *time.Time
	UsedFrom  string
}

// SignIn is a session of the console. Only a hash of its cookie is kept.
type SignIn struct {
	ID       ident.ID `gorm:"primaryKey"`
	Mark     []byte
	PersonID *ident.ID // nil for who came by the token of the state folder
	KeyMark  []byte    // of that token
	Way      string
	BeganAt  time.Time
	EndsAt   time.Time
	SeenAt   time.Time
	Address  string
	Browser  string
}

// People are all, by name, also those who ended.
func (s *Store) People(ctx context.Context) (list []Person, err error) {
	return list, wrap("list people", s.db.WithContext(ctx).Order("name").Find(&list).Error)
}

// SavePerson keeps a person, new or as they are now; the error wraps ErrTaken when another has
// the name.
func (s *Store) SavePerson(ctx context.Context, p Person) error {
	return s.transact(ctx, "keep a person", func(tx *gorm.DB) error { return tx.Save(&p).Error })
}

// SeenPerson notes when a person came in; what else is kept of them stays.
func (s *Store) SeenPerson(ctx context.Context, id ident.ID, at time.Time) error {
	return s.transact(ctx, "note that a person came in", func(tx *gorm.DB) error {
		return tx.Model(&Person{}).Where("id = ?", id).Update("seen_at", at.UTC()).Error
	})
}

// PersonTokens are all, newest first.
func (s *Store) PersonTokens(ctx context.Context) (list []PersonToken, err error) {
	return list, wrap("list tokens", s.db.WithContext(ctx).Order("created_at DESC, id DESC").Find(&list).Error)
}

// SavePersonToken keeps a token.
func (s *Store) SavePersonToken(ctx context.Context, t PersonToken) error {
	return s.transact(ctx, "keep a token", func(tx *gorm.DB) error { return tx.Save(&t).Error })
}

// UsedPersonToken notes when a token was used last, and from where.
func (s *Store) UsedPersonToken(ctx context.Context, id ident.ID, at time.Time, from string) error {
	return s.transact(ctx, "note a token's use", func(tx *gorm.DB) error {
		return tx.Model(&PersonToken{}).Where("id = ?", id).Updates(map[string]any{"used_at": at.UTC(), "used_from": clip(from, 64)}).Error
	})
}

// SignIns are the sessions that have not ended, newest first.
func (s *Store) SignIns(ctx context.Context, now time.Time) (list []SignIn, err error) {
	return list, wrap("list sign-ins", s.db.WithContext(ctx).Where("ends_at > ?", now.UTC()).Order("began_at DESC, id DESC").Find(&list).Error)
}

// SaveSignIn keeps a session.
func (s *Store) SaveSignIn(ctx context.Context, i SignIn) error {
	i.Address, i.Browser = clip(i.Address, 64), clip(i.Browser, 300)
	return s.transact(ctx, "keep a sign-in", func(tx *gorm.DB) error { return tx.Save(&i).Error })
}

// SeenSignIn notes when a session was there, and from where; one that was ended stays so.
func (s *Store) SeenSignIn(ctx context.Context, id ident.ID, at time.Time, address string) error {
	return s.transact(ctx, "note a session's use", func(tx *gorm.DB) error {
		return tx.Model(&SignIn{}).Where("id = ?", id).Updates(map[string]any{"seen_at": at.UTC(), "address": clip(address, 64)}).Error
	})
}

// DeleteSignIns removes sessions.
func (s *Store) DeleteSignIns(ctx context.Context, ids ...ident.ID) error {
	if len(ids) == 0 {
		return nil
	}
	return s.transact(ctx, "end sign-ins", func(tx *gorm.DB) error { return tx.Delete(&SignIn{}, "id IN ?", ids).Error })
}

// SaveWelcome keeps a one-time link in place of those that a person, or nobody yet, had before.
func (s *Store) SaveWelcome(ctx context.Context, w Welcome) error {
	return s.transact(ctx, "keep a one-time link", func(tx *gorm.DB) error {
		q := tx.Where("person_id IS NULL")
		if w.PersonID != nil {
			q = tx.Where("person_id = ?", *w.PersonID)
		}
		if err := q.Delete(&Welcome{}).Error; err != nil {
			return err
		}
		return tx.Create(&w).Error
	})
}

// Welcome is the one-time link of a hash; the error wraps ErrNotFound.
func (s *Store) Welcome(ctx context.Context, mark []byte) (w Welcome, err error) {
	return w, wrap("find a one-time link", s.db.WithContext(ctx).Where("mark = ?", mark).Take(&w).Error)
}

// TakeWelcome uses a one-time link up, and keeps the person that it is for: both or neither. The
// error wraps ErrNotFound when it was used meanwhile.
func (s *Store) TakeWelcome(ctx context.Context, id ident.ID, p Person) error {
	return s.transact(ctx, "use a one-time link", func(tx *gorm.DB) error {
		r := tx.Delete(&Welcome{}, "id = ?", id)
		if r.Error == nil && r.RowsAffected == 0 {
			return gorm.ErrRecordNotFound
		}
		if r.Error != nil {
			return r.Error
		}
		return tx.Save(&p).Error
	})
}

// Passkey is a key that a person's device holds. What is kept of it is public.
type Passkey struct {
	ID        ident.ID `gorm:"primaryKey"`
	PersonID  ident.ID
	Title     string
	Host      string // that it is good for
	Body      string // JSON
	CreatedAt time.Time
	UsedAt    *time.Time
}

// Passkeys are all.
func (s *Store) Passkeys(ctx context.Context) (list []Passkey, err error) {
	return list, wrap("list passkeys", s.db.WithContext(ctx).Find(&list).Error)
}

// SavePasskey keeps a passkey, new or as it is now.
func (s *Store) SavePasskey(ctx context.Context, k Passkey) error {
	return s.transact(ctx, "keep a passkey", func(tx *gorm.DB) error { return tx.Save(&k).Error })
}

// UsedPasskey notes what came of a passkey's use; one that was ended stays so.
func (s *Store) UsedPasskey(ctx context.Context, k Passkey) error {
	return s.transact(ctx, "note a passkey's use", func(tx *gorm.DB) error {
		return tx.Model(&Passkey{}).Where("id = ?", k.ID).Updates(map[string]any{"body": k.Body, "used_at": k.UsedAt}).Error
	})
}

// DeletePasskeys removes passkeys.
func (s *Store) DeletePasskeys(ctx context.Context, ids ...ident.ID) error {
	if len(ids) == 0 {
		return nil
	}
	return s.transact(ctx, "end passkeys", func(tx *gorm.DB) error { return tx.Delete(&Passkey{}, "id IN ?", ids).Error })
}
