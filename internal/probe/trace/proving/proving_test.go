package proving_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/probe/trace/proving"
)

// TestRandomNetworks traces some; the benchmark does a thousand.
func TestRandomNetworks(t *testing.T) {
	var parted, complete, lossy, named int
	for seed := range uint64(40) {
		v, err := proving.Try(t.Context(), seed, 300)
		require.NoError(t, err, "network %d", seed)
		assert.True(t, v.Reached, "network %d:\n%s", seed, v.File)
		assert.Zero(t, v.Wrong, "network %d", seed)
		assert.False(t, v.Blamed, "network %d: %+v, and it is %s at hop %d\n%s", seed, v.Result.Faults, v.LossTo, v.LossTTL, v.File)
		parted += v.Parted
		complete += v.Complete
		if v.Loss > 0 {
			lossy++
			if v.Named {
				named++
			}
		}
	}
	t.Logf("%d of %d partings complete, %d of %d lossy links named", complete, parted, named, lossy)
	assert.GreaterOrEqual(t, float64(complete), 0.9*float64(parted))
	assert.GreaterOrEqual(t, float64(named), 0.8*float64(lossy), "with 300 probes; with 1,000 nearly all")
}

func TestTheSameSeedTheSameNetwork(t *testing.T) {
	assert.Equal(t, proving.Random(5).File, proving.Random(5).File)
	assert.NotEqual(t, proving.Random(5).File, proving.Random(6).File)
	for seed := range uint64(200) {
		n := proving.Random(seed)
		assert.True(t, n.Hops > 3 && n.Hops <= 20, "%d hops", n.Hops)
	}
}

// TestHardNetworks traces networks with several faults at once, and dead ways. The seeds
// are none of those that the weighing was made with.
func TestHardNetworks(t *testing.T) {
	var lossy, told, dead, deadTold, wrong, off int
	for seed := range uint64(30) {
		v, err := proving.TryHard(t.Context(), 5000+seed, 1000)
		require.NoError(t, err, "network %d", seed)
		for i, p := range v.Faults {
			switch {
			case p.Loss == 1 && v.Told[i]:
				dead, deadTold = dead+1, deadTold+1
			case p.Loss == 1:
				dead++
			case v.Told[i]:
				lossy, told = lossy+1, told+1
			default:
				lossy++
			}
		}
		wrong, off = wrong+v.False, off+v.Off
	}
	t.Logf("%d of %d lossy links and %d of %d dead ways told; %d told that are not there, of %d another part", told, lossy, deadTold, dead, wrong, off)
	assert.GreaterOrEqual(t, float64(told), 0.8*float64(lossy), "the rest has too few probes behind larger losses")
	assert.GreaterOrEqual(t, deadTold, dead-1, "a flow can miss a way")
	assert.LessOrEqual(t, wrong, 1)
	assert.LessOrEqual(t, off, lossy/8)
}
