package baseline

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestAskedSideBySide: who judges asks for now while who shows asks for other hours; each gets
// its own.
func TestAskedSideBySide(t *testing.T) {
	w := Calendar{Zone: time.UTC}.clockwork()
	begin := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			for i := range 20_000 {
				at := begin.Add(time.Duration((i*37+n*211)%20_160) * time.Minute)
				m := w.at(at.Unix())
				if want := at.Hour()*60 + at.Minute(); m.minute != want || m.weekday != at.Weekday() {
					assert.Failf(t, "another moment", "%d, not %d", m.minute, want)
					return
				}
			}
		})
	}
	all.Wait()
}
