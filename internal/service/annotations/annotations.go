// Package annotations keeps what people write of a path, or of all, at a time or over a span: it
// stands on plots, in reports, and in what is handed on.
//
//	a, err := x.Add(ctx, store.Annotation{PathID: &id, At: began, Text: "mast being painted"})
package annotations

import (
	"context"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
)

// Options of Annotations; all are needed.
type Options struct {
	Store   *store.Store
	Notices *notices.Notices
	Paths   *paths.Paths
}

// Annotations are all of them. It is safe for concurrent use.
type Annotations struct{ Options }

// New keeps what the store keeps.
func New(o Options) *Annotations { return &Annotations{o} }

const (
	mostText    = 4000 // bytes
	mostAuthor  = 100
	mostListed  = 1000
	longestSpan = 366 * 24 * time.Hour
	mostAhead   = 366 * 24 * time.Hour
)

// Add keeps an annotation; the error wraps kind.ErrInvalid or store.ErrNotFound when it cannot
// be.
func (x *Annotations) Add(ctx context.Context, a store.Annotation) (store.Annotation, error) {
	a.Text, a.Author = strings.TrimSpace(a.Text), strings.TrimSpace(a.Author)
	if a.Author == "" {
		a.Author = notices.Actor(ctx)
	}
	now := time.Now()
	switch {
	case a.Text == "":
		return a, fmt.Errorf("%w: an annotation needs a text", kind.ErrInvalid)
	case len(a.Text) > mostText:
		return a, fmt.Errorf("%w: the text has %d bytes; %d at most are kept", kind.ErrInvalid, len(a.Text), mostText)
	case len(a.Author) > mostAuthor:
		return a, fmt.Errorf("%w: the author has %d bytes; %d at most are kept", kind.ErrInvalid, len(a.Author), mostAuthor)
	case !utf8.ValidString(a.Text) || !utf8.ValidString(a.Author):
		return a, fmt.Errorf("%w: the text is not UTF-8", kind.ErrInvalid)
	case a.At.IsZero():
		return a, fmt.Errorf("%w: an annotation is of a time: at is missing", kind.ErrInvalid)
	case a.At.After(now.Add(mostAhead)):
		return a, fmt.Errorf("%w: %s is more than a year ahead", kind.ErrInvalid, a.At.UTC().Format(time.RFC3339))
	case a.Until != nil && (!a.Until.After(a.At) || a.Until.Sub(a.At) > longestSpan):
		return a, fmt.Errorf("%w: until %s is not within a year after %s", kind.ErrInvalid, a.Until.UTC().Format(time.RFC3339), a.At.UTC().Format(time.RFC3339))
	}
	if a.PathID != nil {
		if _, _, err := x.Paths.Ends(*a.PathID); err != nil {
			return a, err
		}
	}
	a.ID, a.At, a.MadeAt = ident.New(), a.At.UTC(), now.UTC()
	if a.Until != nil {
		until := a.Until.UTC()
		a.Until = &until
	}
	if err := x.Store.SaveAnnotation(ctx, a); err != nil {
		return a, err
	}
	x.Notices.Changed(ctx, "annotation_added", a.ID.String(), nil, a.Text)
	return a, nil
}

// Between are those that touch a stretch of time; of a path, with those of all, or of all when
// path is none.
func (x *Annotations) Between(ctx context.Context, path ident.ID, from, to time.Time) ([]store.Annotation, error) {
	return x.Store.Annotations(ctx, path, from, to, mostListed)
}

// Remove removes one; the error wraps store.ErrNotFound.
func (x *Annotations) Remove(ctx context.Context, id ident.ID) error {
	a, err := x.Store.Annotation(ctx, id)
	if err != nil {
		return err
	}
	if err := x.Store.DeleteAnnotation(ctx, id); err != nil {
		return err
	}
	x.Notices.Changed(ctx, "annotation_removed", id.String(), a.Text, nil)
	return nil
}
