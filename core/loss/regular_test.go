package loss_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/loss"
)

func TestEvery(t *testing.T) {
	pattern := func(n int, gone func(i int) bool) []bool {
		list := make([]bool, n)
		for i := range list {
			list[i] = gone(i)
		}
		return list
	}
	random := rand.New(rand.NewPCG(1, 2))
	for _, c := range []struct {
		name string
		lost []bool
		want int
	}{
		{"every fourth", pattern(400, func(i int) bool { return i%4 == 2 }), 4},
		{"every other", pattern(100, func(i int) bool { return i%2 == 1 }), 2},
		{"every fourth, and one more", pattern(400, func(i int) bool { return i%4 == 2 || i == 100 }), 4},
		{"every tenth, one of them spared", pattern(200, func(i int) bool { return i%10 == 0 && i != 50 }), 10},
		{"at random", pattern(1000, func(int) bool { return random.Float64() < 0.25 }), 0},
		{"in one run", pattern(100, func(i int) bool { return i >= 40 && i < 60 }), 0},
		{"all", pattern(50, func(int) bool { return true }), 0},
		{"none", pattern(50, func(int) bool { return false }), 0},
		{"too few to tell", pattern(20, func(i int) bool { return i%4 == 0 }), 0},
		{"the second half only", pattern(400, func(i int) bool { return i > 200 && i%4 == 0 }), 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			n, chance, ok := loss.Every(c.lost)
			assert.Equal(t, c.want != 0, ok, "every %d, chance %g", n, chance)
			if ok {
				assert.Equal(t, c.want, n)
				assert.Less(t, chance, 0.01)
			}
		})
	}
}
