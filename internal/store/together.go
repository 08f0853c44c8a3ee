package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"

	"woodlark.example/internal/ident"
)

const servicesTable = `CREATE TABLE IF NOT EXISTS services (
  owner BINARY(16) NOT NULL PRIMARY KEY,
  says VARCHAR(300) NOT NULL,
  address VARCHAR(300) NOT NULL,
  pin VARCHAR(100) NOT NULL,
  version VARCHAR(100) NOT NULL,
  token_mark VARBINARY(32) NOT NULL,
  began_at DATETIME(6) NOT NULL,
  seen_at DATETIME(6) NOT NULL
) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin`

// memberTime is for how long a service is one of those on a database after it was seen last.
const memberTime = time.Hour

// Member is a service of several on one database.
type Member struct {
	Owner   ident.ID
	Says    string
	Address string // where the others reach it
	Pin     string // by which a certificate of its own making is trusted
	Version string
	// TokenMark is the hash of the token in its state folder.
	TokenMark []byte
	BeganAt   time.Time
	SeenAt    time.Time // by the database's clock
}

// shownService is a row of a service that was there.
type shownService struct {
	Owner ident.ID `gorm:"primaryKey"`
}

// TableName is where services are.
func (shownService) TableName() string { return "services" }

// Holding is how a database is held.
type Holding struct {
	Free  bool // by nobody
	Owner ident.ID
	Says  string
	Address,
	Pin string
	Secret []byte // what who holds it knows others by that hand their callers on

	until   string // as the database has it: it is another each time that the hold is kept up
	expired bool   // by the clock of the node that was asked
	long    bool   // for a minute or more
}

// clockApart is by how much the clocks of a cluster's nodes may differ, and nobody is taken for gone
// who is not, nor waited for in vain.
const clockApart = 3 * time.Second

// Same reports whether a hold was not kept up between two looks.
func (h Holding) Same(o Holding) bool { return h.Owner == o.Owner && h.until == o.until }

// Over reports whether a hold is nobody's any more that was seen unchanged for so long. Clocks of nodes differ:
// that it has expired by one of them is not enough, and that it has not by another does not count for ever.
func (h Holding) Over(unchanged time.Duration) bool {
	return h.Free || h.long || unchanged >= holdTime && (h.expired || unchanged >= holdTime+clockApart)
}

// Lookout sees who holds a database, and is seen, without working on it. It is for one goroutine.
type Lookout struct {
	pool     *sql.DB
	config   mysqldriver.Config
	hosts    []string
	prepared bool
}

const lookTime = 3 * time.Second

// OpenLookout looks out at a database; it connects when it is asked.
func OpenLookout(dsn string) (*Lookout, error) {
	config, hosts, err := configOf(dsn)
	if err != nil {
		return nil, err
	}
	n, err := nodesOf(*config, hosts)
	if err != nil {
		return nil, err
	}
	return &Lookout{pool: openPool(n, 1), config: *config, hosts: hosts}, nil
}

func (l *Lookout) prepare(ctx context.Context) error {
	if l.prepared {
		return nil
	}
	if err := makeDatabase(ctx, l.config, l.hosts); err != nil {
		return err
	}
	for _, statement := range []string{leasesTable, moreOfLeases, servicesTable} {
		if _, err := l.pool.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	l.prepared = true
	return nil
}

// Look sees who holds the database, by its clock.
func (l *Lookout) Look(ctx context.Context) (h Holding, err error) {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	if err := l.prepare(ctx); err != nil {
		return h, wrap("look who holds the database", err)
	}
	var owner []byte
	err = l.pool.QueryRowContext(ctx, "SELECT owner, holder, address, pin, secret, CAST(until_at AS CHAR), until_at < NOW(6), until_at < NOW(6) - INTERVAL 1 MINUTE FROM leases WHERE name = ?", holdName).Scan(&owner, &h.Says, &h.Address, &h.Pin, &h.Secret, &h.until, &h.expired, &h.long)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return Holding{Free: true}, nil
	case err != nil:
		return h, wrap("look who holds the database", err)
	case len(owner) != len(h.Owner):
		return h, fmt.Errorf("look who holds the database: its name has %d bytes", len(owner))
	}
	h.Owner = ident.ID(owner)
	return h, nil
}

// Show notes that a service is there.
func (l *Lookout) Show(ctx context.Context, m Member) error {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	if err := l.prepare(ctx); err != nil {
		return wrap("show that this service is there", err)
	}
	_, err := l.pool.ExecContext(ctx, "INSERT INTO services (owner, says, address, pin, version, token_mark, began_at, seen_at) VALUES (?, ?, ?, ?, ?, ?, ?, NOW(6)) ON DUPLICATE KEY UPDATE says = VALUES(says), address = VALUES(address), pin = VALUES(pin), version = VALUES(version), token_mark = VALUES(token_mark), began_at = VALUES(began_at), seen_at = VALUES(seen_at)",
		m.Owner[:], clip(m.Says, 300), clip(m.Address, 300), clip(m.Pin, 100), clip(m.Version, 100), m.TokenMark, m.BeganAt.UTC())
	return wrap("show that this service is there", err)
}

// Members are the services that were there lately, by where they are reached.
func (l *Lookout) Members(ctx context.Context) (list []Member, err error) {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	if err := l.prepare(ctx); err != nil {
		return nil, wrap("look which services there are", err)
	}
	rows, err := l.pool.QueryContext(ctx, "SELECT owner, says, address, pin, version, token_mark, began_at, seen_at FROM services WHERE seen_at > NOW(6) - INTERVAL ? SECOND ORDER BY address", int(memberTime.Seconds()))
	if err != nil {
		return nil, wrap("look which services there are", err)
	}
	defer rows.Close()
	for rows.Next() {
		var m Member
		var owner []byte
		if err := rows.Scan(&owner, &m.Says, &m.Address, &m.Pin, &m.Version, &m.TokenMark, &m.BeganAt, &m.SeenAt); err != nil {
			return nil, wrap("look which services there are", err)
		}
		if len(owner) == len(m.Owner) {
			m.Owner = ident.ID(owner)
			list = append(list, m)
		}
	}
	return list, wrap("look which services there are", rows.Err())
}

// Close ends it.
func (l *Lookout) Close() error { return l.pool.Close() }

// Secret is what those are known by who hand their callers on to who holds this database; nil where
// nobody does.
func (s *Store) Secret() []byte {
	if s.hold == nil {
		return nil
	}
	return s.hold.secret
}
