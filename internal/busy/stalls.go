package busy

import (
	"bufio"
	"fmt"
	"io"
	"strconv"
	"sync"
	"testing"
	"time"
)

// watch names the environment variable that makes a test program one that only tells by
// how much it was woken late.
const watch = "WOODLARK_WATCH_STALLS"

const (
	// aStall is a sleep of a millisecond that lasts this much longer.
	aStall = 5 * time.Millisecond
	// stood is the part of a try that a machine may stand still without spoiling it.
	stood = 0.003
)

// tellStalls writes the nanoseconds of each stall, a line each.
func tellStalls(w io.Writer) {
	for there := alive(); there(); {
		from := time.Now()
		time.Sleep(time.Millisecond)
		if late := time.Since(from) - time.Millisecond; late >= aStall {
			if _, err := fmt.Fprintln(w, int64(late)); err != nil {
				return
			}
		}
	}
}

// stalls sums up how long the machine stood still: a program of its own that does nothing
// else was woken late, by other guests of the host or by all that runs here.
type stalls struct {
	mu  sync.Mutex
	sum time.Duration
}

// watchStalls begins to sum up, until the test ends.
func watchStalls(t *testing.T) *stalls {
	t.Helper()
	s := &stalls{}
	cmd := helper(watch, "yes")
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Logf("nothing tells whether the machine stands still: %v", err)
		return s
	}
	read := make(chan struct{})
	go func() {
		defer close(read)
		for lines := bufio.NewScanner(out); lines.Scan(); {
			if n, err := strconv.ParseInt(lines.Text(), 10, 64); err == nil {
				s.mu.Lock()
				s.sum += time.Duration(n)
				s.mu.Unlock()
			}
		}
	}()
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		<-read
		_ = cmd.Wait()
	})
	return s
}

// during tells for how long the machine stood still in a try, and whether that is so much
// that the try says nothing.
func (s *stalls) during(try func()) (still time.Duration, spoilt bool) {
	s.mu.Lock()
	before := s.sum
	s.mu.Unlock()
	began := time.Now()
	try()
	s.mu.Lock()
	defer s.mu.Unlock()
	still = s.sum - before
	return still, float64(still) > stood*float64(time.Since(began))
}
