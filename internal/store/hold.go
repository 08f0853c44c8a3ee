package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"

	"woodlark.example/internal/ident"
)

// ErrHeld is wrapped when another service works on the database.
var ErrHeld = errors.New("another service works on this database")

// Holder is who wants to work on a database alone.
type Holder struct {
	// Owner stays the same when a service is started again: what it held before its end is
	// its own at once. Whoever uses it sees to it that only one runs at a time.
	Owner ident.ID
	Says  string // who that is, for who is refused
	// Lost is called, once, when another has taken the database over, this one having been
	// silent for too long. Nothing may be written from then on.
	Lost func(error)
}

const (
	holdName  = "service"
	holdTime  = 15 * time.Second // how long a hold outlives its owner
	holdEvery = 2 * time.Second
	holdWait  = 3 * time.Second // for the database to take a renewal
)

const leasesTable = `CREATE TABLE IF NOT EXISTS leases (
  name VARCHAR(40) NOT NULL PRIMARY KEY,
  owner BINARY(16) NOT NULL,
  process BINARY(16) NOT NULL,
  holder VARCHAR(300) NOT NULL,
  epoch BIGINT NOT NULL,
  since_at DATETIME(6) NOT NULL,
  until_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin`

// hold is the right to work on a database, kept up by a statement each two seconds: so it
// also knows whether the database takes writes.
type hold struct {
	pool    *sql.DB // of its own: others may wait for a lock
	holder  Holder
	process ident.ID
	owned   sync.WaitGroup
	closing sync.Once
	end     context.CancelFunc

	mu    sync.Mutex
	away  time.Time // since when the database takes no renewals
	cause error
	lost  bool
}

// takeHold takes the hold by the database's clock. Somebody else's that is not renewed is
// waited for; one that is, is refused at once with an error that wraps ErrHeld.
func takeHold(ctx context.Context, pool *sql.DB, who Holder) (*hold, error) {
	if _, err := pool.ExecContext(ctx, leasesTable); err != nil {
		return nil, wrap("prepare the hold of the database", err)
	}
	h := &hold{pool: pool, holder: who, process: ident.New()}
	var first time.Time // when the hold that is in the way was to end
	for {
		taken, err := h.try(ctx)
		if err != nil {
			return nil, wrap("take hold of the database", err)
		}
		if taken {
			break
		}
		var says string
		var since, until, now time.Time
		err = pool.QueryRowContext(ctx, "SELECT holder, since_at, until_at, NOW(6) FROM leases WHERE name = ?", holdName).Scan(&says, &since, &until, &now)
		if errors.Is(err, sql.ErrNoRows) {
			continue // given up in between
		}
		if err != nil {
			return nil, wrap("see who holds the database", err)
		}
		if first.IsZero() {
			first = until
		}
		if until.After(first) {
			return nil, fmt.Errorf("%w: %s, since %s. End that one, or give this one another -database", ErrHeld, says, since.UTC().Format(time.RFC3339))
		}
		select {
		case <-ctx.Done():
			return nil, wrap("take hold of the database", ctx.Err())
		case <-time.After(min(holdEvery/2, max(10*time.Millisecond, until.Sub(now)))):
		}
	}
	ctx, h.end = context.WithCancel(context.Background())
	h.owned.Go(func() { h.keep(ctx) })
	return h, nil
}

// try takes the hold when nobody has it, or nobody any more.
func (h *hold) try(ctx context.Context) (bool, error) {
	_, err := h.pool.ExecContext(ctx, "INSERT IGNORE INTO leases (name, owner, process, holder, epoch, since_at, until_at) VALUES (?, ?, ?, '', 0, NOW(6), '1970-01-02')", holdName, h.holder.Owner[:], h.process[:])
	if err != nil {
		return false, err
	}
	r, err := h.pool.ExecContext(ctx, "UPDATE leases SET owner = ?, process = ?, holder = ?, epoch = epoch + 1, since_at = NOW(6), until_at = NOW(6) + INTERVAL ? MICROSECOND WHERE name = ? AND (owner = ? OR until_at < NOW(6))",
		h.holder.Owner[:], h.process[:], clip(h.holder.Says, 300), holdTime.Microseconds(), holdName, h.holder.Owner[:])
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

func (h *hold) keep(ctx context.Context) {
	tick := time.NewTicker(holdEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if !h.renew(ctx) {
			return
		}
	}
}

// renew keeps the hold up; false when it is lost or over.
func (h *hold) renew(ctx context.Context) bool {
	limited, cancel := context.WithTimeout(ctx, holdWait)
	defer cancel()
	r, err := h.pool.ExecContext(limited, "UPDATE leases SET until_at = NOW(6) + INTERVAL ? MICROSECOND WHERE name = ? AND process = ?", holdTime.Microseconds(), holdName, h.process[:])
	if ctx.Err() != nil {
		return false
	}
	if err == nil {
		var n int64
		if n, err = r.RowsAffected(); err == nil && n == 0 {
			h.mu.Lock()
			h.lost = true
			h.mu.Unlock()
			var says string
			_ = h.pool.QueryRowContext(limited, "SELECT holder FROM leases WHERE name = ?", holdName).Scan(&says)
			h.holder.Lost(fmt.Errorf("%w by now: %s; this one was silent for too long and stops", ErrHeld, says))
			return false
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case err == nil:
		h.away, h.cause = time.Time{}, nil
	case h.away.IsZero():
		h.away, h.cause = time.Now(), wrap("keep hold of the database", err)
	}
	return true
}

// gate refuses while the database is known to take nothing, so that nobody waits for it.
func (s *Store) gate() error {
	if s.hold == nil {
		return nil
	}
	s.hold.mu.Lock()
	defer s.hold.mu.Unlock()
	if s.hold.lost {
		return fmt.Errorf("%w", ErrHeld)
	}
	return s.hold.cause
}

// Away is since when the database takes nothing, and why; zero while it does. It knows
// only of a store that holds its database.
func (s *Store) Away() (time.Time, error) {
	if s.hold == nil {
		return time.Time{}, nil
	}
	s.hold.mu.Lock()
	defer s.hold.mu.Unlock()
	return s.hold.away, s.hold.cause
}

// close gives the hold up, so that another may take it at once.
func (h *hold) close() {
	h.closing.Do(func() {
		h.end()
		h.owned.Wait()
		ctx, cancel := context.WithTimeout(context.Background(), holdWait)
		defer cancel()
		_, _ = h.pool.ExecContext(ctx, "DELETE FROM leases WHERE name = ? AND process = ?", holdName, h.process[:])
		_ = h.pool.Close()
	})
}
