package baseline

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestYoungPathsAtEachHour: a path that was steady for hours or days is normal as it was, whatever
// day of the week it is, and whatever hour.
func TestYoungPathsAtEachHour(t *testing.T) {
	monday := time.Date(2026, 11, 2, 0, 33, 0, 0, time.UTC)
	for _, hours := range []int{5, 20, 26, 30, 50, 75} {
		for end := monday; end.Before(monday.AddDate(0, 0, 7)); end = end.Add(3 * time.Hour) {
			h := &History{}
			for i := range hours * 60 {
				p := Point{At: end.Add(time.Duration(i-hours*60) * time.Minute), Span: time.Minute, Sent: 60, Answered: 60}
				p.Set(RTT, 10+0.02*float64(i*7919%13)/13)
				h.Add(p)
			}
			b, err := Build(h, Training{})
			require.NoError(t, err)
			for i, n := range b.Hours(RTT) {
				if !assert.Less(t, n.High, 41.0, "%d hours up to %v, hour %d of the week: %+v", hours, end, i, n) {
					return
				}
			}
		}
	}
}
