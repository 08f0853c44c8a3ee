package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	core "woodlark.example/core/reading"
	"woodlark.example/internal/api"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/mariadb"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/wire"
)

// crowdOf is how many paths the service is to judge on one core, and to report of within a
// second.
const crowdOf = 10_000

// tenThousand times the report of degraded paths over ten thousand paths, and how long the service
// takes to take in and judge a minute of all of them. A floor is the same upload handed to the
// store alone.
func tenThousand(ctx context.Context, dir string) error {
	server, s, c, err := openService(ctx, dir, "crowd")
	if err != nil {
		return err
	}
	defer server.Stop()
	defer s.Close()
	spec := watches.Spec{From: []string{"bench"}}
	for i := range crowdOf {
		spec.To = append(spec.To, target(i).String())
	}
	for n := 0; n < crowdOf; n += 2500 {
		part := spec
		part.To = spec.To[n : n+2500]
		if _, err := c.Watches.Save(ctx, ident.ID{}, fmt.Sprintf("from %d on", n), part, false); err != nil {
			return err
		}
	}
	views := c.Views(service.Filter{})
	empty := heap()
	// An hour of the past: one path in fifty got slower halfway, seen from a baseline by hand.
	now := time.Now().Truncate(time.Minute)
	const past = 60
	var quiet, slow []minuteOf
	if err := minutes(ctx, now, past, func(r core.Reading, p []core.Probe) error {
		quiet = append(quiet, minuteOf{r, core.Pack(r.At, p)})
		later := slices.Clone(p)
		for i := range later {
			if later[i].Outcome == core.Answered {
				later[i].RTT += 5 * time.Millisecond
			}
		}
		slow = append(slow, minuteOf{core.Of(r.At, r.Span, r.Expected, time.Second, later), core.Pack(r.At, later)})
		return nil
	}); err != nil {
		return err
	}
	of := func(path, n int) minuteOf {
		if path%50 == 0 && n > past/2 {
			return slow[n]
		}
		return quiet[n]
	}
	fmt.Printf("An hour of the past of %d paths …\n", len(views))
	for i, v := range views {
		err := c.Paths.Import(ctx, v.ID, func(yield func(paths.Minute) bool) {
			for n := range past - 10 {
				m := of(i, n)
				probes, err := core.Unpack(m.reading.At, m.packed)
				if err != nil || !yield(paths.Minute{Reading: m.reading, Probes: probes}) {
					return
				}
			}
		})
		if err == nil && i%50 == 0 {
			_, err = c.Paths.TakeBaseline(ctx, v.ID, 2*time.Hour, false)
		}
		if err != nil {
			return err
		}
	}
	agent := c.Fleet.Agents()[0].ID
	upload := func(n int) protocol.Upload {
		u := protocol.Upload{Agent: agent}
		for i, v := range views {
			m := of(i, n)
			u.Readings = append(u.Readings, protocol.Record{Path: v.ID, Reading: m.reading, Packed: m.packed})
		}
		return u
	}
	var ours, floor []float64
	for n := past - 10; n < past-1; n += 2 {
		began := time.Now()
		if err := c.Upload(ctx, upload(n)); err != nil {
			return err
		}
		ours = append(ours, time.Since(began).Seconds())
		began = time.Now()
		if err := s.SaveUpload(ctx, upload(n+1)); err != nil {
			return err
		}
		floor = append(floor, time.Since(began).Seconds())
	}
	row(fmt.Sprintf("a minute of %d paths taken in and judged (floor: kept alone); 60 s would be all the time there is", crowdOf), "s", middleOf(ours), middleOf(floor))
	alone("  what the service keeps in memory of a path with a baseline of two hours", "kB", (heap()-empty)/1e3/crowdOf)
	if err := sustained(ctx, server, c, s, upload(past-1)); err != nil {
		return err
	}
	const token = "0123456789abcdef0123456789abcdef"
	web := httptest.NewServer(api.New(api.Options{Service: c, Token: token}))
	defer web.Close()
	took, err := median(7, func() error {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, web.URL+"/api/v1/reports/degraded", nil)
		if err != nil {
			return err
		}
		r.Header.Set("Authorization", "Bearer "+token)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return err
		}
		defer answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			return fmt.Errorf("the report: %s", answer.Status)
		}
		return nil
	})
	if err != nil {
		return err
	}
	bare, err := median(7, func() error { c.Views(service.Filter{}); return nil })
	if err != nil {
		return err
	}
	row(fmt.Sprintf("the report of degraded paths over %d paths, over HTTP (floor: how they stand alone); 1,000 is the goal", crowdOf), "ms", took, bare)
	// Once more over the same database, as after a start; 10 s is the goal.
	began := time.Now()
	again, err := service.New(ctx, service.Options{Store: s, Zone: time.UTC})
	if err != nil {
		return err
	}
	alone(fmt.Sprintf("a start over %d paths; 10 is the goal", len(again.Paths.All())), "s", time.Since(began).Seconds())
	text, err := json.Marshal(upload(past - 1).Readings[:100])
	if err != nil {
		return err
	}
	alone("a reading as an agent sends it, before it is compressed", "B", float64(len(text))/100)
	return takingIn(ctx, c, s, agent)
}

// heap is how much memory is in use, in bytes.
func heap() float64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	return float64(m.HeapAlloc)
}

// sustained hands a minute of all paths over again and again, as of later minutes, 500 readings at a
// time, until it has done so for as many as 5,000 a second are in a minute; and counts what is kept. A
// floor is the bare driver that inserts the rows.
func sustained(ctx context.Context, server *mariadb.Server, c *service.Service, s *store.Store, minute protocol.Upload) error {
	const readings = 5000 * 60
	for i := range minute.Readings { // as agents pack them
		r := &minute.Readings[i]
		probes, err := core.Unpack(r.Reading.At, r.Packed)
		if err != nil {
			return err
		}
		r.Packed = core.PackSecond(r.Reading.At, probes)
	}
	db, err := sql.Open("mysql", server.DSN("crowd")+"?parseTime=true&interpolateParams=true&maxAllowedPacket=16777216")
	if err != nil {
		return err
	}
	defer db.Close()
	kept := func() (n int, err error) {
		return n, db.QueryRowContext(ctx, "SELECT COUNT(*) FROM readings").Scan(&n)
	}
	before, err := kept()
	if err != nil {
		return err
	}
	var spent time.Duration
	given := 0
	for n := 1; given < readings; n++ {
		var uploads []protocol.Upload
		for some := range slices.Chunk(minute.Readings, 500) {
			u := protocol.Upload{Agent: minute.Agent, Readings: slices.Clone(some)}
			for i := range u.Readings {
				u.Readings[i].Reading.At = u.Readings[i].Reading.At.Add(time.Duration(n) * time.Minute)
			}
			uploads = append(uploads, u)
			given += len(u.Readings)
		}
		began := time.Now()
		var all errgroup.Group
		all.SetLimit(4) // agents that upload at once
		for _, u := range uploads {
			all.Go(func() error { return c.Upload(ctx, u) })
		}
		if err := all.Wait(); err != nil {
			return err
		}
		spent += time.Since(began)
	}
	after, err := kept()
	if err != nil {
		return err
	}
	if lost := given - (after - before); lost != 0 {
		return fmt.Errorf("of %d readings that were taken in %d are not kept", given, lost)
	}
	floor, err := insertFloor(ctx, db, 100_000, 3*time.Hour)
	if err != nil {
		return err
	}
	row(fmt.Sprintf("%d readings taken in, judged and kept, none lost (floor: the bare driver's inserts); 5,000 a second are asked for", given), "/s", float64(given)/spent.Seconds(), floor)
	return nil
}

// takingIn times a watch of twice as many paths, none of which is there yet. The floor is as many
// paths kept by the store alone.
func takingIn(ctx context.Context, c *service.Service, s *store.Store, agent ident.ID) error {
	const many = 2 * crowdOf
	spec := watches.Spec{From: []string{"bench"}}
	var ends []store.Ends
	for i := range many {
		spec.To = append(spec.To, fmt.Sprintf("host%d.example", i))
		ends = append(ends, store.Ends{Agent: agent, Target: fmt.Sprintf("bare%d.example", i), Family: wire.IPv4, Via: "icmp"})
	}
	began := time.Now()
	if _, err := c.Watches.Save(ctx, ident.ID{}, "many", spec, true); err != nil {
		return err
	}
	ours := time.Since(began).Seconds()
	began = time.Now()
	if _, err := s.EnsurePaths(ctx, ends, func(string) string { return "" }); err != nil {
		return err
	}
	row(fmt.Sprintf("a watch of %d new paths taken in (floor: the paths kept alone); 3 s is the goal", many), "s", ours, time.Since(began).Seconds())
	return nil
}

func middleOf(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}

type minuteOf struct {
	reading core.Reading
	packed  []byte
}
