//go:build linux && (amd64 || arm64)

package main

import (
	"errors"
	"io"
	"os"
)

// entry is in assembly: the linker is told to begin there.
func entry()

// outputState is what the kernel said of standard output before the program began: below
// zero when it was closed. It stays 0 where the program began elsewhere.
var outputState int64

// closed is an output that nobody opened.
type closed struct{}

func (closed) Write([]byte) (int, error) {
	return 0, errors.New("standard output is closed; to do without the result write it to /dev/null")
}

func output() io.Writer {
	if outputState < 0 {
		return closed{}
	}
	return os.Stdout
}

var _ = entry
