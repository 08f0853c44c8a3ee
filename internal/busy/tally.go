package busy

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strings"
)

// Tally is how often one test ran, how often it tried more than once though the machine did
// not stand still, and in how many of its runs it could not be judged.
type Tally struct {
	Test                         string
	Runs, Again, Most, NotJudged int
}

const (
	// fewRuns of a test say nothing of how often it has to try again.
	fewRuns = 3
	// part of its runs a test may need more than one try in.
	part = 1.0 / 3
)

// TooOften reports whether a test has to try again too often: then it is the test that is wrong,
// or Woodlark, and not the machine.
func (t Tally) TooOften() bool {
	return t.Runs >= fewRuns && float64(t.Again) > part*float64(t.Runs)
}

// Tallies reads a log of tries; those that had to try again most often come first.
func Tallies(log io.Reader) (list []Tally, err error) {
	lines := bufio.NewScanner(log)
	for lines.Scan() {
		name, count, ok := strings.Cut(lines.Text(), " ")
		n, spoilt := 0, 0
		if _, err := fmt.Sscan(count, &n, &spoilt); !ok || err != nil || n < 1 || spoilt < 0 || spoilt > n {
			return nil, fmt.Errorf("log of tries: %q is no test, how often it tried and how many tries were spoilt", lines.Text())
		}
		i := slices.IndexFunc(list, func(t Tally) bool { return t.Test == name })
		if i < 0 {
			i = len(list)
			list = append(list, Tally{Test: name})
		}
		list[i].Runs++
		list[i].Most = max(list[i].Most, n)
		switch {
		case n >= tries && n-spoilt < sound:
			list[i].NotJudged++
		case n-spoilt > 1:
			list[i].Again++
		}
	}
	slices.SortStableFunc(list, func(a, b Tally) int { return b.Again - a.Again })
	return list, lines.Err()
}
