package store

import (
	"context"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
	"gorm.io/gorm"
)

// Statements are those of each version, in their order.
func Statements() (list [][]string) {
	all, err := migrations()
	if err != nil {
		panic(err)
	}
	for _, m := range all {
		list = append(list, m.statements())
	}
	return list
}

// OwnTables are the tables that are converted to our collation.
var OwnTables = ownTables

// Wrap is wrap.
func Wrap(doing string, err error) error { return wrap(doing, err) }

// HoldTime is how long a hold outlives its owner.
const HoldTime = holdTime

// Renew keeps the hold up now.
func (s *Store) Renew(ctx context.Context) bool { return s.hold.renew(ctx) }

// Die ends a store as a kill would: nothing is given up.
func (s *Store) Die() {
	s.hold.end()
	s.hold.owned.Wait()
	_ = s.pool.Close()
}

// Expire makes a hold older, so that nobody need wait.
func (s *Store) Expire(ctx context.Context, by time.Duration) error {
	_, err := s.hold.pool.ExecContext(ctx, "UPDATE leases SET until_at = until_at - INTERVAL ? MICROSECOND WHERE name = ?", by.Microseconds(), holdName)
	return err
}

// Refused is an error of the database.
func Refused(number uint16) error {
	return &mysqldriver.MySQLError{Number: number, Message: "Column 'x' of db.example:3306"}
}

// Exec carries out a statement.
func (s *Store) Exec(ctx context.Context, statement string, args ...any) error {
	_, err := s.pool.ExecContext(ctx, statement, args...)
	return err
}

// HostsIn is hostsIn.
func HostsIn(dsn string) (string, []string) { return hostsIn(dsn) }

// StopRenewing has nobody keep the hold up any more.
func (s *Store) StopRenewing() {
	s.hold.end()
	s.hold.owned.Wait()
}

// Slept has a hold have been kept up so long ago.
func (s *Store) Slept(ago time.Duration) {
	s.hold.mu.Lock()
	defer s.hold.mu.Unlock()
	s.hold.kept = time.Now().Add(-ago)
}

// Transact has statements carried out in a transaction.
func (s *Store) Transact(ctx context.Context, work func(write func(string) error) error) error {
	return s.transact(ctx, "try", func(tx *gorm.DB) error { return work(func(text string) error { return tx.Exec(text).Error }) })
}

// Unpacked is unpacked.
func (s *Store) Unpacked(ctx context.Context) ([]string, error) { return s.unpacked(ctx) }
