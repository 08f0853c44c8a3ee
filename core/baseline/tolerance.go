package baseline

import (
	"fmt"
	"strconv"
	"strings"
)

// ParseTolerance reads what is not worth caring about of a measure, such as rtt=2ms,10% or
// loss=0.5%: the larger of a value in the measure's unit and a share of what is expected. Of a
// ratio the one value is in percent points.
func ParseTolerance(s string) (Measure, Tolerance, error) {
	name, value, ok := strings.Cut(s, "=")
	var m Measure
	if !ok {
		return 0, Tolerance{}, fmt.Errorf("tolerance %q: write MEASURE=VALUE, such as rtt=2ms,10%% or loss=0.5%%", s)
	}
	if err := m.UnmarshalText([]byte(strings.TrimSpace(name))); err != nil {
		return 0, Tolerance{}, fmt.Errorf("tolerance %q: %w", s, err)
	}
	var t Tolerance
	for _, part := range strings.Split(value, ",") {
		part = strings.TrimSpace(part)
		number, unit := part, ""
		if i := strings.IndexFunc(part, func(r rune) bool { return r != '.' && (r < '0' || r > '9') }); i >= 0 {
			number, unit = part[:i], strings.TrimSpace(part[i:])
		}
		v, err := strconv.ParseFloat(number, 64)
		if err != nil || v < 0 {
			return 0, Tolerance{}, fmt.Errorf("tolerance %q: %q is no value above zero", s, part)
		}
		switch {
		case unit == "%" && m.Counted():
			t.Least = v / 100
		case unit == "%":
			t.Share = v / 100
		case unit == string(m.Unit()) || unit == "":
			t.Least = v
		case unit == "s" && m.Unit() == Milliseconds:
			t.Least = v * 1000
		default:
			return 0, Tolerance{}, fmt.Errorf("tolerance %q: %s is counted in %s or %%, not in %q", s, m, m.Unit(), unit)
		}
	}
	if t == (Tolerance{}) {
		return 0, Tolerance{}, fmt.Errorf("tolerance %q: one of its values has to be above zero", s)
	}
	return m, t, nil
}
