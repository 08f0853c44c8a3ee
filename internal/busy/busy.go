// Package busy is for tests that measure in real time on machines that are not theirs
// alone: they may try again, and how often they had to is written down.
package busy

import (
	"fmt"
	"os"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	// patience is for how long a test tries.
	patience = 4 * time.Minute
	// again is how often one tries that takes long.
	again = 5
	// Log names the environment variable with the file that tries are written to, a line each:
	// the test and how often it tried.
	Log = "WOODLARK_TRIES"
)

// Tries carries a measurement out until all that is asserted of it holds, for some
// minutes at most. A machine without time to spare sends late and loses packets itself;
// what is wrong of Woodlark is wrong each time. What is asserted with t instead must hold
// at the first try.
func Tries(t *testing.T, try func(c *assert.CollectT)) {
	t.Helper()
	var n atomic.Int32
	defer func() { note(t, int(n.Load())) }()
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		n.Add(1)
		try(c)
	}, patience, time.Millisecond)
}

// Again tries up to five times until nothing is said to be wrong.
func Again(t *testing.T, try func() (wrong string)) {
	t.Helper()
	wrong := ""
	for n := range again {
		if wrong = try(); wrong == "" {
			note(t, n+1)
			return
		}
		t.Log(wrong)
	}
	note(t, again)
	t.Error(wrong)
}

// note writes down how often a test tried.
func note(t *testing.T, n int) {
	t.Helper()
	if n > 1 {
		t.Logf("tried %d times", n)
	}
	name := os.Getenv(Log)
	if name == "" {
		return
	}
	// Appended in one write, so that tests that run beside each other do not mix their lines.
	f, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		t.Errorf("the log of tries: %v", err)
		return
	}
	defer f.Close()
	if _, err := fmt.Fprintf(f, "%s %d\n", t.Name(), n); err != nil {
		t.Errorf("the log of tries: %v", err)
	}
}
