package main

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestThePictureIsOfThisHouse: the one in the documents is what the imports say today.
func TestThePictureIsOfThisHouse(t *testing.T) {
	h, err := read("../..")
	require.NoError(t, err)
	var now bytes.Buffer
	require.NoError(t, h.draw(&now))
	kept, err := os.ReadFile("../../docs/architecture.svg")
	require.NoError(t, err)
	assert.True(t, bytes.Equal(kept, now.Bytes()), "run: go run ./tools/rooms > docs/architecture.svg")
}

func TestWhereRoomsStand(t *testing.T) {
	h := house{map[string]map[string]bool{
		"far": {}, "mid": {"far": true}, "near": {"mid": true, "far": true}, "aside": {"far": true},
	}}
	assert.Equal(t, [][]string{{"far"}, {"aside", "mid"}, {"near"}}, h.columns())
	assert.Equal(t, []string{"mid"}, h.asks("near"), "far is asked by mid")
	assert.Equal(t, []string{"far"}, h.asks("aside"))
	for folder, want := range map[string]string{"core/delay": "core", "internal/kind": "kind", "internal/kind/ping": "kinds", "internal/api/apitype": "apitype", "internal/api": "api", "internal/house": "", "tools/rooms": ""} {
		assert.Equal(t, want, room(folder), folder)
	}
}
