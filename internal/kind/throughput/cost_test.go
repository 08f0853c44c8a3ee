package throughput_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/kind"
	"woodlark.example/internal/kind/throughput"
)

// TestCost: 8 Mbit/s in packets of 1,000 bytes are 1,000 a second.
func TestCost(t *testing.T) {
	for _, c := range []struct {
		name, spec string
		packets    float64
	}{
		{"one way, five seconds", `{"protocol": "udp", "direction": "there", "rate_bps": 8e6, "payload_bytes": 1000, "for": "5s"}`, 5000},
		{"each way, twice", `{"protocol": "udp", "rate_bps": "8M", "payload_bytes": 1000, "for": "5s", "repeats": 2}`, 20000},
		{"as long as usual", `{"protocol": "udp", "direction": "back", "rate_bps": 8e6, "payload_bytes": 1000}`, 10000},
		{"a search finds its rate", `{"protocol": "udp", "rate_bps": 8e6, "search": true}`, 0},
		{"TCP", `{"for": "1s"}`, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			spec, err := throughput.Kind.Decode(kind.Standing, []byte(c.spec))
			require.NoError(t, err)
			require.NoError(t, spec.Check())
			cost := throughput.Kind.Cost(spec, []string{"holm"})
			assert.InDelta(t, c.packets, cost.Packets, 1e-6)
			assert.InDelta(t, c.packets*1028, cost.Bytes, 1e-6)
		})
	}
}
