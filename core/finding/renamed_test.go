package finding_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
)

// TestOldNamesAreRead: what an earlier release stored keeps its figures.
func TestOldNamesAreRead(t *testing.T) {
	var r finding.ThroughputReport
	require.NoError(t, json.Unmarshal([]byte(`{"conditions":{"streams":2,"seconds":10,"warm_up_seconds":2},"directions":[{"seconds":8,"retransmits":7,"intervals":[{"start_seconds":1,"seconds":1.5,"retransmits":3}]}]}`), &r))
	assert.Equal(t, 10.0, r.Conditions.For)
	assert.Equal(t, 2.0, r.Conditions.WarmUp)
	d := r.Directions[0]
	assert.Equal(t, 8.0, d.Span)
	assert.Equal(t, int64(7), *d.Resent)
	require.Len(t, d.Spans, 1)
	assert.Equal(t, 1.0, d.Spans[0].Start)
	assert.Equal(t, 1.5, d.Spans[0].Length)
	assert.Equal(t, int64(3), *d.Spans[0].Resent)

	var s finding.StreamReport
	require.NoError(t, json.Unmarshal([]byte(`{"directions":[{"intervals":[{"start_seconds":2,"seconds":1}]}]}`), &s))
	require.Len(t, s.Directions[0].Spans, 1)
	assert.Equal(t, 2.0, s.Directions[0].Spans[0].Start)

	// And what is written now is read as it was.
	text, err := json.Marshal(r)
	require.NoError(t, err)
	for _, old := range []string{`"intervals"`, `"retransmits"`, `"seconds"`, `"start_seconds"`} {
		assert.NotContains(t, string(text), old)
	}
	var again finding.ThroughputReport
	require.NoError(t, json.Unmarshal(text, &again))
	assert.Equal(t, r, again)
	require.Error(t, json.Unmarshal([]byte(`{"directions":[{"spans":7}]}`), &again), "what is wrong is said")
}
