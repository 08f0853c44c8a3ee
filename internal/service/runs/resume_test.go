package runs

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/ident"
)

// TestARunThatWasCutGoesOnOnce, however many hear of it.
func TestARunThatWasCutGoesOnOnce(t *testing.T) {
	x := New(Options{})
	a, b := ident.New(), ident.New()
	now := time.Now()
	assert.True(t, x.first(a, now))
	assert.False(t, x.first(a, now.Add(time.Second)))
	assert.True(t, x.first(b, now))
	assert.False(t, x.first(a, now.Add(waitForAgent)), "as long as it may still be waited for")
	assert.True(t, x.first(b, now.Add(5*waitForAgent)), "long after, it is forgotten")
	assert.Len(t, x.goesOn, 1)
}
