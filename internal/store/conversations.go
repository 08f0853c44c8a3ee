package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"woodlark.example/internal/ident"
)

// Conversation is a program of an agent's machine that talked to a server, and where what was
// measured for as long stands.
type Conversation struct {
	ID       ident.ID `gorm:"primaryKey"`
	WatchID  ident.ID
	AgentID  ident.ID
	PathID   *ident.ID // nil when none could be measured
	RunID    *ident.ID // that found the route as it began; nil when none could
	Program  string
	Protocol string // tcp, udp
	Server   string // its address
	Port     uint16
	BeganAt  time.Time
	SeenAt   time.Time
	EndedAt  *time.Time // nil while it goes on
	Says     string     // why it could not be measured
}

// ConversationFilter chooses conversations; what is empty does not matter.
type ConversationFilter struct {
	Watches         []ident.ID
	Agent, Path     ident.ID
	Program, Server string
	Open            bool
	From, To        time.Time // that they touch
	Page            Page
}

// SaveConversation keeps a conversation.
func (s *Store) SaveConversation(ctx context.Context, c Conversation) error {
	c.Program, c.Says = clip(c.Program, 64), clip(c.Says, 500)
	return s.transact(ctx, "keep a conversation", func(tx *gorm.DB) error { return tx.Save(&c).Error })
}

// Conversations are conversations, newest first.
func (s *Store) Conversations(ctx context.Context, f ConversationFilter) (list []Conversation, err error) {
	q := f.Page.olderBy(s.db.WithContext(ctx), "began_at").Order("began_at DESC, id DESC").Limit(f.Page.limit())
	if len(f.Watches) > 0 {
		q = q.Where("watch_id IN ?", f.Watches)
	}
	for column, id := range map[string]ident.ID{"agent_id": f.Agent, "path_id": f.Path} {
		if !id.IsZero() {
			q = q.Where(column+" = ?", id)
		}
	}
	for column, text := range map[string]string{"program": f.Program, "server": f.Server} {
		if text != "" {
			q = q.Where(column+" = ?", text)
		}
	}
	if f.Open {
		q = q.Where("ended_at IS NULL")
	}
	if !f.From.IsZero() {
		q = q.Where("ended_at IS NULL OR ended_at >= ?", f.From.UTC())
	}
	if !f.To.IsZero() {
		q = q.Where("began_at < ?", f.To.UTC())
	}
	return list, wrap("list conversations", q.Find(&list).Error)
}

// Conversation is one; the error wraps ErrNotFound.
func (s *Store) Conversation(ctx context.Context, id ident.ID) (c Conversation, err error) {
	return c, wrap("find the conversation "+id.String(), s.db.WithContext(ctx).Where("id = ?", id).First(&c).Error)
}
