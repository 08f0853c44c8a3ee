package service_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// TestAnnotations: of a path, of all, at a time and over a span; in reports of the time that they
// touch; and what cannot be.
func TestAnnotations(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	w := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "192.0.2.2"}})
	end := time.Now().Truncate(time.Minute).UTC()
	ctx := notices.WithActor(t.Context(), "mara")
	add := func(path *ident.ID, ago time.Duration, lasts time.Duration, text string) store.Annotation {
		a := store.Annotation{PathID: path, At: end.Add(-ago), Text: text}
		if lasts > 0 {
			until := a.At.Add(lasts)
			a.Until = &until
		}
		kept, err := c.Annotations.Add(ctx, a)
		require.NoError(t, err)
		return kept
	}
	first := add(&w.Paths[0], 5*time.Hour, 3*time.Hour, "  mast being painted ")
	add(nil, time.Hour, 0, "power test")
	add(&w.Paths[1], 30*time.Minute, 0, "ferry in")
	add(nil, 20*time.Hour, time.Hour, "before")
	assert.Equal(t, "mara", first.Author)
	assert.Equal(t, "mast being painted", first.Text)
	texts := func(path ident.ID, from, to time.Duration) (list []string) {
		all, err := c.Annotations.Between(t.Context(), path, end.Add(-from), end.Add(-to))
		require.NoError(t, err)
		for _, a := range all {
			list = append(list, a.Text)
		}
		return list
	}
	assert.Equal(t, []string{"mast being painted", "power test"}, texts(w.Paths[0], 3*time.Hour, 0), "the span reaches into it")
	assert.Equal(t, []string{"power test", "ferry in"}, texts(ident.ID{}, 90*time.Minute, 0))
	assert.Empty(t, texts(w.Paths[0], 119*time.Minute, 61*time.Minute))

	r, err := c.Reports.Make(t.Context(), reports.Spec{From: end.Add(-6 * time.Hour), To: end})
	require.NoError(t, err)
	require.Len(t, r.Notes, 3)
	assert.Equal(t, "192.0.2.1", r.Notes[0].To)
	assert.Empty(t, r.Notes[1].From)

	for says, a := range map[string]store.Annotation{
		"needs a text": {At: end, Text: "  "}, "4000 at most": {At: end, Text: strings.Repeat("x", 10<<20)}, "at is missing": {Text: "x"}, "a year ahead": {At: end.AddDate(2, 0, 0), Text: "x"}, "not UTF-8": {At: end, Text: "\xff"}, "100 at most": {At: end, Text: "x", Author: strings.Repeat("y", 101)},
		"not within a year": {At: end, Until: &first.At, Text: "x"},
	} {
		_, err := c.Annotations.Add(ctx, a)
		assert.ErrorIs(t, err, kind.ErrInvalid, says)
		assert.ErrorContains(t, err, says)
	}
	nobody := ident.New()
	_, err = c.Annotations.Add(ctx, store.Annotation{PathID: &nobody, At: end, Text: "x"})
	assert.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, c.Annotations.Remove(ctx, first.ID))
	assert.ErrorIs(t, c.Annotations.Remove(ctx, first.ID), store.ErrNotFound)
	assert.Equal(t, []string{"power test"}, texts(w.Paths[0], 3*time.Hour, 0))
}
