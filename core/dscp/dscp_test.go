package dscp_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/dscp"
)

// By RFC 2474, 2597 §6 (AFxy is 8x + 2y), 3246, 5865 and 8622.
func TestParse(t *testing.T) {
	for text, want := range map[string]dscp.Point{"": 0, "DF": 0, "CS0": 0, "cs5": 40, "EF": 46, "ef": 46, "AF11": 10, "AF23": 22, "af41": 34, "VA": 44, "LE": 1, "CS7": 56, "0": 0, "46": 46, "63": 63} {
		got, err := dscp.Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"64", "-1", "AF44", "AF51", "CS8", "best", "0x2e", "4 6"} {
		_, err := dscp.Parse(text)
		require.ErrorIs(t, err, dscp.ErrUnknown, text)
		assert.Contains(t, err.Error(), text)
	}
}

func TestEachPointReadsBackAsItIsWritten(t *testing.T) {
	for p := range dscp.Point(dscp.Most + 1) {
		back, err := dscp.Parse(p.String())
		require.NoError(t, err)
		assert.Equal(t, p, back)
		body, err := json.Marshal(p)
		require.NoError(t, err)
		var read dscp.Point
		require.NoError(t, json.Unmarshal(body, &read))
		assert.Equal(t, p, read)
	}
	assert.Equal(t, "EF", dscp.Point(46).String())
	assert.Equal(t, "45", dscp.Point(45).String())
}
