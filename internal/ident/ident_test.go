package ident_test

import (
	"encoding/json"
	"slices"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
)

func TestIdentifiersSortByTime(t *testing.T) {
	var list []string
	for range 200 {
		id := ident.New()
		assert.Equal(t, uuid.Version(7), uuid.UUID(id).Version())
		list = append(list, id.String())
	}
	assert.True(t, slices.IsSorted(list))
}

func TestThereAndBack(t *testing.T) {
	id := ident.New()
	parsed, err := ident.Parse(id.String())
	require.NoError(t, err)
	assert.Equal(t, id, parsed)
	data, err := json.Marshal(map[string]ident.ID{"a": id, "none": {}})
	require.NoError(t, err)
	var back map[string]ident.ID
	require.NoError(t, json.Unmarshal(data, &back))
	assert.Equal(t, id, back["a"])
	assert.True(t, back["none"].IsZero())

	value, err := id.Value()
	require.NoError(t, err)
	var scanned ident.ID
	require.NoError(t, scanned.Scan(value))
	assert.Equal(t, id, scanned)
	none, err := ident.ID{}.Value()
	require.NoError(t, err)
	assert.Nil(t, none)
	require.NoError(t, scanned.Scan(nil))
	assert.True(t, scanned.IsZero())

	_, err = ident.Parse("terminal")
	require.ErrorContains(t, err, `"terminal" is not a UUID`)
	require.Error(t, scanned.Scan([]byte{1, 2}))
	require.Error(t, scanned.Scan(5))
}
