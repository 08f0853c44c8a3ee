package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"
)

// kept waits until the minute in progress is over and kept, and holds how many probes there are of
// each path against how many there should be, one a second but while nothing could measure.
func (s *service) kept(ctx context.Context, t *table, what, promised string, down, each time.Duration) error {
	until := time.Now().Truncate(time.Minute).Add(2 * time.Minute)
	select {
	case <-time.After(time.Until(until) + 15*time.Second):
	case <-ctx.Done():
		return ctx.Err()
	}
	counts, err := s.probes(ctx)
	if err != nil {
		return err
	}
	ought := int(until.Sub(s.began) / time.Second)
	least := ought
	for _, n := range counts {
		least = min(least, n)
	}
	allowed := int((down+each)/time.Second) + 5 // what is under way at the start and the end
	t.saw(what, promised, len(counts) == 3 && ought-least <= allowed, "of %d probes of each path %d at the least; %d could not be sent, or were of the last seconds", ought, least, allowed)
	return nil
}

// kills ends with -9 what may be ended, alone and with others, in each order.
func kills(ctx context.Context, t *table) error {
	return withService(ctx, func(s *service) error {
		var down time.Duration
		var slowest time.Duration
		ways := []string{"service", "database", "service, database", "database, service", "service, as it starts"}
		for _, way := range ways {
			time.Sleep(8 * time.Second)
			base, err := s.database()
			if err != nil {
				return err
			}
			began := time.Now()
			switch way {
			case "database":
				_ = syscall.Kill(base, syscall.SIGKILL)
				if _, err := s.back(ctx, time.Minute); err != nil {
					return err
				}
				slowest = max(slowest, time.Since(began))
				continue // it is measured meanwhile
			case "database, service":
				_ = syscall.Kill(base, syscall.SIGKILL)
				_ = s.killed()
			default:
				_ = s.killed()
				if way == "service, database" {
					_ = syscall.Kill(base, syscall.SIGKILL)
				}
			}
			if way == "service, as it starts" {
				for _, after := range []time.Duration{50, 300, 1000} {
					again := exec.Command(program, "serve", "-state", s.state, "-listen", s.at, "-far-end", s.far)
					if err := again.Start(); err != nil {
						return err
					}
					time.Sleep(after * time.Millisecond)
					_ = again.Process.Kill()
					_ = again.Wait()
				}
			}
			if err := s.start(ctx); err != nil {
				return fmt.Errorf("after %s: %w", way, err)
			}
			down += time.Since(began)
			slowest = max(slowest, time.Since(began))
		}
		t.saw("kill -9 in every combination", "back within a minute", slowest < time.Minute, "%d ways, the slowest was back in %s", len(ways), slowest.Round(100*time.Millisecond))
		return s.kept(ctx, t, "kill -9: what was measured", "all but the time away and 5 s a kill; nothing twice", down, time.Duration(len(ways)+3)*5*time.Second)
	})
}

// stops has the service and its database stand still for a while.
func stops(ctx context.Context, t *table) error {
	const still = 10 * time.Second
	return withService(ctx, func(s *service) error {
		base, err := s.database()
		if err != nil {
			return err
		}
		_ = syscall.Kill(base, syscall.SIGSTOP)
		answer, failed := s.answersIn(ctx)
		time.Sleep(still)
		_ = syscall.Kill(base, syscall.SIGCONT)
		t.saw("the database stands still for 10 s", "calls are answered from memory", failed == nil && answer < 3*time.Second, "a call took %s (%v)", answer.Round(time.Millisecond), failed)
		_ = s.cmd.Process.Signal(syscall.SIGSTOP)
		time.Sleep(still)
		_ = s.cmd.Process.Signal(syscall.SIGCONT)
		took, err := s.back(ctx, time.Minute)
		if err != nil {
			return err
		}
		t.saw("the service stands still for 10 s", "back within 20 s", took < 20*time.Second, "back in %s", took.Round(time.Millisecond))
		return s.kept(ctx, t, "SIGSTOP: what was measured", "all but the time that it stood still", still, 5*time.Second)
	})
}

// fullDisk fills the disk that the state is on, and empties it again. The disk is in memory.
func fullDisk(ctx context.Context, t *table) error {
	dir, err := os.MkdirTemp("", "wlsiege")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := syscall.Mount("siege", dir, "tmpfs", 0, "size=400m"); err != nil {
		return fmt.Errorf("a disk in memory needs root: %w", err)
	}
	defer func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) }()
	s, err := besieged(ctx, filepath.Join(dir, "s"))
	if err != nil {
		return err
	}
	defer s.end()
	time.Sleep(5 * time.Second)
	filler := filepath.Join(dir, "filler")
	f, err := os.Create(filler)
	if err != nil {
		return err
	}
	for block := make([]byte, 1<<20); err == nil; {
		_, err = f.Write(block)
	}
	_ = f.Close()
	worst, failed := s.worst(ctx, 70*time.Second) // over the end of a minute
	t.saw("the disk is full for 70 s", "answers from memory", failed == 0 && worst < 3*time.Second, "%d calls failed, the slowest took %s", failed, worst.Round(time.Millisecond))
	if err := os.Remove(filler); err != nil {
		return err
	}
	if _, err := s.back(ctx, time.Minute); err != nil {
		return err
	}
	return s.kept(ctx, t, "a full disk: what was measured", "all of it, once there is room", 0, 5*time.Second)
}
