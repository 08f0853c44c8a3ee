package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
)

// days remembers which days have partitions, so that it is asked once.
type days struct {
	mu    sync.Mutex
	known map[string]bool
}

const (
	dayForm    = "20060102"
	mostAhead  = 7 * 24 * time.Hour   // of now, that a day gets a partition
	mostBehind = 400 * 24 * time.Hour // likewise
	// atOnce is how many days are made or dropped by one statement, which holds all others up and
	// has to end in time.
	atOnce = 32
)

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// CoverDays makes sure that each day between two times has a partition of its
// own. It splits the last partition, which takes what lies beyond. Times that
// only a wrong clock can give get none: they fall into the next partition that
// there is, or stay beyond, so that the days in between can still have theirs.
func (s *Store) CoverDays(ctx context.Context, from, to time.Time) error {
	s.days.mu.Lock()
	defer s.days.mu.Unlock()
	now := time.Now()
	from, to = later(from, now.Add(-mostBehind)), earlier(to, now.Add(mostAhead))
	first, last := from.UTC().Truncate(24*time.Hour), to.UTC().Truncate(24*time.Hour)
	missing := s.days.known == nil
	for d := first; !missing && !d.After(last); d = d.AddDate(0, 0, 1) {
		missing = !s.days.known[d.Format(dayForm)]
	}
	if !missing {
		return nil
	}
	have, newest, err := s.partitions(ctx)
	if err != nil {
		return err
	}
	s.days.known = have
	// Only days after the newest can be split off the end; an older day
	// without a partition falls into the next one that there is.
	var parts []string
	for d := first; !d.After(last); d = d.AddDate(0, 0, 1) {
		name := d.Format(dayForm)
		if !have[name] && name > newest {
			parts = append(parts, fmt.Sprintf("PARTITION d%s VALUES LESS THAN ('%s')", name, d.AddDate(0, 0, 1).Format(time.DateOnly)))
		}
		have[name] = true
	}
	for some := range slices.Chunk(parts, atOnce) {
		err = s.exec(ctx, "ALTER TABLE readings REORGANIZE PARTITION beyond INTO ("+strings.Join(some, ", ")+", PARTITION beyond VALUES LESS THAN (MAXVALUE))")
		if err != nil {
			s.days.known = nil
			break
		}
	}
	return wrap("make a partition for each day", err)
}

func (s *Store) partitions(ctx context.Context) (have map[string]bool, newest string, err error) {
	rows, err := s.query(ctx, "SELECT partition_name FROM information_schema.partitions WHERE table_schema = DATABASE() AND table_name = 'readings'")
	if err != nil {
		return nil, "", wrap("list the partitions", err)
	}
	defer rows.Close()
	have = map[string]bool{}
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, "", wrap("list the partitions", err)
		}
		if day, ok := strings.CutPrefix(name, "d"); ok {
			have[day] = true
			newest = max(newest, day)
		}
	}
	return have, newest, wrap("list the partitions", rows.Err())
}

// DropBefore drops the readings of whole days before a time, and returns how many days
// went.
func (s *Store) DropBefore(ctx context.Context, t time.Time) (int, error) {
	if !s.dumping.TryLock() {
		return 0, nil // a backup reads them; they are dropped another time
	}
	defer s.dumping.Unlock()
	s.days.mu.Lock()
	defer s.days.mu.Unlock()
	have, _, err := s.partitions(ctx)
	if err != nil {
		return 0, err
	}
	limit := t.UTC().Format(dayForm)
	var drop []string
	for day := range have {
		if day < limit {
			drop = append(drop, "d"+day)
		}
	}
	slices.Sort(drop)
	for some := range slices.Chunk(drop, atOnce) { // the oldest first: what is cut off leaves no gap
		s.days.known = nil
		if err := s.exec(ctx, "ALTER TABLE readings DROP PARTITION "+strings.Join(some, ", ")); err != nil {
			return 0, wrap("drop old readings", err)
		}
	}
	return len(drop), nil
}

// dayAfter is the day after one in dayForm, as the database reads it.
func dayAfter(day string) (string, error) {
	d, err := time.Parse(dayForm, day)
	return d.AddDate(0, 0, 1).Format(time.DateOnly), err
}
