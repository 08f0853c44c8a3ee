// Package store keeps Woodlark's records in MariaDB. Nothing else speaks SQL.
//
//	s, err := store.Open(ctx, store.Options{DSN: server.DSN("woodlark")})
//	err = s.SaveUpload(ctx, upload)
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
	gormmysql "gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// Options of Open.
type Options struct {
	// DSN names the database, in the form user:password@tcp(host:port)/name or
	// user@unix(socket)/name.
	DSN string
	Log *slog.Logger
	// Holder is who works on the database alone from then on; anybody may at the same
	// time when it is nil.
	Holder *Holder
	// AsIs leaves the schema as it is, for who only dumps it.
	AsIs bool
}

// Store is the open database. It is safe for concurrent use.
type Store struct {
	db   *gorm.DB
	pool *sql.DB
	days days
	// dumping is held by who reads all tables at one moment; no table may change its form meanwhile.
	dumping sync.RWMutex
	hold    *hold // nil when nobody holds it
	log     *slog.Logger
}

// Open connects, makes the database when it is not there, and brings the schema
// up to date.
func Open(ctx context.Context, o Options) (*Store, error) {
	config, hosts, err := configOf(o.DSN)
	if err != nil {
		return nil, err
	}
	if err := makeDatabase(ctx, *config, hosts); err != nil {
		return nil, outspoken(wrap("open the database "+config.DBName, err))
	}
	s := &Store{log: logOr(o.Log)}
	if err := s.open(ctx, config, hosts, o); err != nil {
		_ = s.Close()
		return nil, outspoken(err)
	}
	return s, nil
}

func logOr(log *slog.Logger) *slog.Logger {
	if log == nil {
		return slog.New(slog.DiscardHandler)
	}
	return log
}

// configOf is how a database is spoken to, and at which hosts where there are several.
func configOf(dsn string) (*mysqldriver.Config, []string, error) {
	first, hosts := hostsIn(dsn)
	config, err := mysqldriver.ParseDSN(first)
	if err != nil {
		return nil, nil, fmt.Errorf("the database's name %q is not of the form user:password@tcp(host:port)/name: %w", redact(dsn), err)
	}
	if config.DBName == "" {
		return nil, nil, fmt.Errorf("the database's name %q has no /name at its end", redact(dsn))
	}
	config.ParseTime, config.Loc, config.InterpolateParams = true, time.UTC, true
	config.Timeout, config.ReadTimeout, config.WriteTimeout = 5*time.Second, 20*time.Second, 20*time.Second
	config.MaxAllowedPacket = 16 << 20
	config.Logger = silent{}
	if config.Params == nil {
		config.Params = map[string]string{}
	}
	if err := config.Apply(mysqldriver.Charset(charset, collation)); err != nil {
		return nil, nil, err
	}
	config.Params["time_zone"] = "'+00:00'"
	// What does not fit is refused, not cut; and nobody waits long for another's lock.
	config.Params["sql_mode"] = "'STRICT_ALL_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION'"
	config.Params["innodb_lock_wait_timeout"] = "3"
	// Whoever is stopped within a transaction holds nobody up for long.
	config.Params["idle_transaction_timeout"] = idleTime
	return config, hosts, nil
}

func (s *Store) open(ctx context.Context, config *mysqldriver.Config, hosts []string, o Options) error {
	n, err := nodesOf(*config, hosts)
	if err != nil {
		return err
	}
	// Whoever holds the database may be bringing its schema forward: the hold goes first.
	if o.Holder != nil {
		if s.hold, err = takeHold(ctx, n, *o.Holder); err != nil {
			return err
		}
	}
	if err := s.prepare(ctx, *config, hosts, o.AsIs); err != nil {
		return err
	}
	s.pool = openPool(n, mostConnections)
	s.db, err = gorm.Open(gormmysql.New(gormmysql.Config{Conn: s.pool, SkipInitializeWithVersion: true}), &gorm.Config{
		Logger: logger.Discard, SkipDefaultTransaction: s.hold == nil, DisableNestedTransaction: true, TranslateError: true,
		NowFunc: func() time.Time { return time.Now().UTC() },
	})
	if err != nil {
		return fmt.Errorf("open the database: %w", err)
	}
	return errors.Join(s.gateAll(), s.fenceAll())
}

// outspoken adds what the database said, for who starts the service.
func outspoken(err error) error {
	if cause := Cause(err); cause != "" && !strings.HasSuffix(err.Error(), cause) {
		return fmt.Errorf("%w (%s)", err, cause)
	}
	return err
}

const (
	mostConnections = 16
	idleTime        = "8"       // s
	longStatement   = time.Hour // that changes tables, or reads them whole
)

// prepare brings the schema up to date. That may take longer than any other statement.
func (s *Store) prepare(ctx context.Context, config mysqldriver.Config, hosts []string, asIs bool) error {
	config.ReadTimeout, config.WriteTimeout = longStatement, longStatement
	n, err := nodesOf(config, hosts)
	if err != nil {
		return err
	}
	s.pool = openPool(n, 1)
	defer func() { s.pool = nil }()
	defer s.pool.Close()
	if asIs {
		_, err := s.schemaNow(ctx)
		return err
	}
	if err := s.migrate(ctx); err != nil {
		return err
	}
	return s.useOneCollation(ctx)
}

// gateAll has every statement pass the gate first.
func (s *Store) gateAll() error {
	pass := func(db *gorm.DB) {
		if err := s.gate(); err != nil {
			_ = db.AddError(err)
		}
	}
	on := s.db.Callback()
	return errors.Join(
		on.Create().Before("*").Register("woodlark:gate", pass), on.Query().Before("*").Register("woodlark:gate", pass),
		on.Update().Before("*").Register("woodlark:gate", pass), on.Delete().Before("*").Register("woodlark:gate", pass),
		on.Row().Before("*").Register("woodlark:gate", pass), on.Raw().Before("*").Register("woodlark:gate", pass))
}

type silent struct{}

func (silent) Print(...any) {}

// redact takes the password out of a data source name.
func redact(dsn string) string {
	at := strings.LastIndex(dsn, "@")
	colon := strings.Index(dsn, ":")
	if at < 0 || colon < 0 || colon > at {
		return dsn
	}
	return dsn[:colon] + ":…" + dsn[at:]
}

func makeDatabase(ctx context.Context, config mysqldriver.Config, hosts []string) error {
	name := config.DBName
	config.DBName = ""
	n, err := nodesOf(config, hosts)
	if err != nil {
		return err
	}
	pool := openPool(n, 1)
	defer pool.Close()
	_, err = pool.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS `"+strings.ReplaceAll(name, "`", "``")+"` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
	var refused *mysqldriver.MySQLError
	if errors.As(err, &refused) && (refused.Number == 1044 || refused.Number == 1227) {
		return nil // an account for this database only: it is there or opening it will say so
	}
	return err
}

// Close ends all connections, and gives up the hold of the database.
func (s *Store) Close() error {
	var err error
	if s.pool != nil {
		err = s.pool.Close()
	}
	if s.hold != nil {
		s.hold.close()
	}
	return err
}

// query reads rows, past the gate.
func (s *Store) query(ctx context.Context, text string, args ...any) (*sql.Rows, error) {
	if err := s.gate(); err != nil {
		return nil, err
	}
	return s.pool.QueryContext(ctx, text, args...)
}

// exec carries out a statement, past the gate.
func (s *Store) exec(ctx context.Context, text string) error {
	if err := s.gate(); err != nil {
		return err
	}
	_, err := s.pool.ExecContext(ctx, text)
	return err
}

// Ping asks whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	if err := s.gate(); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	return wrap("ask the database", s.pool.PingContext(ctx))
}

// transact runs work in a transaction, again when another writer was in the
// way: a deadlock here, or a write conflict between the nodes of a cluster.
func (s *Store) transact(ctx context.Context, doing string, work func(*gorm.DB) error) error {
	return s.transactWith(ctx, doing, inTheWay, work)
}

// transactAgain is transact for work that may be carried out twice: again also when the connection was
// lost, where it is not known how far it came.
func (s *Store) transactAgain(ctx context.Context, doing string, work func(*gorm.DB) error) error {
	return s.transactWith(ctx, doing, func(err error) bool {
		return inTheWay(err) || errors.Is(err, mysqldriver.ErrInvalidConn) || errors.Is(err, driver.ErrBadConn)
	}, work)
}

// inTheWay is that somebody else was, or that a node left its cluster, before anything was written.
func inTheWay(err error) bool {
	var refused *mysqldriver.MySQLError
	return errors.As(err, &refused) && slices.Contains([]uint16{deadlock, lockWait, 1047, 1317}, refused.Number)
}

const (
	mostTries = 6
	triesTime = 4 * time.Second
	firstWait = 5 * time.Millisecond // twice as long each time, and up to as much again by chance
)

func (s *Store) transactWith(ctx context.Context, doing string, again func(error) bool, work func(*gorm.DB) error) (err error) {
	if err := s.gate(); err != nil {
		return err
	}
	within := context.WithValue(ctx, fencedKey{}, true)
	for try, began := 0, time.Now(); try < mostTries && (try == 0 || time.Since(began) < triesTime); try++ {
		err = s.db.WithContext(within).Transaction(func(tx *gorm.DB) error {
			if err := s.fence(within, tx.Statement.ConnPool); err != nil {
				return err
			}
			return work(tx)
		})
		if err == nil || !again(err) {
			break
		}
		wait := firstWait << try
		select {
		case <-ctx.Done():
			return wrap(doing, ctx.Err())
		case <-time.After(wait + rand.N(wait)):
		}
	}
	return wrap(doing, err)
}

// Pool is how the connections to the database stand.
func (s *Store) Pool() sql.DBStats { return s.pool.Stats() }
