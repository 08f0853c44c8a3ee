package main

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	core "woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// keeping tells what a reading takes on the disk: half a day of a crowd of paths, kept minute by
// minute as agents tell of them, and what the files take when the server has ended.
func keeping(ctx context.Context, dir string) error {
	const paths, each = 200, 12 * 60
	server, s, err := openStore(ctx, dir, "keeping")
	if err != nil {
		return err
	}
	stopped := false
	defer func() {
		if !stopped {
			_ = server.Stop()
		}
	}()
	now := time.Now().UTC().Truncate(24 * time.Hour).Add(-12 * time.Hour) // within a day
	of := make([][]protocol.Record, each)
	packed, second := 0, 0
	for p := range paths {
		id, n := ident.New(), 0
		if err := minutesOf(ctx, uint64(p+1), now, each, func(r core.Reading, probes []core.Probe) error {
			second += len(core.PackSecond(r.At, probes))
			record := protocol.Record{Path: id, Reading: r, Packed: core.Pack(r.At, probes)}
			packed += len(record.Packed)
			of[n%each] = append(of[n%each], record)
			n++
			return nil
		}); err != nil {
			return err
		}
	}
	if err := s.CoverDays(ctx, now.Add(-48*time.Hour), now.Add(48*time.Hour)); err != nil {
		return err
	}
	for _, minute := range of {
		for at := 0; at < len(minute); at += 20 { // ten agents
			if err := s.SaveUpload(ctx, protocol.Upload{Readings: minute[at:min(at+20, len(minute))]}); err != nil {
				return err
			}
		}
	}
	rolled := 0
	if err := s.RollDue(ctx, now.Add(48*time.Hour), func(ident.ID, store.Slot) { rolled++ }); err != nil {
		return err
	}
	if err := s.Close(); err != nil {
		return err
	}
	stopped = true
	if err := server.Stop(); err != nil {
		return err
	}
	var long, taken, rollups int64
	err = filepath.WalkDir(filepath.Join(dir, "keeping"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasPrefix(d.Name(), "readings#") && d.Name() != "rollups.ibd" {
			return err
		}
		var st syscall.Stat_t
		if err := syscall.Stat(path, &st); err != nil {
			return err
		}
		if d.Name() == "rollups.ibd" {
			rollups = st.Blocks * 512
			return nil
		}
		if st.Blocks*512 < 256<<10 {
			return nil // a day that nothing is of
		}
		long += st.Size
		taken += st.Blocks * 512
		return nil
	})
	if err != nil {
		return err
	}
	const readings = paths * each
	row(fmt.Sprintf("a reading's bytes on the disk, of %d (floor: its probes as earlier releases packed them)", readings), "B", float64(taken)/readings, float64(second)/readings)
	alone("  the length of the files, without their holes", "B", float64(long)/readings)
	alone("  its probes as they are packed", "B", float64(packed)/readings)
	alone(fmt.Sprintf("  what is rolled up, of the same, in %d stretches of 10 min and longer ones", rolled), "B", float64(rollups)/readings)
	return nil
}
