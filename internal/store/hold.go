package store

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
	"gorm.io/gorm"

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
	// Address is where others reach it who hand their callers on to it, and Pin what they trust it by
	// where it shows a certificate of its own making; empty where nobody does.
	Address, Pin string
	// Over is a hold that is taken though it has not expired by the database's clock, if it still is as it
	// was seen; see Holding.Over.
	Over *Holding
	// Lost is called, once, when another has taken the database over, this one having been
	// silent for too long. Nothing may be written from then on.
	Lost func(error)
}

const (
	holdName  = "service"
	fenceName = "fence"
	holdTime  = 10 * time.Second // how long a hold outlives its owner
	// holdSure is for how long after it was kept up a hold is relied on without asking.
	holdSure  = holdTime - time.Second
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

// moreOfLeases are columns that came later. secret is what others show to who holds it that hand their
// callers on: whoever reads the database might change all of it anyway.
const moreOfLeases = `ALTER TABLE leases
  ADD COLUMN IF NOT EXISTS address VARCHAR(300) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS pin VARCHAR(100) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS secret VARBINARY(32) NOT NULL DEFAULT ''`

// hold is the right to work on a database, kept up by a statement each two seconds: so it
// also knows whether the database takes writes.
type hold struct {
	pool    *sql.DB // of its own: others may wait for a lock
	nodes   *nodes
	holder  Holder
	process ident.ID
	secret  []byte
	owned   sync.WaitGroup
	closing sync.Once
	end     context.CancelFunc

	mu    sync.Mutex
	kept  time.Time // when it was kept up last
	away  time.Time // since when the database takes no renewals
	cause error
	lost  bool
}

// takeHold takes the hold by the database's clock. Somebody else's that is not renewed is
// waited for; one that is, is refused at once with an error that wraps ErrHeld.
func takeHold(ctx context.Context, n *nodes, who Holder) (*hold, error) {
	pool := openPool(n, 1)
	h := &hold{pool: pool, nodes: n, holder: who, process: ident.New(), secret: make([]byte, 32)}
	_, _ = rand.Read(h.secret) // never fails
	if err := h.take(ctx); err != nil {
		return nil, errors.Join(err, pool.Close())
	}
	ctx, h.end = context.WithCancel(context.Background())
	h.owned.Go(func() { h.keep(ctx) })
	return h, nil
}

func (h *hold) take(ctx context.Context) error {
	pool := h.pool
	for _, statement := range []string{leasesTable, moreOfLeases} {
		if _, err := pool.ExecContext(ctx, statement); err != nil {
			return wrap("prepare the hold of the database", err)
		}
	}
	var first time.Time // when the hold that is in the way was to end
	for {
		taken, err := h.try(ctx)
		if err != nil {
			return wrap("take hold of the database", err)
		}
		if taken {
			return nil
		}
		var says string
		var since, until, now time.Time
		err = pool.QueryRowContext(ctx, "SELECT holder, since_at, until_at, NOW(6) FROM leases WHERE name = ?", holdName).Scan(&says, &since, &until, &now)
		if errors.Is(err, sql.ErrNoRows) {
			continue // given up in between
		}
		if err != nil {
			return wrap("see who holds the database", err)
		}
		if first.IsZero() {
			first = until
		}
		if until.After(first) {
			return fmt.Errorf("%w: %s, since %s. End that one, or give this one another -database", ErrHeld, says, since.UTC().Format(time.RFC3339))
		}
		select {
		case <-ctx.Done():
			return wrap("take hold of the database", ctx.Err())
		case <-time.After(min(holdEvery/2, max(10*time.Millisecond, until.Sub(now)))):
		}
	}
}

// try takes the hold when nobody has it, or nobody any more.
func (h *hold) try(ctx context.Context) (bool, error) {
	for _, name := range []string{holdName, fenceName} {
		if _, err := h.pool.ExecContext(ctx, "INSERT IGNORE INTO leases (name, owner, process, holder, epoch, since_at, until_at) VALUES (?, ?, ?, '', 0, NOW(6), '1970-01-02')", name, h.holder.Owner[:], h.process[:]); err != nil {
			return false, err
		}
	}
	began := time.Now()
	tx, err := h.pool.BeginTx(ctx, nil)
	if err != nil {
		return false, err
	}
	defer func() { _ = tx.Rollback() }()
	over := ""
	if h.holder.Over != nil {
		over = h.holder.Over.until
	}
	r, err := tx.ExecContext(ctx, "UPDATE leases SET owner = ?, process = ?, holder = ?, address = ?, pin = ?, secret = ?, epoch = epoch + 1, since_at = NOW(6), until_at = NOW(6) + INTERVAL ? MICROSECOND WHERE name = ? AND (owner = ? OR until_at < NOW(6) OR CAST(until_at AS CHAR) = ?)",
		h.holder.Owner[:], h.process[:], clip(h.holder.Says, 300), clip(h.holder.Address, 300), clip(h.holder.Pin, 100), h.secret, holdTime.Microseconds(), holdName, h.holder.Owner[:], over)
	if err != nil {
		return false, notNow(err)
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return false, err
	}
	// What who had it is writing at this moment is waited for: behind this, nothing of theirs comes.
	if _, err := tx.ExecContext(ctx, "UPDATE leases SET process = ?, epoch = epoch + 1 WHERE name = ?", h.process[:], fenceName); err != nil {
		return false, notNow(err)
	}
	if err := tx.Commit(); err != nil {
		return false, notNow(err)
	}
	h.mu.Lock()
	h.kept = began
	h.mu.Unlock()
	return true, nil
}

// notNow is no error where somebody else is in the way, who will not be for long.
func notNow(err error) error {
	var refused *mysqldriver.MySQLError
	if errors.As(err, &refused) && (refused.Number == lockWait || refused.Number == deadlock) {
		return nil
	}
	return err
}

// fence has a transaction see that it is still the turn of this process, and has whoever takes over
// wait for its end: so nobody who was asleep writes after another has begun to.
func (s *Store) fence(ctx context.Context, tx gorm.ConnPool) error {
	if s.hold == nil {
		return nil
	}
	var process []byte
	if err := tx.QueryRowContext(ctx, "SELECT process FROM leases WHERE name = ? LOCK IN SHARE MODE", fenceName).Scan(&process); err != nil {
		return err
	}
	if !bytes.Equal(process, s.hold.process[:]) {
		return fmt.Errorf("%w", ErrHeld)
	}
	return nil
}

type fencedKey struct{}

// fenceAll has each statement that writes pass the fence within its transaction.
func (s *Store) fenceAll() error {
	pass := func(db *gorm.DB) {
		ctx := db.Statement.Context
		if db.Error == nil && ctx.Value(fencedKey{}) == nil {
			if err := s.fence(ctx, db.Statement.ConnPool); err != nil {
				_ = db.AddError(err)
			}
		}
	}
	on := s.db.Callback()
	return errors.Join(
		on.Create().After("gorm:begin_transaction").Before("gorm:before_create").Register("woodlark:fence", pass),
		on.Update().After("gorm:begin_transaction").Before("gorm:before_update").Register("woodlark:fence", pass),
		on.Delete().After("gorm:begin_transaction").Before("gorm:before_delete").Register("woodlark:fence", pass))
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
	began := time.Now()
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
		h.kept, h.away, h.cause = began, time.Time{}, nil
	case h.away.IsZero():
		h.away, h.cause = time.Now(), wrap("keep hold of the database", err)
	}
	if err != nil {
		h.nodes.leaveNow()
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
	if s.hold.cause == nil && time.Since(s.hold.kept) > holdSure {
		return errAsleep // it is kept up first, or lost
	}
	return s.hold.cause
}

// errAsleep is that this process was stopped, or the machine was, for longer than a hold lasts.
var errAsleep = error(&failure{doing: "use the database", kinds: []error{ErrAway, errors.New("this service was stopped for a while, and asks first whether another has taken over")}})

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
