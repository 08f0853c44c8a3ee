package sweep_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/sweep"
)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		name           string
		entries        []string
		exclude        []string
		low            bool
		length         uint64
		first, last    string
		warns, refuses string
	}{
		{name: "a prefix", entries: []string{"192.0.2.0/24"}, length: 256, first: "192.0.2.0", last: "192.0.2.255"},
		{name: "host bits do not matter", entries: []string{"192.0.2.77/30"}, length: 4, first: "192.0.2.76", last: "192.0.2.79"},
		{name: "a range", entries: []string{"192.0.2.10-192.0.3.9"}, length: 256, first: "192.0.2.10", last: "192.0.3.9"},
		{name: "a range by its last part", entries: []string{"192.0.2.10-20"}, length: 11, first: "192.0.2.10", last: "192.0.2.20"},
		{name: "a list", entries: []string{"192.0.2.9", "192.0.2.7"}, length: 2, first: "192.0.2.7", last: "192.0.2.9"},
		{name: "with one left out", entries: []string{"192.0.2.0/30"}, exclude: []string{"192.0.2.1", "192.0.2.3"}, length: 2, first: "192.0.2.0", last: "192.0.2.2"},
		{name: "with a prefix left out", entries: []string{"192.0.2.0/24"}, exclude: []string{"192.0.2.0/25"}, length: 128, first: "192.0.2.128", last: "192.0.2.255"},
		{name: "with more left out than there is", entries: []string{"2001:db8::/120"}, exclude: []string{"2001:db8::80/121", "2001:db8:1::/48"}, length: 128, first: "2001:db8::", last: "2001:db8::7f"},
		{name: "two that touch", entries: []string{"192.0.2.0/25", "192.0.2.128/25"}, length: 256, first: "192.0.2.0", last: "192.0.2.255"},
		{name: "two that overlap", entries: []string{"192.0.2.0/24", "192.0.2.128/25"}, length: 256, first: "192.0.2.0", last: "192.0.2.255", warns: "overlap (at 192.0.2.128)"},
		{name: "both families", entries: []string{"2001:db8::/126", "192.0.2.0/30"}, length: 8, first: "192.0.2.0", last: "2001:db8::3"},
		{name: "IPv6 range by its last part", entries: []string{"2001:db8::f0-10f"}, length: 32, first: "2001:db8::f0", last: "2001:db8::10f"},
		{name: "addresses given by hand", entries: []string{"2001:db8::/64"}, low: true, length: 256 + 9, first: "2001:db8::", last: "2001:db8::8443"},
		{name: "the largest", entries: []string{"198.0.0.0/8"}, length: 1 << 24, first: "198.0.0.0", last: "198.255.255.255"},

		{name: "everything", entries: []string{"0.0.0.0/0"}, refuses: "4,294,967,296 are more than 16777216"},
		{name: "much together", entries: []string{"198.0.0.0/8", "203.0.0.0/9"}, refuses: "25,165,824 are more"},
		{name: "a whole /64", entries: []string{"2001:db8::/64"}, refuses: "18,446,744,073,709,551,616 cannot be gone through"},
		{name: "nothing", refuses: "name at least one"},
		{name: "nothing is left", entries: []string{"192.0.2.1"}, exclude: []string{"192.0.0.0/16"}, refuses: "nothing is left"},
		{name: "no address", entries: []string{"quay"}, refuses: `"quay" is no prefix`},
		{name: "with an interface", entries: []string{"fe80::1%quay0"}, refuses: "names an interface"},
		{name: "backwards", entries: []string{"192.0.2.9-3"}, refuses: "ends before it begins"},
		{name: "of two families", entries: []string{"192.0.2.9-2001:db8::1"}, refuses: "does not end with"},
		{name: "last part too large", entries: []string{"192.0.2.9-300"}, refuses: "does not end with"},
		{name: "a prefix that is none", entries: []string{"192.0.2.0/33"}, refuses: "no prefix"},
		{name: "bad exclusion", entries: []string{"192.0.2.0/24"}, exclude: []string{"x"}, refuses: "exclude:"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, err := sweep.Parse(c.entries, c.exclude, sweep.Options{Low: c.low})
			if c.refuses != "" {
				require.ErrorIs(t, err, sweep.ErrSpace)
				require.ErrorContains(t, err, c.refuses)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.length, s.Len())
			assert.Equal(t, c.first, s.At(0).String())
			assert.Equal(t, c.last, s.At(s.Len()-1).String())
			if c.warns == "" {
				assert.Empty(t, s.Warnings())
			} else {
				assert.Contains(t, s.Warnings()[0], c.warns)
			}
			for i := uint64(1); i < min(s.Len(), 3000); i++ {
				require.True(t, s.At(i-1).Less(s.At(i)), "in order, each once")
				place, ok := s.Find(s.At(i))
				require.True(t, ok && place == i)
			}
			assert.False(t, s.Contains(netip.MustParseAddr("203.0.113.200")))
		})
	}
}

func TestScopeIsOfTheAddresses(t *testing.T) {
	a, err := sweep.Parse([]string{"192.0.2.0/24"}, nil, sweep.Options{})
	require.NoError(t, err)
	b, err := sweep.Parse([]string{"192.0.2.128/25", "192.0.2.0-127"}, nil, sweep.Options{})
	require.NoError(t, err)
	c, err := sweep.Parse([]string{"192.0.2.0/24"}, []string{"192.0.2.9"}, sweep.Options{})
	require.NoError(t, err)
	assert.Equal(t, a.Scope(), b.Scope(), "written otherwise")
	assert.NotEqual(t, a.Scope(), c.Scope())
	in, _ := a.Within([]netip.Prefix{netip.MustParsePrefix("192.0.2.0/25"), netip.MustParsePrefix("192.0.2.128/25")})
	assert.True(t, in)
	in, out := a.Within([]netip.Prefix{netip.MustParsePrefix("192.0.2.0/25")})
	assert.False(t, in)
	assert.Equal(t, "192.0.2.128", out.String())
}

func TestShuffleIsAPermutation(t *testing.T) {
	for _, n := range []uint64{1, 2, 3, 7, 8, 255, 256, 1000, 65536} {
		for seed := range uint64(5) {
			s, seen, moved := sweep.NewShuffle(n, seed), make([]bool, n), 0
			for i := range n {
				at := s.At(i)
				require.Less(t, at, n)
				require.False(t, seen[at], "n %d seed %d: %d comes twice", n, seed, at)
				seen[at] = true
				if at != i {
					moved++
				}
			}
			if n > 100 {
				assert.Greater(t, moved, int(n)*9/10)
			}
		}
	}
}

func TestCompare(t *testing.T) {
	at := func(last byte, ms float64) sweep.Heard {
		return sweep.Heard{Addr: netip.AddrFrom4([4]byte{192, 0, 2, last}), RTT: time.Duration(ms * float64(time.Millisecond))}
	}
	d := sweep.Compare(
		[]sweep.Heard{at(1, 2), at(2, 2), at(3, 10), at(4, 10), at(5, 0), at(6, 0.1)},
		[]sweep.Heard{at(9, 1), at(1, 2.2), at(3, 16.1), at(4, 15.9), at(5, 50), at(6, 1)})
	assert.Equal(t, []netip.Addr{at(9, 0).Addr}, d.New)
	assert.Equal(t, []netip.Addr{at(2, 0).Addr}, d.Gone)
	// Slower is what takes over half as long again and a millisecond: 10 ms are
	// passed from 16 ms on; what was not timed before cannot be slower.
	require.Len(t, d.Slower, 1)
	assert.Equal(t, at(3, 0).Addr, d.Slower[0].Addr)
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{"192.0.2.0/24", "192.0.2.1-9", "2001:db8::/120", "2001:db8::1-ff", "0.0.0.0/0", "-", "192.0.2.9-192.0.2.1", "::/0"} {
		f.Add(text, "192.0.2.3", false)
		f.Add(text, "2001:db8::8/125", true)
	}
	f.Fuzz(func(t *testing.T, entry, exclude string, low bool) {
		s, err := sweep.Parse([]string{entry}, []string{exclude}, sweep.Options{Low: low})
		if err != nil {
			require.ErrorIs(t, err, sweep.ErrSpace)
			return
		}
		require.LessOrEqual(t, s.Len(), uint64(sweep.Most))
		for _, i := range []uint64{0, s.Len() / 2, s.Len() - 1} {
			place, ok := s.Find(s.At(i))
			require.True(t, ok)
			require.Equal(t, i, place)
		}
	})
}
