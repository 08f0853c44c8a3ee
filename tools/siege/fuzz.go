package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"strings"
)

var fuzzer = regexp.MustCompile(`(?m)^func (Fuzz\w+)\(`)

// fuzz has each fuzz test of the house run for a while.
func fuzz(ctx context.Context, t *table) error {
	out, err := exec.CommandContext(ctx, "git", "ls-files", "*_test.go").Output()
	if err != nil {
		return fmt.Errorf("list the tests: %w", err)
	}
	for _, file := range strings.Fields(string(out)) {
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		for _, found := range fuzzer.FindAllStringSubmatch(string(text), -1) {
			where := "./" + file[:strings.LastIndex(file, "/")]
			said, err := fuzzed(ctx, where, found[1])
			if ctx.Err() != nil {
				return ctx.Err()
			}
			seen := "no input broke it"
			if lines := strings.Split(strings.TrimSpace(string(said)), "\n"); err != nil {
				seen = strings.Join(lines[max(0, len(lines)-6):], " | ")
			} else if at := strings.LastIndex(string(said), "execs: "); at >= 0 {
				tried, _, _ := strings.Cut(string(said)[at+len("execs: "):], " ")
				seen = tried + " inputs, none broke it"
			}
			t.saw(strings.TrimPrefix(where, "./")+" "+found[1], "no panic, nothing that it forbids", err == nil, "%s", seen)
		}
	}
	return nil
}

// fuzzed runs one fuzz test. What a slow machine does to the end of its time says nothing of an input:
// such a run is made once more.
func fuzzed(ctx context.Context, where, name string) (said []byte, err error) {
	for range 2 {
		said, err = exec.CommandContext(ctx, "go", "test", "-run", "^$", "-fuzz", "^"+name+"$", "-fuzztime", fuzzTime.String(), "-parallel", "2", where).CombinedOutput()
		if err == nil || bytes.Contains(said, []byte("Failing input")) || !bytes.Contains(said, []byte("context deadline exceeded")) {
			break
		}
	}
	return said, err
}
