package figure_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/figure"
)

func TestNamesInTheirOrder(t *testing.T) {
	want := []string{"", "198.51.100.6", "198.51.100.57", "198.51.100.100", "203.0.113.1", "agent", "agent02", "agent2", "agent2b", "agent10", "agents", "terminal.holm.example"}
	for turn := range want {
		list := append(slices.Clone(want[turn:]), want[:turn]...)
		slices.SortFunc(list, figure.Order)
		assert.Equal(t, want, list)
	}
}

func FuzzOrder(f *testing.F) {
	f.Add("a1", "a01", "a1b")
	f.Fuzz(func(t *testing.T, a, b, c string) {
		assert.Equal(t, figure.Order(a, b), -figure.Order(b, a))
		assert.Equal(t, a == b, figure.Order(a, b) == 0)
		if figure.Order(a, b) <= 0 && figure.Order(b, c) <= 0 {
			assert.LessOrEqual(t, figure.Order(a, c), 0, "%q %q %q", a, b, c)
		}
	})
}
