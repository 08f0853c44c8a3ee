package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	mysqldriver "github.com/go-sql-driver/mysql"

	"woodlark.example/internal/backup"
)

// ErrNotEmpty is wrapped when a database that is to be filled holds something.
var ErrNotEmpty = errors.New("the database holds something already")

// ErrHalfFilled is wrapped when a database was being filled, and that was cut off.
var ErrHalfFilled = errors.New("a backup was being restored into this database, and that was cut off: restore it again")

// fillingTable is there while a database is filled: what was cut off is known by it.
const fillingTable = "filling"

// Filling fills an empty database from a backup. Until Done it is nobody's.
type Filling struct {
	store *Store
	ctx   context.Context
	table backup.Table
	batch []any
	rows  int
	bytes int
	done  bool
}

// Fill begins to fill a database that holds nothing, or whose filling was cut off before, with the
// rows of a schema. The error wraps ErrNotEmpty when it holds something.
func Fill(ctx context.Context, o Options, schema int) (*Filling, error) {
	newest, err := Schema()
	if err != nil {
		return nil, err
	}
	if schema < 1 || schema > newest {
		return nil, fmt.Errorf("the backup has schema version %d, this program knows versions up to %d: use a newer program", schema, newest)
	}
	config, hosts, err := configOf(o.DSN)
	if err != nil {
		return nil, err
	}
	if err := makeDatabase(ctx, *config, hosts); err != nil {
		return nil, outspoken(wrap("open the database "+config.DBName, err))
	}
	f := &Filling{store: &Store{log: logOr(o.Log)}, ctx: ctx}
	if err := f.open(config, hosts, o.Holder, schema); err != nil {
		_ = f.store.Close()
		return nil, outspoken(err)
	}
	return f, nil
}

func (f *Filling) open(config *mysqldriver.Config, hosts []string, holder *Holder, schema int) error {
	s := f.store
	if holder != nil {
		n, err := nodesOf(*config, hosts)
		if err != nil {
			return err
		}
		if s.hold, err = takeHold(f.ctx, n, *holder); err != nil {
			return err
		}
	}
	slow := *config
	slow.ReadTimeout, slow.WriteTimeout = longStatement, longStatement
	slow.Params = maps.Clone(config.Params)
	slow.Params["idle_transaction_timeout"] = "0" // what is filled in may come slowly
	n, err := nodesOf(slow, hosts)
	if err != nil {
		return err
	}
	s.pool = openPool(n, mostConnections)
	there, err := s.tablesThere(f.ctx)
	if err != nil {
		return err
	}
	switch cut := slices.Contains(there, fillingTable); {
	case cut:
		if err := f.empty(there); err != nil {
			return err
		}
	case slices.ContainsFunc(there, func(name string) bool { return name != "leases" && name != "services" }):
		return ErrNotEmpty
	}
	if _, err := s.pool.ExecContext(f.ctx, "CREATE TABLE IF NOT EXISTS "+fillingTable+" (began_at DATETIME(6) NOT NULL) ENGINE=InnoDB"); err != nil {
		return wrap("begin to fill the database", err)
	}
	if err := s.bringTo(f.ctx, schema); err != nil {
		return err
	}
	// What a new database begins with is in the backup, as it was left.
	for _, name := range ownTables {
		if slices.Contains(notKept, name) {
			continue
		}
		if _, err := s.pool.ExecContext(f.ctx, "DELETE FROM `"+name+"`"); err != nil && !isUnknownTable(err) {
			return wrap("empty the table "+name, err)
		}
	}
	return nil
}

// isUnknownTable is that a table is of a later schema.
func isUnknownTable(err error) bool {
	var refused *mysqldriver.MySQLError
	return errors.As(err, &refused) && refused.Number == 1146
}

// tablesThere are our tables that a database has.
func (s *Store) tablesThere(ctx context.Context) ([]string, error) {
	conn, err := s.pool.Conn(ctx)
	if err != nil {
		return nil, wrap("look at the tables", err)
	}
	defer conn.Close()
	all, err := texts(ctx, conn, "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()")
	return slices.DeleteFunc(all, func(name string) bool { return name != fillingTable && !slices.Contains(ownTables, name) }), wrap("look at the tables", err)
}

// empty drops our tables but who holds the database, and what says that it is not whole.
func (f *Filling) empty(tables []string) error {
	for _, name := range tables {
		if name == "leases" || name == fillingTable {
			continue
		}
		if _, err := f.store.pool.ExecContext(f.ctx, "DROP TABLE IF EXISTS `"+name+"`"); err != nil {
			return wrap("drop the table "+name, err)
		}
	}
	return nil
}

// Table begins a table.
func (f *Filling) Table(t backup.Table) error {
	if err := f.flush(); err != nil {
		return err
	}
	if !slices.Contains(ownTables, t.Name) || slices.Contains(notKept, t.Name) {
		return fmt.Errorf("%w: it holds a table %s, which is none of ours", backup.ErrDamaged, t.Name)
	}
	f.table = t
	if len(t.Days) == 0 {
		return nil
	}
	parts := make([]string, 0, len(t.Days)+1)
	for _, day := range t.Days {
		next, err := dayAfter(day)
		if err != nil {
			return fmt.Errorf("%w: the table %s has a day %q", backup.ErrDamaged, t.Name, day)
		}
		parts = append(parts, fmt.Sprintf("PARTITION d%s VALUES LESS THAN ('%s')", day, next))
	}
	parts = append(parts, "PARTITION beyond VALUES LESS THAN (MAXVALUE)")
	_, err := f.store.pool.ExecContext(f.ctx, "ALTER TABLE `"+t.Name+"` REORGANIZE PARTITION beyond INTO ("+strings.Join(parts, ", ")+")")
	return wrap("make a partition for each day", err)
}

// A statement takes as many rows, or bytes of them.
const (
	rowsAtOnce  = 500
	bytesAtOnce = 1 << 20
)

// Row is one of the table that was begun last.
func (f *Filling) Row(values []any) error {
	f.batch = append(f.batch, values...)
	f.rows++
	for _, v := range values {
		switch v := v.(type) {
		case []byte:
			f.bytes += len(v)
		case string:
			f.bytes += len(v)
		}
		f.bytes += 8
	}
	if f.rows < rowsAtOnce && f.bytes < bytesAtOnce {
		return nil
	}
	return f.flush()
}

func (f *Filling) flush() error {
	if f.rows == 0 {
		return nil
	}
	names := make([]string, len(f.table.Columns))
	for i, c := range f.table.Columns {
		names[i] = c.Name
	}
	row := "(" + strings.TrimSuffix(strings.Repeat("?,", len(names)), ",") + ")"
	text := "INSERT INTO `" + f.table.Name + "` (`" + strings.Join(names, "`, `") + "`) VALUES " + strings.TrimSuffix(strings.Repeat(row+",", f.rows), ",")
	_, err := f.store.pool.ExecContext(f.ctx, text, f.batch...)
	f.batch, f.rows, f.bytes = f.batch[:0], 0, 0
	var refused *mysqldriver.MySQLError
	if errors.As(err, &refused) && refused.Number != 1021 && refused.Number != 1041 {
		return fmt.Errorf("%w: the database does not take a row of %s: %s", backup.ErrDamaged, f.table.Name, refused.Message)
	}
	return wrap("fill the table "+f.table.Name, err)
}

// Dump is what the database holds by now.
func (f *Filling) Dump(to Sink) error {
	if err := f.flush(); err != nil {
		return err
	}
	return f.store.dump(f.ctx, to)
}

// Done says that all is there; from then on a service takes the database.
func (f *Filling) Done() error {
	if err := f.flush(); err != nil {
		return err
	}
	if _, err := f.store.pool.ExecContext(f.ctx, "DROP TABLE "+fillingTable); err != nil {
		return wrap("end the filling of the database", err)
	}
	f.done = true
	return nil
}

// Close ends it. What is not done is dropped; should that fail, the database stays nobody's.
func (f *Filling) Close() error {
	if !f.done {
		f.ctx = context.WithoutCancel(f.ctx)
		there, err := f.store.tablesThere(f.ctx)
		if err == nil {
			err = f.empty(there)
		}
		if err == nil {
			_, err = f.store.pool.ExecContext(f.ctx, "DROP TABLE IF EXISTS "+fillingTable)
		}
		return errors.Join(err, f.store.Close())
	}
	return f.store.Close()
}

// halfFilled says whether a database was being filled, and that was cut off.
func halfFilled(ctx context.Context, pool *sql.DB) error {
	var n int
	if err := pool.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = ?", fillingTable).Scan(&n); err != nil {
		return wrap("look at the tables", err)
	}
	if n > 0 {
		return ErrHalfFilled
	}
	return nil
}
