package guardbench_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/guardbench"
)

// The short form: a few paths of each climate, by seeds that nobody tuned with. The thresholds
// are below the goals as far as so few paths ask for.
func TestGuard(t *testing.T) {
	table := guardbench.Run(guardbench.Options{Seed: guardbench.HeldOut, Every: time.Minute, Part: 31})
	table.Print(t.Output())
	table.Explain(t.Output())
	f := table.All()
	assert.GreaterOrEqual(t, f.Precision(), 0.93)
	assert.GreaterOrEqual(t, f.Recall(), 0.9)
	assert.Less(t, f.FalseOlder(), 2.5)
	assert.LessOrEqual(t, guardbench.Median(f.Delay), 5.0)
	assert.LessOrEqual(t, guardbench.Median(f.Date), 1.0)
	assert.LessOrEqual(t, guardbench.Median(f.Over), 5.0)
	assert.LessOrEqual(t, f.Fragments(), 1.3)
}

// TestWhatLooksWrongIsProbedMore: what is large is told sooner, and nothing more is told wrongly.
func TestWhatLooksWrongIsProbedMore(t *testing.T) {
	o := guardbench.Options{Seed: guardbench.HeldOut, Every: time.Minute, Part: 61}
	usual := guardbench.Run(o).All()
	o.Suspicion = true
	table := guardbench.Run(o)
	table.Print(t.Output())
	table.Explain(t.Output())
	f := table.All()
	assert.Less(t, guardbench.Median(f.Delay), guardbench.Median(usual.Delay))
	assert.LessOrEqual(t, guardbench.Median(f.Delay), 2.5)
	assert.GreaterOrEqual(t, f.Recall(), usual.Recall()-0.1)
	assert.LessOrEqual(t, f.Told-f.True, usual.Told-usual.True+1)
}

func TestIncidents(t *testing.T) {
	for _, sent := range []int{60, 12} {
		x := guardbench.RunIncidents(guardbench.HeldOut, 40, sent)
		x.Print(t.Output())
		assert.GreaterOrEqual(t, float64(x.Named), 0.93*float64(x.Faults), "%d probes a minute", sent)
		assert.LessOrEqual(t, float64(x.Accused), 0.03*float64(x.Segments), "%d probes a minute", sent)
	}
}

func TestManyPathsMakeNoneSlow(t *testing.T) {
	few, many := guardbench.RunSize(guardbench.HeldOut, 100), guardbench.RunSize(guardbench.HeldOut, 10_000)
	assert.Len(t, many, len(few))
	assert.LessOrEqual(t, guardbench.Median(many), 1.2*guardbench.Median(few))
}
