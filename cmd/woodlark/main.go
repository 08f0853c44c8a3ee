//go:build linux

// Command woodlark measures the paths between hosts and says which got worse.
package main

import (
	"os"
	_ "time/tzdata" // so that zones are known on hosts without their files

	"woodlark.example/internal/cli"
)

func main() {
	trust()
	os.Exit(cli.Main(os.Args[1:], os.Stdin, output(), os.Stderr))
}
