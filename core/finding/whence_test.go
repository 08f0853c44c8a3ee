package finding_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/finding"
)

// TestWhereATraceIsSlowerFrom: four hops of a route that is 12 ms slower than the usual one.
func TestWhereATraceIsSlowerFrom(t *testing.T) {
	was := []float64{0.3, 4.2, 16.4, 22.5}
	report := func(step float64, added ...float64) finding.TraceReport {
		r := finding.TraceReport{Compared: &finding.Comparison{StepMs: &step}}
		for i, a := range added {
			before, now := was[i], was[i]+a
			r.Compared.Lines = append(r.Compared.Lines, finding.DiffLine{Change: "same", Address: []string{"192.0.2.1", "198.51.100.65", "198.51.100.66", "203.0.113.26"}[i], TTLWas: i + 1, TTLIs: i + 1, MsWas: &before, MsIs: &now})
		}
		return r
	}
	for _, c := range []struct {
		name string
		r    finding.TraceReport
		hop  float64 // 0 when none may be named
	}{
		{"from the third", report(12, 0, 0.2, 11.5, 12), 3},
		{"from the first", report(12, 11, 12, 12, 12), 1},
		{"at the target alone", report(12, 0, 0, 0, 12), 4},
		{"a hop that answers slowly itself", report(12, 0, 30, 0.1, 12), 0},
		{"over several hops", report(12, 0, 6, 9, 12), 0},
		{"hardly", report(0.8, 0, 0, 0.8, 0.8), 0},
		{"faster", report(-12, 0, 0, -12, -12), 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			found := c.r.Whence()
			if c.hop == 0 {
				assert.Empty(t, found)
				return
			}
			if assert.Len(t, found, 1) {
				assert.Equal(t, finding.DelayCarried, found[0].Code)
				assert.Equal(t, c.hop, found[0].Figures["hop"])
			}
		})
	}
	moved := report(12, 0, 0, 12, 12)
	moved.Compared.Changed = true
	assert.Empty(t, moved.Whence(), "another route is a cause of its own")
	lossy := finding.TraceReport{Findings: []finding.Finding{{Code: finding.LossCarried}, {Code: finding.DelayCarried}, {Code: finding.LossSparing}}}
	if found := lossy.Whence(); assert.Len(t, found, 1, "what delay it has always, and answers that are spared, are no cause") {
		assert.Equal(t, finding.LossCarried, found[0].Code)
	}
}
