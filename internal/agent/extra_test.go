package agent

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatAnOwnerAllowsForSuspicion: within any hour no more packets than that.
func TestWhatAnOwnerAllowsForSuspicion(t *testing.T) {
	x := &extra{most: 1000}
	start := time.Now()
	sum := 0
	for i := range 500 { // as many paths at once
		if x.spend(100, start.Add(time.Duration(i)*time.Millisecond)) == nil {
			sum += 100
		}
	}
	assert.Equal(t, 1000, sum)
	err := x.spend(1, start.Add(59*time.Minute))
	require.Error(t, err)
	assert.ErrorContains(t, err, "of the 1000 packets an hour that this agent's owner allows for what looks wrong, 1000 are sent")
	assert.NoError(t, x.spend(1000, start.Add(61*time.Minute)))
	none := &extra{}
	assert.Error(t, none.spend(1, start))
}
