// Package busy is for tests that measure in real time on machines that are not theirs
// alone.
package busy

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// patience is for how long a test tries.
const patience = 4 * time.Minute

// Tries carries a measurement out until all that is asserted of it holds, for some
// minutes at most. A machine without time to spare sends late and loses packets itself;
// what is wrong of Woodlark is wrong each time. What is asserted with t instead must hold
// at the first try.
func Tries(t *testing.T, try func(c *assert.CollectT)) {
	t.Helper()
	require.EventuallyWithT(t, try, patience, time.Millisecond)
}
