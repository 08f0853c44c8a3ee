package busy

import (
	"bytes"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestATryThatTheMachineSpoilt(t *testing.T) {
	s := &stalls{sum: time.Hour}
	still, spoilt := s.during(func() { s.sum += 6 * time.Millisecond })
	assert.Equal(t, 6*time.Millisecond, still, "what was before does not count")
	assert.True(t, spoilt)
	still, spoilt = s.during(func() {})
	assert.Zero(t, still)
	assert.False(t, spoilt)
}

func TestHelpersEndWithTheirTest(t *testing.T) {
	t.Run("some", func(t *testing.T) {
		Awake(t)
		Awake(t)
		watchStalls(t)
		require.NotEmpty(t, spinner)
		for _, cmd := range spinner {
			at, err := os.ReadFile("/proc/" + strconv.Itoa(cmd.Process.Pid) + "/cmdline")
			require.NoError(t, err)
			assert.NotEmpty(t, bytes.TrimSpace(at))
		}
	})
	assert.Empty(t, spinner)
	assert.Zero(t, users)
}

func TestATryThatEndsEarly(t *testing.T) {
	y := &Try{}
	y.ended(func(y *Try) {
		require.Equal(y, 1, 2)
		t.Error("it went on")
	})
	assert.Len(t, y.wrong, 1)
	assert.PanicsWithValue(t, "gull", func() { y.ended(func(*Try) { panic("gull") }) }, "a fault is none of the try's")
}
