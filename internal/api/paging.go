package api

import (
	"fmt"
	"net/url"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/store"
)

// Paging cuts a list, newest first: by time and identifier, since records may share a time.
type Paging struct {
	Before   time.Time `query:"before_at" doc:"started_at of the last of the page before"`
	BeforeID string    `query:"before_id" doc:"Its id: without it, others of the very same time are left out. The header Link names the next page whole"`
	Limit    int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (p Paging) page() (store.Page, error) {
	out := store.Page{Limit: p.Limit, After: p.Before}
	if p.BeforeID == "" {
		return out, nil
	}
	id, err := parseID(p.BeforeID)
	if err == nil && p.Before.IsZero() {
		err = fmt.Errorf("%w: before_id goes with before_at", kind.ErrInvalid)
	}
	out.AfterID = id
	return out, err
}

// listed is a page of a list.
type listed[T any] struct {
	// Link names the next page (RFC 8288), as long as there may be one.
	Link string `header:"Link" doc:"The next page, with rel=next; empty on the last"`
	Body []T
}

// pageOf is a page with the way to the next one: behind the last record's time and
// identifier, when the page is full. query is what else was asked for.
func pageOf[T any](records []T, p Paging, query url.Values, at time.Time, id ident.ID) *listed[T] {
	out := &listed[T]{Body: records}
	if len(records) < p.Limit || len(records) == 0 {
		return out
	}
	query.Set("limit", fmt.Sprint(p.Limit))
	query.Set("before_at", at.UTC().Format(time.RFC3339Nano))
	query.Set("before_id", id.String())
	for k, v := range query {
		if len(v) == 1 && v[0] == "" {
			query.Del(k)
		}
	}
	out.Link = "<?" + query.Encode() + `>; rel="next"`
	return out
}
