// Package all brings in every kind of measurement, so that they are known: programs import it
// for that alone. It is the one place that a new kind is written into.
package all

import (
	_ "woodlark.example/internal/kind/accept"
	_ "woodlark.example/internal/kind/ping"
	_ "woodlark.example/internal/kind/ready"
	_ "woodlark.example/internal/kind/stream"
	_ "woodlark.example/internal/kind/sweep"
	_ "woodlark.example/internal/kind/throughput"
	_ "woodlark.example/internal/kind/trace"
	_ "woodlark.example/internal/kind/walk"
)
