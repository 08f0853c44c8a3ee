package figure

import "cmp"

// Order compares names as people read them: numbers within them by their values, so that
// 198.51.100.6 comes before 198.51.100.57, and agent2 before agent10. Names that differ in no more
// than leading noughts are ordered by their letters.
func Order(a, b string) int {
	i, j := 0, 0
	for i < len(a) && j < len(b) {
		if !digit(a[i]) || !digit(b[j]) {
			if a[i] != b[j] {
				return cmp.Compare(a[i], b[j])
			}
			i, j = i+1, j+1
			continue
		}
		x, y := number(a[i:]), number(b[j:])
		i, j = i+len(x), j+len(y)
		x, y = plain(x), plain(y)
		if c := cmp.Or(cmp.Compare(len(x), len(y)), cmp.Compare(x, y)); c != 0 {
			return c
		}
	}
	// One at least is at its end: the other goes on.
	return cmp.Or(cmp.Compare(len(a)-i, len(b)-j), cmp.Compare(a, b))
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

// number is the digits that a text begins with.
func number(s string) string {
	n := 0
	for n < len(s) && digit(s[n]) {
		n++
	}
	return s[:n]
}

// plain is a number without leading noughts.
func plain(s string) string {
	for len(s) > 1 && s[0] == '0' {
		s = s[1:]
	}
	return s
}
