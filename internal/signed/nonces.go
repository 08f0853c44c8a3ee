package signed

import (
	"errors"
	"fmt"
	"sync"
	"time"
)

var (
	// ErrOtherTime is that a call was signed too long before now, or for later.
	ErrOtherTime = errors.New("the call was signed at another time")
	// ErrAgain is that a call came before.
	ErrAgain = errors.New("the call came before; it is taken once")
)

const (
	// Within is how far the time of a signature may be from that of whoever is called.
	Within = time.Minute
	// mostKept bounds what is kept of one who signs: no honest one calls so often.
	mostKept = 20_000
)

// Nonces takes each signed call once. The zero value is ready; it is safe for concurrent use.
type Nonces struct {
	mu   sync.Mutex
	seen map[string]map[string]time.Time // by who signs: the nonce, and when it may be forgotten
}

// Take takes a call whose signature was checked, unless it is of another time or came before. The
// error wraps ErrOtherTime or ErrAgain.
func (n *Nonces) Take(c Call, now time.Time) error {
	if d := c.At.Sub(now); d > Within || d < -Within {
		return fmt.Errorf("%w: %s is %s off; it has to be signed by the clock of whoever is called", ErrOtherTime, c.At.UTC().Format(time.RFC3339), d.Round(time.Second))
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.seen == nil {
		n.seen = map[string]map[string]time.Time{}
	}
	of := n.seen[c.ID]
	if of == nil {
		of = map[string]time.Time{}
		n.seen[c.ID] = of
	}
	if until, is := of[c.Nonce]; is && now.Before(until) {
		return ErrAgain
	}
	if len(of) >= mostKept {
		for nonce, until := range of {
			if !now.Before(until) {
				delete(of, nonce)
			}
		}
		if len(of) >= mostKept {
			return fmt.Errorf("%w, and there were too many of late", ErrAgain)
		}
	}
	of[c.Nonce] = now.Add(2*Within + time.Second)
	return nil
}
