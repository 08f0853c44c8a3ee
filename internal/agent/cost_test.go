package agent_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/agent"
	"woodlark.example/internal/plan"
)

// TestTwoEndedCost: 8 Mbit/s in packets of 1,000 bytes are 1,000 a second.
func TestTwoEndedCost(t *testing.T) {
	for _, c := range []struct {
		name    string
		q       plan.TwoRequest
		packets float64
		known   bool
	}{
		{"one way, five seconds", plan.TwoRequest{Protocol: "udp", Direction: "there", Rate: 8e6, Size: 1000, For: 5 * time.Second}, 5000, true},
		{"each way, twice", plan.TwoRequest{Protocol: "udp", Direction: "each", Rate: 8e6, Size: 1000, For: 5 * time.Second, Repeats: 2}, 20000, true},
		{"as long as usual", plan.TwoRequest{Protocol: "udp", Direction: "back", Rate: 8e6, Size: 1000}, 10000, true},
		{"a search finds its rate", plan.TwoRequest{Protocol: "udp", Rate: 8e6, Search: true}, 0, false},
		{"TCP", plan.TwoRequest{Protocol: "tcp", For: time.Second}, 0, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			packets, bytes, known := agent.TwoEndedCost(plan.Throughput, c.q)
			assert.Equal(t, c.known, known)
			assert.InDelta(t, c.packets, packets, 1e-6)
			assert.InDelta(t, c.packets*1028, bytes, 1e-6)
		})
	}
}
