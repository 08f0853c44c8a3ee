package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"path/filepath"
	"strings"
	"time"

	core "woodlark.example/core/reading"
	"woodlark.example/internal/api"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/mariadb"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/probe/history"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

const lane = `
world: lane
seed: 5
nodes:
  - {name: a, addresses: [192.0.2.1]}
  - {name: b, addresses: [192.0.2.2]}
links:
  - {between: [a, b], delay: 5ms, variation: gamma 200us, loss: 0.1%}
`

// openStore starts a private server and opens a database on it.
func openStore(ctx context.Context, dir, name string) (*mariadb.Server, *store.Store, error) {
	server, err := mariadb.Start(ctx, mariadb.Options{Dir: filepath.Join(dir, name)})
	if err != nil {
		return nil, nil, err
	}
	s, err := store.Open(ctx, store.Options{DSN: server.DSN(name)})
	return server, s, err
}

// openService is openStore with a service on it that knows one agent.
func openService(ctx context.Context, dir, name string) (*mariadb.Server, *store.Store, *service.Service, error) {
	server, s, err := openStore(ctx, dir, name)
	if err != nil {
		return nil, nil, nil, err
	}
	c, err := service.New(ctx, service.Options{Store: s, Zone: time.UTC})
	if err == nil {
		err = c.AddAgent(ctx, store.Agent{Name: "bench", Kind: "simulated"}, nil)
	}
	return server, s, c, err
}

// minutes makes n minutes of readings of a path.
func minutes(ctx context.Context, end time.Time, n int, each func(core.Reading, []core.Probe) error) error {
	return minutesOf(ctx, 5, end, n, each)
}

// minutesOf is minutes of a world's seed.
func minutesOf(ctx context.Context, seed uint64, end time.Time, n int, each func(core.Reading, []core.Probe) error) error {
	m, err := world.Read([]byte(strings.Replace(lane, "seed: 5", fmt.Sprintf("seed: %d", seed), 1)), world.Options{Reference: end})
	if err != nil {
		return err
	}
	end = end.Truncate(time.Minute)
	return history.Minutes(ctx, m, history.Path{From: 0, To: netip.MustParseAddr("192.0.2.2"), Interval: time.Second, Wait: 2 * time.Second},
		end.Add(-time.Duration(n)*time.Minute), end, each)
}

// writing compares keeping minute rows with the driver's own multi-row insert
// of the same rows.
func writing(ctx context.Context, dir string) error {
	server, s, err := openStore(ctx, dir, "writing")
	if err != nil {
		return err
	}
	defer server.Stop()
	defer s.Close()
	const paths, each = 30, 1000
	var records []protocol.Record
	now := time.Now()
	for range paths {
		id := ident.New()
		if err := minutes(ctx, now, each, func(r core.Reading, p []core.Probe) error {
			records = append(records, protocol.Record{Path: id, Reading: r, Packed: core.Pack(r.At, p)})
			return nil
		}); err != nil {
			return err
		}
	}
	if err := s.CoverDays(ctx, now.Add(-48*time.Hour), now.Add(24*time.Hour)); err != nil {
		return err
	}
	began := time.Now()
	for i := 0; i < len(records); i += 1000 {
		if err := s.SaveUpload(ctx, protocol.Upload{Readings: records[i : i+1000]}); err != nil {
			return err
		}
	}
	ours := float64(len(records)) / time.Since(began).Seconds()
	db, err := sql.Open("mysql", server.DSN("writing")+"?parseTime=true&interpolateParams=true&maxAllowedPacket=16777216")
	if err != nil {
		return err
	}
	defer db.Close()
	floor, err := insertFloor(ctx, db, len(records), 0)
	if err != nil {
		return err
	}
	row("writing minute rows (with what marks their rollups as due)", "rows/s", ours, floor)
	return nil
}

// insertFloor copies n of the rows that are there with the bare driver: the same
// columns, 500 rows a statement, two statements a transaction. Without later the table is
// emptied before, and filled path by path; with it they come in as of so much later, minute by minute.
func insertFloor(ctx context.Context, db *sql.DB, n int, later time.Duration) (float64, error) {
	order := "path_id, at"
	if later > 0 {
		order = "at, path_id"
	}
	rows, err := db.QueryContext(ctx, fmt.Sprintf("SELECT * FROM readings ORDER BY %s LIMIT %d", order, n))
	if err != nil {
		return 0, err
	}
	names, err := rows.Columns()
	if err != nil {
		return 0, err
	}
	values := make([]any, 0, n*len(names))
	for rows.Next() {
		line := make([]any, len(names))
		into := make([]any, len(names))
		for i := range line {
			into[i] = &line[i]
		}
		if err := rows.Scan(into...); err != nil {
			return 0, err
		}
		if at, is := line[1].(time.Time); is {
			line[1] = at.Add(later)
		}
		values = append(values, line...)
	}
	if err := rows.Err(); err != nil {
		return 0, err
	}
	if later == 0 {
		if _, err := db.ExecContext(ctx, "TRUNCATE readings"); err != nil {
			return 0, err
		}
	}
	one := "(" + strings.TrimSuffix(strings.Repeat("?,", len(names)), ",") + ")"
	statement := "INSERT INTO readings VALUES " + strings.TrimSuffix(strings.Repeat(one+",", 500), ",")
	began := time.Now()
	for i := 0; i < n; i += 1000 {
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return 0, err
		}
		for _, from := range []int{i, i + 500} {
			if _, err := tx.ExecContext(ctx, statement, values[from*len(names):(from+500)*len(names)]...); err != nil {
				return 0, err
			}
		}
		if err := tx.Commit(); err != nil {
			return 0, err
		}
	}
	return float64(n) / time.Since(began).Seconds(), nil
}

// reading times what the console asks for: a path's fortnight, and the home
// page with 1,000 paths.
func reading(ctx context.Context, dir string) error {
	server, s, c, err := openService(ctx, dir, "reading")
	if err != nil {
		return err
	}
	defer server.Stop()
	defer s.Close()
	spec := watches.Spec{From: []string{"bench"}}
	for i := range pinged {
		spec.To = append(spec.To, target(i).String())
	}
	if _, err := c.Watches.Save(ctx, ident.ID{}, "all", spec, false); err != nil {
		return err
	}
	views := c.Views(service.Filter{})
	for i, v := range views {
		if err := fill(ctx, c, v.ID, i == 0); err != nil {
			return err
		}
	}
	const token = "0123456789abcdef0123456789abcdef"
	web := httptest.NewServer(api.New(api.Options{Service: c, Token: token}))
	defer web.Close()
	fetch := func(path string) ([]byte, error) {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, web.URL+"/api/v1"+path, nil)
		if err != nil {
			return nil, err
		}
		r.Header.Set("Authorization", "Bearer "+token)
		r.Header.Set("Accept-Encoding", "identity")
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return nil, err
		}
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		if err == nil && answer.StatusCode != http.StatusOK {
			err = fmt.Errorf("%s: %s: %s", path, answer.Status, body)
		}
		return body, err
	}
	if err := plotTime(ctx, server, fetch, views[0].ID); err != nil {
		return err
	}
	return homeTime(fetch)
}

// fill gives a path a past: a fortnight of minutes, or a day of readings ten
// minutes apart, which fill the home page as well.
func fill(ctx context.Context, c *service.Service, id ident.ID, fortnight bool) error {
	n := 24 * 60
	if fortnight {
		n *= 14
	}
	var failed error
	err := c.Paths.Import(ctx, id, func(yield func(paths.Minute) bool) {
		at := 0
		failed = minutes(ctx, time.Now(), n, func(r core.Reading, p []core.Probe) error {
			if at++; !fortnight && at%10 != 0 {
				return nil
			}
			if !yield(paths.Minute{Reading: r, Probes: p}) {
				return context.Canceled
			}
			return nil
		})
	})
	if err != nil {
		return err
	}
	return failed
}

func plotTime(ctx context.Context, server *mariadb.Server, fetch func(string) ([]byte, error), id ident.ID) error {
	from := time.Now().Add(-14 * 24 * time.Hour)
	query := url.Values{"from_at": {from.UTC().Format(time.RFC3339)}}
	ours, err := median(21, func() error {
		_, err := fetch("/paths/" + id.String() + "/series?" + query.Encode())
		return err
	})
	if err != nil {
		return err
	}
	db, err := sql.Open("mysql", server.DSN("reading"))
	if err != nil {
		return err
	}
	defer db.Close()
	floor, err := median(21, func() error {
		rows, err := db.QueryContext(ctx, "SELECT at, sent, answered, lost, rtt_min_ns, rtt_median_ns, rtt_p95_ns, rtt_max_ns FROM rollups WHERE path_id = ? AND span_s = 600 AND at >= ?", id[:], from)
		if err != nil {
			return err
		}
		defer rows.Close()
		n := 0
		line := make([]sql.RawBytes, 8)
		into := make([]any, 8)
		for i := range line {
			into[i] = &line[i]
		}
		for ; rows.Next(); n++ {
			if err := rows.Scan(into...); err != nil {
				return err
			}
		}
		if n < 2000 {
			return fmt.Errorf("the plot's floor found %d rows", n)
		}
		return rows.Err()
	})
	if err != nil {
		return err
	}
	row("a path's 14 days for the plot, over HTTP (floor: the bare query)", "ms", ours, floor)
	return yearTime(ctx, db, fetch, id)
}

// yearTime gives the path a year of days and hours, and times its plot; 100 ms is the goal.
func yearTime(ctx context.Context, db *sql.DB, fetch func(string) ([]byte, error), id ident.ID) error {
	for _, statement := range []string{
		"INSERT IGNORE INTO rollups (path_id, span_s, at, readings, sent, answered, lost, refused, rtt_min_ns, rtt_max_ns, rtt_sum_ns, rtt_median_ns, rtt_p95_ns, sketch) SELECT ?, 86400, CURDATE() - INTERVAL seq DAY, 1440, 86400, 86390, 10, 0, 5000000, 9000000, 432000000000000, 5200000, 6000000, '' FROM seq_1_to_365",
		"INSERT IGNORE INTO rollups (path_id, span_s, at, readings, sent, answered, lost, refused, rtt_min_ns, rtt_max_ns, rtt_sum_ns, rtt_median_ns, rtt_p95_ns, sketch) SELECT ?, 3600, CURDATE() - INTERVAL seq HOUR, 60, 3600, 3599, 1, 0, 5000000, 9000000, 18000000000000, 5200000, 6000000, '' FROM seq_1_to_8760",
	} {
		if _, err := db.ExecContext(ctx, statement, id[:]); err != nil {
			return err
		}
	}
	from := time.Now().Add(-365 * 24 * time.Hour).UTC()
	points := 0
	ours, err := median(21, func() error {
		answer, err := fetch("/paths/" + id.String() + "/series?" + url.Values{"from_at": {from.Format(time.RFC3339)}}.Encode())
		if err != nil {
			return err
		}
		var x struct {
			At []time.Time `json:"at"`
		}
		err = json.Unmarshal(answer, &x)
		points = len(x.At)
		return err
	})
	if err != nil {
		return err
	}
	floor, err := median(21, func() error {
		rows, err := db.QueryContext(ctx, "SELECT at, sent, answered, lost, rtt_min_ns, rtt_median_ns, rtt_p95_ns, rtt_max_ns FROM rollups WHERE path_id = ? AND span_s = 86400 AND at >= ?", id[:], from)
		if err != nil {
			return err
		}
		defer rows.Close()
		line, into := make([]sql.RawBytes, 8), make([]any, 8)
		for i := range line {
			into[i] = &line[i]
		}
		for rows.Next() {
			if err := rows.Scan(into...); err != nil {
				return err
			}
		}
		return rows.Err()
	})
	if err != nil {
		return err
	}
	row(fmt.Sprintf("a path's year for the plot, %d points, over HTTP (floor: the bare query); 100 is the goal", points), "ms", ours, floor)
	return nil
}

// homeTime asks what the Paths page does when it opens. The floor is encoding those answers alone.
func homeTime(fetch func(string) ([]byte, error)) error {
	answer, err := fetch("/paths/rows?offset=0&limit=50")
	if err != nil {
		return err
	}
	var rows api.RowList
	if err := json.Unmarshal(answer, &rows); err != nil {
		return err
	}
	if rows.Total != pinged || rows.Rows[0].NormalLowMs == nil {
		return fmt.Errorf("the Paths page has %d paths", rows.Total)
	}
	var ids []string
	for _, r := range rows.Rows {
		ids = append(ids, r.ID)
	}
	asked := []string{"/status", "/incidents", "/paths/choices", "/paths/rows?offset=0&limit=50", "/paths/sketches?ids=" + strings.Join(ids, ",")}
	bytes := 0
	var answers []any
	for _, path := range asked {
		answer, err := fetch(path)
		if err != nil {
			return err
		}
		var read any
		if err := json.Unmarshal(answer, &read); err != nil {
			return err
		}
		bytes += len(answer)
		answers = append(answers, read)
	}
	ours, err := median(21, func() error {
		for _, path := range asked {
			if _, err := fetch(path); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	floor, err := median(21, func() error { return json.NewEncoder(io.Discard).Encode(answers) })
	if err != nil {
		return err
	}
	row(fmt.Sprintf("the Paths page of 1,000 paths, %.0f kB in %d calls (floor: encoding it alone)", float64(bytes)/1e3, len(asked)), "ms", ours, floor)
	const change = "/paths/rows?offset=0&limit=50"
	answer, err = fetch(change)
	if err != nil {
		return err
	}
	ours, err = median(21, func() error { _, err := fetch(change); return err })
	if err != nil {
		return err
	}
	alone(fmt.Sprintf("  what changed since, %.0f kB", float64(len(answer))/1e3), "ms", ours)
	return nil
}
