// Package busy is for tests that measure in real time on machines that are not theirs
// alone: they may try again, and how often they had to is written down.
package busy

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"
)

const (
	// tries are made before a test gives up, and for patience if they are short.
	tries    = 5
	patience = time.Minute
	// sound is how many tries that the machine did not spoil have to fail.
	sound = 2
	// Log names the environment variable with the file that tries are written to, a line each:
	// the test, how often it tried and how many of the tries the machine spoilt.
	Log = "WOODLARK_TRIES"
)

// Try collects what is wrong in one try.
type Try struct{ wrong []string }

// Errorf notes what is wrong.
func (y *Try) Errorf(format string, args ...any) {
	y.wrong = append(y.wrong, fmt.Sprintf(format, args...))
}

// FailNow ends the try, and not the test.
func (y *Try) FailNow() {
	if len(y.wrong) == 0 {
		y.wrong = []string{"it failed"}
	}
	panic(y)
}

// Tries carries a measurement out until all that is asserted of it holds. A machine
// without time to spare sends late and loses packets itself; what is wrong of Woodlark is
// wrong each time. What is asserted with t instead must hold at the first try. Processors
// are kept awake meanwhile.
//
// A try in which the machine stood still does not count. When none is left that counts,
// the test says so and fails nothing.
func Tries(t *testing.T, try func(y *Try)) {
	t.Helper()
	Awake(t)
	tryUntil(t, try)
}

// Again is Tries for what says itself what is wrong.
func Again(t *testing.T, try func() (wrong string)) {
	t.Helper()
	Awake(t)
	AsItIs(t, try)
}

// AsItIs is Again on the machine as it is: for what asks how busy that is.
func AsItIs(t *testing.T, try func() (wrong string)) {
	t.Helper()
	tryUntil(t, func(y *Try) {
		if wrong := try(); wrong != "" {
			y.Errorf("%s", wrong)
		}
	})
}

func tryUntil(t *testing.T, try func(*Try)) {
	t.Helper()
	s := watchStalls(t)
	var y *Try
	var failed []string
	began, spoilt, n := time.Now(), 0, 0
	for n < tries || time.Since(began) < patience {
		n++
		y = &Try{}
		still, bad := s.during(func() { y.ended(try) })
		if t.Failed() || len(y.wrong) == 0 {
			note(t, n, spoilt)
			return
		}
		if bad {
			spoilt++
			t.Logf("%s\n(the machine stood still for %s meanwhile)", strings.Join(y.wrong, "\n"), still.Round(time.Millisecond))
			continue
		}
		failed = y.wrong
		t.Log(strings.Join(failed, "\n"))
	}
	note(t, n, spoilt)
	if n-spoilt < sound {
		t.Logf("NOT JUDGED: the machine stood still in %d of %d tries", spoilt, n)
		return
	}
	t.Error(strings.Join(failed, "\n"))
}

// ended runs a try that may end early.
func (y *Try) ended(try func(*Try)) {
	defer func() {
		if r := recover(); r != nil && r != any(y) {
			panic(r)
		}
	}()
	try(y)
}

// note writes down how often a test tried, and how often the machine spoilt that.
func note(t *testing.T, n, spoilt int) {
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
	if _, err := fmt.Fprintf(f, "%s %d %d\n", t.Name(), n, spoilt); err != nil {
		t.Errorf("the log of tries: %v", err)
	}
}
