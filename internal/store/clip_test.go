package store

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestClipCutsBetweenLetters(t *testing.T) {
	assert.Equal(t, "as it is", clip("as it is", 8))
	for most := 4; most < 40; most++ {
		got := clip(strings.Repeat("fjørd ", 10), most)
		assert.LessOrEqual(t, len(got), most)
		assert.Greater(t, len(got), most-3, "no shorter than it has to be")
		assert.True(t, utf8.ValidString(got))
		assert.True(t, strings.HasSuffix(got, "…"))
	}
	assert.Len(t, clip(strings.Repeat("x", 5_000_000), 1_000_000), 1_000_000)
}
