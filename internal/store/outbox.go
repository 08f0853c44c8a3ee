package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"woodlark.example/internal/ident"
)

// Channel is a way by which people are told. Settings are JSON, of its type.
type Channel struct {
	ID        ident.ID `gorm:"primaryKey"`
	Name      string
	Type      string
	Settings  string
	CreatedAt time.Time
}

// Rule says who is told of what. Body is JSON.
type Rule struct {
	ID        ident.ID `gorm:"primaryKey"`
	Name      string
	Body      string
	CreatedAt time.Time
}

// Matter is something that people may have to be told of: it waits until it is known whom. It is
// kept in one transaction with what it is of.
type Matter struct {
	ID      ident.ID `gorm:"primaryKey"`
	Subject ident.ID // an episode or an incident
	PathID  *ident.ID
	What    string    // opened, worse, easing, closed
	At      time.Time // when it could be told
	MadeAt  time.Time
}

// The states of a message.
const (
	Waiting   = "waiting"
	Delivered = "delivered"
	GaveUp    = "gave up"
	Held      = "held"   // for the end of quiet hours, or of a storm
	Summed    = "summed" // it is part of a summary
)

// Message is what somebody is told by a channel. Body is JSON: a line, a text, and the same for
// machines.
type Message struct {
	ID        ident.ID `gorm:"primaryKey"`
	RuleID    ident.ID
	ChannelID ident.ID
	Subject   ident.ID
	Turn      int // grows within a subject and rule
	What      string
	At        time.Time
	DueAt     time.Time
	State     string
	Tries     int
	Error     string
	Title     string
	Body      string
	EndedAt   *time.Time
}

// Channels are all of them, by name.
func (s *Store) Channels(ctx context.Context) (list []Channel, err error) {
	return list, wrap("list channels", s.db.WithContext(ctx).Order("name").Find(&list).Error)
}

// SaveChannel keeps a channel.
func (s *Store) SaveChannel(ctx context.Context, c Channel) error {
	return s.transact(ctx, "keep a channel", func(tx *gorm.DB) error { return tx.Save(&c).Error })
}

// DeleteChannel removes a channel; what waits for it is given up.
func (s *Store) DeleteChannel(ctx context.Context, id ident.ID) error {
	return s.transact(ctx, "remove a channel", func(tx *gorm.DB) error {
		if err := tx.Model(&Message{}).Where("channel_id = ? AND state IN ?", id, []string{Waiting, Held}).Updates(map[string]any{"state": GaveUp, "error": "the channel was removed", "ended_at": time.Now().UTC()}).Error; err != nil {
			return err
		}
		return tx.Delete(&Channel{}, "id = ?", id).Error
	})
}

// Rules are all of them, by name.
func (s *Store) Rules(ctx context.Context) (list []Rule, err error) {
	return list, wrap("list rules", s.db.WithContext(ctx).Order("name").Find(&list).Error)
}

// SaveRule keeps a rule.
func (s *Store) SaveRule(ctx context.Context, r Rule) error {
	return s.transact(ctx, "keep a rule", func(tx *gorm.DB) error { return tx.Save(&r).Error })
}

// DeleteRule removes a rule; what waits by it is given up.
func (s *Store) DeleteRule(ctx context.Context, id ident.ID) error {
	return s.transact(ctx, "remove a rule", func(tx *gorm.DB) error {
		if err := tx.Model(&Message{}).Where("rule_id = ? AND state IN ?", id, []string{Waiting, Held}).Updates(map[string]any{"state": GaveUp, "error": "the rule was removed", "ended_at": time.Now().UTC()}).Error; err != nil {
			return err
		}
		return tx.Delete(&Rule{}, "id = ?", id).Error
	})
}

// Matters are those that wait, in the order in which they were made.
func (s *Store) Matters(ctx context.Context, most int) (list []Matter, err error) {
	return list, wrap("list matters", s.db.WithContext(ctx).Order("made_at, id").Limit(most).Find(&list).Error)
}

// Route keeps messages and removes the matters that they came of: all of that or nothing. A
// message that is there already stays as it is.
func (s *Store) Route(ctx context.Context, messages []Message, matters []ident.ID) error {
	if len(messages)+len(matters) == 0 {
		return nil
	}
	return s.transact(ctx, "keep messages", func(tx *gorm.DB) error {
		for i := range messages {
			messages[i].Title, messages[i].Error = clip(messages[i].Title, 500), clip(messages[i].Error, 500)
		}
		if len(messages) > 0 {
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(messages, batchRows).Error; err != nil {
				return err
			}
		}
		if len(matters) == 0 {
			return nil
		}
		return tx.Delete(&Matter{}, "id IN ?", matters).Error
	})
}

// MessageFilter chooses messages; what is empty does not matter.
type MessageFilter struct {
	State   string
	Subject ident.ID
	Rule    ident.ID
	Due     time.Time // due until then
	Since   time.Time
	Oldest  bool // first; else the newest
	Page    Page
}

// Messages are messages.
func (s *Store) Messages(ctx context.Context, f MessageFilter) (list []Message, err error) {
	q := f.Page.olderBy(s.db.WithContext(ctx), "at").Limit(f.Page.limit())
	if f.Oldest {
		q = q.Order("at, id")
	} else {
		q = q.Order("at DESC, id DESC")
	}
	if f.State != "" {
		q = q.Where("state = ?", f.State)
	}
	for column, id := range map[string]ident.ID{"subject": f.Subject, "rule_id": f.Rule} {
		if !id.IsZero() {
			q = q.Where(column+" = ?", id)
		}
	}
	if !f.Due.IsZero() {
		q = q.Where("due_at <= ?", f.Due.UTC())
	}
	if !f.Since.IsZero() {
		q = q.Where("at >= ?", f.Since.UTC())
	}
	return list, wrap("list messages", q.Find(&list).Error)
}

// SaveMessages keeps how messages stand.
func (s *Store) SaveMessages(ctx context.Context, list ...Message) error {
	return s.transact(ctx, "keep messages", func(tx *gorm.DB) error {
		for _, m := range list {
			m.Title, m.Error = clip(m.Title, 500), clip(m.Error, 500)
			if err := tx.Save(&m).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// keepMatters keeps what people may have to be told of, in a transaction.
func keepMatters(tx *gorm.DB, list []Matter) error {
	if len(list) == 0 {
		return nil
	}
	return tx.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(list, batchRows).Error
}

// MessageStates are how many messages wait and are held back.
func (s *Store) MessageStates(ctx context.Context) (map[string]int, error) {
	var list []counted
	err := s.db.WithContext(ctx).Raw("SELECT state AS name, COUNT(*) AS count FROM messages WHERE state IN (?, ?) GROUP BY state", Waiting, Held).Scan(&list).Error
	out := byName(list)
	for _, state := range []string{Waiting, Held} {
		out[state] += 0
	}
	return out, wrap("count messages", err)
}
