package keys_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/keys"
)

func TestKeysAndPassphrases(t *testing.T) {
	a, b := keys.New("wlk"), keys.New("wlk")
	assert.NotEqual(t, a, b)
	assert.Len(t, a, 4+64)
	assert.True(t, strings.HasPrefix(a, "wlk-"))
	assert.Len(t, keys.Mark(a), 32)
	assert.Equal(t, keys.Mark(a), keys.Mark(a))
	assert.NotEqual(t, keys.Mark(a), keys.Mark(b))

	kept, err := keys.Hash("a long passphrase")
	require.NoError(t, err)
	again, err := keys.Hash("a long passphrase")
	require.NoError(t, err)
	assert.NotEqual(t, kept, again, "each has a salt of its own")
	assert.NotContains(t, kept, "passphrase")
	assert.True(t, keys.Fits(kept, "a long passphrase"))
	assert.True(t, keys.Fits(again, "a long passphrase"))
	for _, wrong := range []string{"", "a long passphras", "A long passphrase", "a long passphrase "} {
		assert.False(t, keys.Fits(kept, wrong), wrong)
	}
	for _, nothing := range []string{"", "!", "AAAA", strings.Repeat("A", 64)} {
		assert.False(t, keys.Fits(nothing, "a long passphrase"), nothing)
	}
}
