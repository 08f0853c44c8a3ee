package figure_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/figure"
)

func TestFormat(t *testing.T) {
	for ms, want := range map[float64]string{0: "0 ms", 0.0163: "0.0163 ms", 12.345: "12.3 ms", 537.4: "537 ms", 1234.5: "1234 ms", 0.00004: "0.0000400 ms"} {
		assert.Equal(t, want, figure.FormatMs(ms))
	}
	for ratio, want := range map[float64]string{0: "0 %", 0.00001: "0.0010 %", 0.0213: "2.1 %", 0.25: "25.0 %", 1: "100 %"} {
		assert.Equal(t, want, figure.FormatRatio(ratio))
	}
	for d, want := range map[time.Duration]string{0: "0 s", 45 * time.Second: "45 s", 40 * time.Minute: "40 min", 90 * time.Minute: "1 h 30 min",
		76 * time.Hour: "3 d 4 h", 26 * 24 * time.Hour: "26 d"} {
		assert.Equal(t, want, figure.FormatSpan(d))
	}
}

func TestAbsentIsNull(t *testing.T) {
	data, err := json.Marshal(map[string]any{"a": figure.Duration{}, "b": figure.Of(1.5)})
	require.NoError(t, err)
	assert.JSONEq(t, `{"a":null,"b":1.5}`, string(data))
	var back struct{ A, B figure.Number }
	require.NoError(t, json.Unmarshal(data, &back))
	assert.False(t, back.A.IsSet())
	assert.Equal(t, 1.5, back.B.Or(0))
	assert.Nil(t, figure.Ms(figure.Duration{}))
}
