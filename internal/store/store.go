// Package store keeps Woodlark's records in MariaDB. Nothing else speaks SQL.
//
//	s, err := store.Open(ctx, store.Options{DSN: server.DSN("woodlark")})
//	err = s.SaveUpload(ctx, upload)
package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"time"

	"database/sql/driver"

	mysqldriver "github.com/go-sql-driver/mysql"
	gormmysql "gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

var (
	// ErrNotFound is wrapped when there is no such record.
	ErrNotFound = errors.New("not found")
	// ErrTaken is wrapped when a name is in use already.
	ErrTaken = errors.New("is taken")
	// ErrAway is wrapped when the database does not answer or cannot write.
	ErrAway = errors.New("the database is away")
)

// Options of Open.
type Options struct {
	// DSN names the database, in the form user:password@tcp(host:port)/name or
	// user@unix(socket)/name.
	DSN string
	Log *slog.Logger
}

// Store is the open database. It is safe for concurrent use.
type Store struct {
	db   *gorm.DB
	pool *sql.DB
	days days
	log  *slog.Logger
}

// Open connects, makes the database when it is not there, and brings the schema
// up to date.
func Open(ctx context.Context, o Options) (*Store, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	config, err := mysqldriver.ParseDSN(o.DSN)
	if err != nil {
		return nil, fmt.Errorf("the database's name %q is not of the form user:password@tcp(host:port)/name: %w", redact(o.DSN), err)
	}
	if config.DBName == "" {
		return nil, fmt.Errorf("the database's name %q has no /name at its end", redact(o.DSN))
	}
	config.ParseTime, config.Loc, config.InterpolateParams = true, time.UTC, true
	config.Timeout, config.ReadTimeout, config.WriteTimeout = 5*time.Second, 60*time.Second, 60*time.Second
	config.MaxAllowedPacket = 16 << 20
	config.Logger = silent{}
	if config.Params == nil {
		config.Params = map[string]string{}
	}
	config.Params["time_zone"] = "'+00:00'"
	if err := makeDatabase(ctx, *config); err != nil {
		return nil, fmt.Errorf("open the database %s: %w", config.DBName, err)
	}
	connector, err := mysqldriver.NewConnector(config)
	if err != nil {
		return nil, err
	}
	pool := sql.OpenDB(connector)
	pool.SetMaxOpenConns(16)
	pool.SetMaxIdleConns(16)
	pool.SetConnMaxLifetime(10 * time.Minute)
	db, err := gorm.Open(gormmysql.New(gormmysql.Config{Conn: pool, SkipInitializeWithVersion: true}), &gorm.Config{
		Logger: logger.Discard, SkipDefaultTransaction: true, TranslateError: true,
		NowFunc: func() time.Time { return time.Now().UTC() },
	})
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open the database: %w", err), pool.Close())
	}
	s := &Store{db: db, pool: pool, log: o.Log}
	if err := s.migrate(ctx); err != nil {
		return nil, errors.Join(err, pool.Close())
	}
	return s, nil
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

func makeDatabase(ctx context.Context, config mysqldriver.Config) error {
	name := config.DBName
	config.DBName = ""
	connector, err := mysqldriver.NewConnector(&config)
	if err != nil {
		return err
	}
	pool := sql.OpenDB(connector)
	defer pool.Close()
	_, err = pool.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS `"+strings.ReplaceAll(name, "`", "``")+"` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
	var refused *mysqldriver.MySQLError
	if errors.As(err, &refused) && (refused.Number == 1044 || refused.Number == 1227) {
		return nil // an account for this database only: it is there or opening it will say so
	}
	return err
}

// Close ends all connections.
func (s *Store) Close() error { return s.pool.Close() }

// Ping asks whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	return wrap("ask the database", s.pool.PingContext(ctx))
}

const (
	duplicateKey     = 1062
	deadlock         = 1213
	lockWait         = 1205
	unknownStatement = 1047 // of a Galera node that is not part of its cluster
	diskFull         = 1021
	tableFull        = 1114
	shutdown         = 1053
)

// wrap says what was being done, and whether it was the database that failed.
func wrap(doing string, err error) error {
	if err == nil {
		return nil
	}
	var refused *mysqldriver.MySQLError
	var network net.Error
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		return fmt.Errorf("%s: %w", doing, ErrNotFound)
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return fmt.Errorf("%s: %w", doing, ErrTaken)
	case errors.As(err, &refused):
		switch refused.Number {
		case duplicateKey:
			return fmt.Errorf("%s: %w", doing, ErrTaken)
		case unknownStatement, shutdown:
			return fmt.Errorf("%s: %w: %w", doing, ErrAway, err)
		case diskFull, tableFull:
			return fmt.Errorf("%s: %w: its disk is full; free some space: %w", doing, ErrAway, err)
		}
	case errors.Is(err, driver.ErrBadConn), errors.Is(err, mysqldriver.ErrInvalidConn), errors.As(err, &network), errors.Is(err, sql.ErrConnDone):
		return fmt.Errorf("%s: %w: %w", doing, ErrAway, err)
	}
	return fmt.Errorf("%s: %w", doing, err)
}

// transact runs work in a transaction, again when another writer was in the
// way: a deadlock here, or a write conflict between the nodes of a cluster.
func (s *Store) transact(ctx context.Context, doing string, work func(*gorm.DB) error) error {
	var err error
	for try := range 6 {
		err = s.db.WithContext(ctx).Transaction(work)
		var refused *mysqldriver.MySQLError
		if !errors.As(err, &refused) || refused.Number != deadlock && refused.Number != lockWait {
			break
		}
		select {
		case <-ctx.Done():
			return wrap(doing, ctx.Err())
		case <-time.After(time.Duration(1<<try) * 5 * time.Millisecond):
		}
	}
	return wrap(doing, err)
}
