package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
)

//go:embed migrations/*.sql
var migrationFiles embed.FS

type migration struct {
	version int
	name    string
	text    string
}

func migrations() ([]migration, error) {
	entries, err := migrationFiles.ReadDir("migrations")
	if err != nil {
		return nil, err
	}
	var list []migration
	for _, e := range entries {
		number, _, _ := strings.Cut(e.Name(), "_")
		version, err := strconv.Atoi(number)
		if err != nil {
			return nil, fmt.Errorf("migration %q has no number", e.Name())
		}
		text, err := migrationFiles.ReadFile("migrations/" + e.Name())
		if err != nil {
			return nil, err
		}
		list = append(list, migration{version, e.Name(), string(text)})
	}
	slices.SortFunc(list, func(a, b migration) int { return a.version - b.version })
	return list, nil
}

const tableExists = 1050

// migrate brings the schema forward, one version after the other. MariaDB
// commits each statement that changes a schema by itself; should it be cut off
// in the middle of a version, the tables that are there already are passed
// over the next time.
func (s *Store) migrate(ctx context.Context) error {
	list, err := migrations()
	if err != nil {
		return err
	}
	if _, err := s.pool.ExecContext(ctx, `CREATE TABLE IF NOT EXISTS schema_versions (version INT NOT NULL PRIMARY KEY, name VARCHAR(100) NOT NULL, applied_at DATETIME(6) NOT NULL) ENGINE=InnoDB`); err != nil {
		return wrap("prepare the schema", err)
	}
	var at int
	if err := s.pool.QueryRowContext(ctx, "SELECT COALESCE(MAX(version), 0) FROM schema_versions").Scan(&at); err != nil {
		return wrap("read the schema's version", err)
	}
	if newest := list[len(list)-1].version; at > newest {
		return fmt.Errorf("the database has schema version %d, this program knows versions up to %d: use a newer program", at, newest)
	}
	for _, m := range list {
		if m.version <= at {
			continue
		}
		for _, statement := range strings.Split(m.text, ";\n") {
			if strings.TrimSpace(statement) == "" {
				continue
			}
			_, err := s.pool.ExecContext(ctx, statement)
			var refused *mysqldriver.MySQLError
			if err != nil && !(errors.As(err, &refused) && refused.Number == tableExists) {
				return wrap("bring the schema to "+m.name, err)
			}
		}
		if _, err := s.pool.ExecContext(ctx, "INSERT INTO schema_versions VALUES (?, ?, ?)", m.version, m.name, time.Now().UTC()); err != nil {
			return wrap("note the schema's version", err)
		}
		s.log.Info("schema brought forward", "version", m.version, "name", m.name)
	}
	return nil
}
