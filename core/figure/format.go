package figure

import (
	"math"
	"strconv"
	"time"
)

// FormatMs writes milliseconds for a reader: three significant digits, never
// fewer than the whole milliseconds, and never a zero that is not one.
func FormatMs(ms float64) string { return significant(ms) + " ms" }

// FormatRatio writes a ratio as a percentage, with two significant digits
// below ten percent and never a zero that is not one.
func FormatRatio(ratio float64) string {
	percent := ratio * 100
	switch {
	case percent == 0:
		return "0 %"
	case math.Abs(percent) >= 10:
		return strconv.FormatFloat(percent, 'f', decimals(percent, 3), 64) + " %"
	}
	return strconv.FormatFloat(percent, 'f', decimals(percent, 2), 64) + " %"
}

// FormatSpan writes a length of time in its two largest units, such as
// "3 d 4 h" or "40 min".
func FormatSpan(d time.Duration) string {
	d = d.Round(time.Second)
	units := []struct {
		size time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "min"}, {time.Second, "s"}}
	for i, u := range units {
		if d < u.size {
			continue
		}
		text := strconv.Itoa(int(d/u.size)) + " " + u.name
		if rest := d % u.size; i+1 < len(units) && rest >= units[i+1].size && d < 10*u.size {
			text += " " + strconv.Itoa(int(rest/units[i+1].size)) + " " + units[i+1].name
		}
		return text
	}
	return "0 s"
}

func significant(v float64) string {
	// What rounds up to another power of ten has a digit less behind the point.
	if rounded, err := strconv.ParseFloat(strconv.FormatFloat(v, 'e', 2, 64), 64); err == nil {
		return strconv.FormatFloat(v, 'f', decimals(rounded, 3), 64)
	}
	return strconv.FormatFloat(v, 'f', decimals(v, 3), 64)
}

// decimals is how many digits behind the point show v with the given number of
// significant digits.
func decimals(v float64, digits int) int {
	if v == 0 {
		return 0
	}
	return max(0, digits-1-int(math.Floor(math.Log10(math.Abs(v)))))
}
