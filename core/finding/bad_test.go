package finding_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
)

// TestWhatIsNotGood: a sure loss is, a single lost probe of many is not.
func TestWhatIsNotGood(t *testing.T) {
	for _, c := range []struct {
		name       string
		lost, sent int
		want       bool
	}{
		{"42 of 100", 42, 100, true},
		{"8 of 10", 8, 10, true},
		{"1 of 1,000: between 0.02 and 0.56 %", 1, 1000, false},
		{"nothing", 0, 50, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			probes := make([]reading.Probe, c.sent)
			for i := range probes {
				if i*c.lost/c.sent == (i+1)*c.lost/c.sent {
					probes[i] = reading.Probe{Outcome: reading.Answered, RTT: 1e7}
				}
			}
			bad := false
			for _, f := range finding.OfReading(reading.Of(time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC), 0, c.sent, 0, probes), probes) {
				bad = bad || f.Bad()
			}
			assert.Equal(t, c.want, bad)
		})
	}
	for _, code := range []finding.Code{finding.Steady, finding.TooFewProbes, finding.LossSparing, finding.DelayCarried, finding.ICMPFiltered, finding.HeldByLink, finding.ClockUnsure} {
		assert.False(t, finding.Finding{Code: code}.Bad(), code)
	}
	for _, code := range []finding.Code{finding.LossCarried, finding.BranchDead, finding.OutageOnce, finding.PortClosed, finding.QualityBelow} {
		assert.True(t, finding.Finding{Code: code}.Bad(), code)
	}
}
