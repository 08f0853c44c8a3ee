package agent

import (
	"fmt"
	"sync"
	"time"
)

// UsualExtra is how many packets an hour may be sent because something looks wrong, where the
// owner says nothing.
const UsualExtra = 100_000

// extra is what was sent within the hour because something looked wrong.
type extra struct {
	most float64 // packets an hour

	mu    sync.Mutex
	spent []spent
}

type spent struct {
	at      time.Time
	packets float64
}

// spend takes packets from what may be sent, or says that there is not as much left.
func (x *extra) spend(packets float64, now time.Time) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	sum := 0.0
	for len(x.spent) > 0 && now.Sub(x.spent[0].at) >= time.Hour {
		x.spent = x.spent[1:]
	}
	for _, s := range x.spent {
		sum += s.packets
	}
	if sum+packets > x.most {
		return fmt.Errorf("of the %.0f packets an hour that this agent's owner allows for what looks wrong, %.0f are sent", x.most, sum)
	}
	x.spent = append(x.spent, spent{now, packets})
	return nil
}
