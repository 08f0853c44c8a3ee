//go:build !linux

package main

// How probes are timed, sent and taken goes by Linux's own sockets: elsewhere nothing would be
// measured as it is said to be, so there is no program elsewhere. A compiler says so with this line.
var _ int = "Linux only: Woodlark is built and run on Linux"

func main() {}
