// Tries prints which tests had to try again, from the log of a day, and fails when one had to in
// more than a third of its runs.
//
//	go run ./tools/tries FILE
package main

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"woodlark.example/internal/busy"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: tries FILE")
		os.Exit(2)
	}
	f, err := os.Open(os.Args[1])
	if errors.Is(err, fs.ErrNotExist) {
		return // no test that tries was run
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	tooOften, err := tell(os.Stdout, f)
	_ = f.Close()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	if tooOften {
		os.Exit(1)
	}
}

// tell prints the tests that tried again; it reports whether one of them does too often.
func tell(w io.Writer, log io.Reader) (tooOften bool, err error) {
	list, err := busy.Tallies(log)
	if err != nil {
		return false, err
	}
	runs := 0
	for _, t := range list {
		runs += t.Runs
		if t.NotJudged > 0 {
			fmt.Fprintf(w, "%s could not be judged in %d of its %d runs today: the machine stood still\n", t.Test, t.NotJudged, t.Runs)
		}
		if t.Again == 0 {
			continue
		}
		says := ""
		if t.TooOften() {
			says, tooOften = ": too often", true
		}
		fmt.Fprintf(w, "%s tried again in %d of its %d runs today, up to %d times%s\n", t.Test, t.Again, t.Runs, t.Most, says)
	}
	fmt.Fprintf(w, "%d tests may try again; they ran %d times today\n", len(list), runs)
	return tooOften, nil
}
