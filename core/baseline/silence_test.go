package baseline

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWhatIsPassedOverSpeaksForNothing: calibration passes over readings below a deviation; of
// none of them, at whatever slack, may a detector have evidence.
func TestWhatIsPassedOverSpeaksForNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	passed := 0
	for n := range 40 {
		var h histogram
		for range 200 << (n % 8) { // few readings leave holes, and then nearly all are looked at
			z := r.NormFloat64() + float64(n%5-2)/2
			if r.IntN(20) == 0 { // a tail
				z *= 1 + 10*r.Float64()
			}
			h[gridIndex(z)]++
		}
		d := densityOf(&h)
		for range 4000 {
			z, slack := 6*r.NormFloat64(), 8*r.Float64()*float64(r.IntN(2))
			if float32(z)-float32(slack) >= d.speaks {
				continue
			}
			passed++
			w, _ := d.weigh(z, slack, 0)
			for k, v := range w {
				if !assert.LessOrEqual(t, v, float32(0), "detector %d, deviation %.2f, slack %.2f, from %.2f on", k, z, slack, d.speaks) {
					return
				}
			}
		}
	}
	assert.Greater(t, passed, 40*4000/10, "it is worth it")
}
