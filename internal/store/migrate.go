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

// statements are those of a version. MariaDB commits each by itself, so a version may be
// cut off behind any of them and is begun anew then: each must be worth nothing when it is
// carried out a second time (IF NOT EXISTS).
func (m migration) statements() []string {
	var list []string
	for _, s := range strings.Split(m.text, ";\n") {
		if strings.TrimSpace(s) != "" {
			list = append(list, s)
		}
	}
	return list
}

// migrate brings the schema forward, one version after the other.
func (s *Store) migrate(ctx context.Context) error {
	if err := halfFilled(ctx, s.pool); err != nil {
		return err
	}
	newest, err := Schema()
	if err != nil {
		return err
	}
	if err := s.bringTo(ctx, newest); err != nil {
		return err
	}
	list, err := s.unpacked(ctx)
	for _, table := range list {
		s.log.Warn("the pages of a table are not packed, which takes twice the disk: have it written anew when nobody waits, see docs/size.md",
			"table", table, "by", "ALTER TABLE "+table+" PAGE_COMPRESSED=1 PAGE_COMPRESSION_LEVEL=3")
	}
	return err
}

// unpacked are the tables that a server did not pack because they were large already and it would have
// had to write them anew.
func (s *Store) unpacked(ctx context.Context) (list []string, err error) {
	for _, table := range []string{"readings", "rollups"} {
		var is bool
		const asks = "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = ? AND create_options LIKE '%page_compressed%'"
		if err := s.pool.QueryRowContext(ctx, asks, table).Scan(&is); err != nil {
			return nil, wrap("ask which tables are packed", err)
		}
		if !is {
			list = append(list, table)
		}
	}
	return list, nil
}

// SchemaNow is the version that the database has: that of Schema, unless it was opened as it is.
func (s *Store) SchemaNow(ctx context.Context) (int, error) {
	if err := s.gate(); err != nil {
		return 0, err
	}
	return s.schemaNow(ctx)
}

func (s *Store) schemaNow(ctx context.Context) (at int, err error) {
	newest, err := Schema()
	if err != nil {
		return 0, err
	}
	if err := s.pool.QueryRowContext(ctx, "SELECT COALESCE(MAX(version), 0) FROM schema_versions").Scan(&at); err != nil {
		return 0, wrap("read the schema's version", err)
	}
	if at > newest {
		return 0, fmt.Errorf("the database has schema version %d, this program knows versions up to %d: use a newer program", at, newest)
	}
	return at, nil
}

// bringTo brings the schema to a version that is not behind the one it has.
func (s *Store) bringTo(ctx context.Context, version int) error {
	list, err := migrations()
	if err != nil {
		return err
	}
	if _, err := s.pool.ExecContext(ctx, `CREATE TABLE IF NOT EXISTS schema_versions (version INT NOT NULL PRIMARY KEY, name VARCHAR(100) NOT NULL, applied_at DATETIME(6) NOT NULL) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin`); err != nil {
		return wrap("prepare the schema", err)
	}
	at, err := s.schemaNow(ctx)
	if err != nil {
		return err
	}
	for _, m := range list {
		if m.version <= at || m.version > version {
			continue
		}
		for _, statement := range m.statements() {
			if _, err := s.pool.ExecContext(ctx, statement); err != nil {
				return wrap("bring the schema to "+m.name, err)
			}
		}
		if _, err := s.pool.ExecContext(ctx, "INSERT IGNORE INTO schema_versions VALUES (?, ?, ?)", m.version, m.name, time.Now().UTC()); err != nil {
			return wrap("note the schema's version", err)
		}
		s.log.Info("schema brought forward", "version", m.version, "name", m.name)
	}
	return nil
}

// charset and collation are those of every text that is kept: names are the same only
// when each byte of them is.
const (
	charset   = "utf8mb4"
	collation = "utf8mb4_bin"
)

// useOneCollation converts tables that were made with another character set or collation,
// such as those of a database that was there before us.
func (s *Store) useOneCollation(ctx context.Context) error {
	const others = `SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type = 'BASE TABLE' AND table_collation <> ?
		UNION SELECT table_name FROM information_schema.columns WHERE table_schema = DATABASE() AND collation_name <> ?`
	rows, err := s.pool.QueryContext(ctx, others, collation, collation)
	if err != nil {
		return wrap("look at the tables' collations", err)
	}
	var names []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return errors.Join(wrap("look at the tables' collations", err), rows.Close())
		}
		if slices.Contains(ownTables, name) {
			names = append(names, name)
		}
	}
	if err := rows.Close(); err != nil {
		return wrap("look at the tables' collations", err)
	}
	for _, name := range names {
		if _, err := s.pool.ExecContext(ctx, "ALTER TABLE `"+name+"` CONVERT TO CHARACTER SET "+charset+" COLLATE "+collation); err != nil {
			return fmt.Errorf("the table %s has another collation than %s and could not be converted: %w", name, collation, wrap("convert it", err))
		}
		s.log.Warn("a table had another collation and was converted", "table", name, "to", collation)
	}
	return nil
}

// ownTables are all that the migrations make.
var ownTables = []string{"agents", "paths", "watches", "watch_paths", "runs", "readings", "rollups", "rollups_due", "episodes", "baselines", "notices",
	"sweeps", "traces", "routes", "hop_minutes", "invites", "two_ended", "leases", "services", "changes", "guards", "incidents", "figures", "maintenance", "objectives", "evidence", "conversations", "channels", "rules", "matters", "messages", "annotations", "signing_keys", "guest_links", "guest_openings", "visits", "sites", "owners", "boards", "plans", "people", "welcomes", "person_tokens", "sign_ins", "passkeys", "schema_versions"}
