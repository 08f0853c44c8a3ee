package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/internal/backup"
)

// Sink takes the tables of a dump, one after the other.
type Sink interface {
	Table(t backup.Table) error
	Row(values []any) error
}

// notKept are tables of which a dump has no rows: who works on this database just now, and how
// far its schema is, which stands in a backup's head.
var notKept = []string{"leases", "services", "schema_versions"}

// Schema is the version that a database has after Open.
func Schema() (int, error) {
	list, err := migrations()
	if err != nil {
		return 0, err
	}
	return list[len(list)-1].version, nil
}

// Dump hands out all that the database holds, as it is at one moment, while others go on writing.
// Rows come in the order of their keys, so that the same rows give the same dump. Old days are not
// dropped meanwhile.
func (s *Store) Dump(ctx context.Context, to Sink) error {
	if err := s.gate(); err != nil {
		return err
	}
	// A day that begins meanwhile has its place already.
	now := time.Now()
	if err := s.CoverDays(ctx, now, now.AddDate(0, 0, 2)); err != nil {
		return err
	}
	s.dumping.RLock()
	defer s.dumping.RUnlock()
	return s.dump(ctx, to)
}

func (s *Store) dump(ctx context.Context, to Sink) error {
	conn, err := s.pool.Conn(ctx)
	if err != nil {
		return wrap("begin a backup", err)
	}
	// What is set on the connection is not for others.
	defer func() { _ = conn.Raw(func(any) error { return driver.ErrBadConn }); _ = conn.Close() }()
	for _, set := range []string{
		"SET SESSION net_write_timeout = 600", // who takes it may be slow
		"SET SESSION idle_transaction_timeout = 0",
		"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ",
		"START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY",
	} {
		if _, err := conn.ExecContext(ctx, set); err != nil {
			return wrap("begin a backup", err)
		}
	}
	there, err := texts(ctx, conn, "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()")
	if err != nil {
		return wrap("look at the tables", err)
	}
	for _, name := range ownTables {
		if slices.Contains(notKept, name) || !slices.Contains(there, name) {
			continue
		}
		if err := s.dumpTable(ctx, conn, name, to); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) dumpTable(ctx context.Context, conn *sql.Conn, name string, to Sink) error {
	key, err := texts(ctx, conn, "SELECT column_name FROM information_schema.statistics WHERE table_schema = DATABASE() AND table_name = ? AND index_name = 'PRIMARY' ORDER BY seq_in_index", name)
	if err != nil {
		return wrap("look at the table "+name, err)
	}
	t := backup.Table{Name: name}
	if t.Days, err = texts(ctx, conn, "SELECT SUBSTR(partition_name, 2) FROM information_schema.partitions WHERE table_schema = DATABASE() AND table_name = ? AND partition_name REGEXP '^d[0-9]{8}$' ORDER BY partition_name", name); err != nil {
		return wrap("look at the table "+name, err)
	}
	rows, err := conn.QueryContext(ctx, "SELECT * FROM `"+name+"` ORDER BY `"+strings.Join(key, "`, `")+"`")
	if err != nil {
		return wrap("read the table "+name, err)
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return wrap("read the table "+name, err)
	}
	for _, c := range types {
		k, err := kindOf(c.DatabaseTypeName())
		if err != nil {
			return fmt.Errorf("the column %s of %s: %w", c.Name(), name, err)
		}
		t.Columns = append(t.Columns, backup.Column{Name: c.Name(), Kind: k})
	}
	if err := to.Table(t); err != nil {
		return err
	}
	values, at := make([]any, len(types)), make([]any, len(types))
	for i := range values {
		at[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(at...); err != nil {
			return wrap("read the table "+name, err)
		}
		if err := to.Row(values); err != nil {
			return err
		}
	}
	return wrap("read the table "+name, rows.Err())
}

func texts(ctx context.Context, conn *sql.Conn, query string, args ...any) (list []string, err error) {
	rows, err := conn.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		list = append(list, text)
	}
	return list, rows.Err()
}

// kindOf is what the values of a column of the database are.
func kindOf(column string) (backup.Kind, error) {
	switch strings.TrimPrefix(column, "UNSIGNED ") {
	case "TINYINT", "SMALLINT", "MEDIUMINT", "INT", "BIGINT":
		return backup.Whole, nil
	case "DOUBLE", "FLOAT":
		return backup.Float, nil
	case "CHAR", "VARCHAR", "TEXT", "TINYTEXT", "MEDIUMTEXT", "LONGTEXT":
		return backup.Text, nil
	case "BINARY", "VARBINARY", "BLOB", "TINYBLOB", "MEDIUMBLOB", "LONGBLOB":
		return backup.Bytes, nil
	case "DATETIME":
		return backup.Time, nil
	}
	return "", fmt.Errorf("a backup does not know the type %s", column)
}

// FlushesLate says what a kill of the database, and what a power cut, may take of what it has taken, by
// how it is set; empty when nothing.
func (s *Store) FlushesLate(ctx context.Context) (kill, cut string, err error) {
	if err := s.gate(); err != nil {
		return "", "", err
	}
	var flush, twice int
	if err := s.pool.QueryRowContext(ctx, "SELECT @@innodb_flush_log_at_trx_commit, @@innodb_doublewrite").Scan(&flush, &twice); err != nil {
		return "", "", wrap("ask how the database is set", err)
	}
	late := fmt.Sprintf("up to a second of what was taken, for the database does not flush its log at each commit (innodb_flush_log_at_trx_commit is %d)", flush)
	if flush == 0 { // not even to the system
		kill = late
	}
	if flush == 0 || flush == 2 {
		cut = late
	}
	if twice == 0 {
		cut = "anything, for the database writes pages once (innodb_doublewrite is 0)"
	}
	return kill, cut, nil
}
