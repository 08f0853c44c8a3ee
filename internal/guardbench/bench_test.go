package guardbench

import (
	"os"
	"strconv"
	"testing"
	"time"
)

func env(name string, otherwise int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return otherwise
}

func TestBench(t *testing.T) {
	o := Options{Seed: uint64(env("SEED", 1)), Repeats: env("REP", 1), Every: time.Duration(env("EVERY", 1)) * time.Minute, Probes: 60, Only: os.Getenv("ONLY"), Fault: os.Getenv("FAULT"), Stride: uint64(env("STRIDE", 1))}
	if o.Every > time.Minute {
		o.Probes = 20
	}
	from := time.Now()
	Run(o).Print(os.Stdout, os.Getenv("V") != "")
	t.Log(time.Since(from))
}
