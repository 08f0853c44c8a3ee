package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"iter"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/sync/errgroup"

	"woodlark.example/core/reading"
	"woodlark.example/demo"
	"woodlark.example/internal/agent"
	"woodlark.example/internal/api"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/history"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/serve"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/sites"
	"woodlark.example/internal/settings"
	"woodlark.example/internal/store"
	"woodlark.example/wire"
)

var demoCommand = command{
	name: "demo", summary: "the service with the made-up network of Skerry Line, its history and live agents",
	usage:   "[options]",
	example: "woodlark demo\nwoodlark demo -keep -listen 127.0.0.1:7400",
	more:    "Everything in the demo is simulated: no packet leaves the program.",
	run:     runDemo,
}

func runDemo(c *call) error {
	var keep bool
	read := settings.Register(c.flags)
	c.flags.BoolVar(&keep, "keep", false, "keep the data for the next start")
	if err := c.parse(); err != nil {
		return err
	}
	set, err := read()
	if err != nil {
		return exit{exitWrongCall, err}
	}
	if set.State == settings.StateFolder() {
		set.State = filepath.Join(set.State, "demo")
	}
	// An unfinished history cannot be kept.
	_, unfinished := os.Stat(filepath.Join(set.State, demoMark))
	if !keep || unfinished != nil {
		if err := clearDemo(set.State); err != nil {
			return exit{exitUnmeasured, err}
		}
	}
	if !keep {
		defer func() { _ = clearDemo(set.State) }()
	}
	began := time.Now()
	if set.LogLevel == "info" {
		set.LogLevel = "warn"
	}
	fmt.Fprintln(c.err, "Starting the database …")
	if err := markUnfinished(set.State); err != nil {
		return exit{exitUnmeasured, err}
	}
	places, err := demo.World(time.Now(), set.Zone) // where things are does not go by the time
	if err != nil {
		return err
	}
	h, err := settle(c, serve.Options{Settings: set, SiteOf: func(target string) string { return siteOf(places, target) }, Owners: demo.Owners, Log: logger(c, set)})
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	defer h.end()
	reference, fresh, err := demoReference(set.State)
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	m, err := demo.World(reference, set.Zone)
	if err != nil {
		return err
	}
	if err := c.fillDemo(h, m, reference, fresh); err != nil {
		return err
	}
	fmt.Fprintf(c.err, "Ready after %.0f s.\n\n", time.Since(began).Seconds())
	fmt.Fprintf(c.out, "Console      %s\nToken        %s\n", h.URL(), h.token)
	fmt.Fprintln(c.out, "Try          woodlark degraded\nEnd          Ctrl-C")
	return h.Serve(c.ctx)
}

// demoMark marks a folder as one that the demo may clear. It holds the instant
// around which the world stands.
const demoMark = "demo-reference"

func demoReference(folder string) (t time.Time, fresh bool, err error) {
	name := filepath.Join(folder, demoMark)
	data, err := os.ReadFile(name)
	if err == nil {
		t, err := time.Parse(time.RFC3339, strings.TrimSpace(string(data)))
		return t, false, err
	}
	return time.Now().Truncate(time.Second), true, nil
}

// clearDemo removes an earlier demo's data. It touches no folder that a demo
// did not make.
func clearDemo(folder string) error {
	entries, err := os.ReadDir(folder)
	if errors.Is(err, os.ErrNotExist) || err == nil && len(entries) == 0 {
		return nil
	}
	if err != nil {
		return err
	}
	lock, err := lockState(folder)
	if err != nil {
		return err
	}
	defer lock.Close()
	if _, err := os.Stat(filepath.Join(folder, demoMark)); err != nil {
		if _, err := os.Stat(filepath.Join(folder, unfinishedMark)); err != nil {
			return fmt.Errorf("the folder %s holds something that is not a demo's; name another with -state", folder)
		}
	}
	return os.RemoveAll(folder)
}

// unfinishedMark stands while the demo starts and its history is being made.
const unfinishedMark = "demo-unfinished"

// markUnfinished marks an empty folder as one that a demo makes.
func markUnfinished(folder string) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("make the state folder: %w", err)
	}
	if _, err := os.Stat(filepath.Join(folder, demoMark)); err == nil {
		return nil
	}
	return os.WriteFile(filepath.Join(folder, unfinishedMark), nil, 0o600)
}

func siteOf(m *world.Model, target string) string {
	i, err := m.Find(target)
	if err != nil {
		return ""
	}
	return m.Nodes()[i].Site
}

// fillDemo adds agents and, the first time, watches and history.
func (c *call) fillDemo(h *hosted, m *world.Model, reference time.Time, fresh bool) error {
	if fresh {
		for _, a := range demo.Agents() {
			if err := h.Service().AddAgent(c.ctx, store.Agent{Name: a.Name, Site: a.Site, Kind: "simulated", Address: a.Host, Version: Version}, nil); err != nil {
				return err
			}
		}
		if err := c.demoWatches(h.Service()); err != nil {
			return err
		}
		places, err := sites.ReadCSV(bytes.NewReader(demo.Sites))
		if err != nil {
			return err
		}
		if err := h.Service().Sites.Save(c.ctx, places...); err != nil {
			return err
		}
		if err := c.demoHistory(h.Service(), m, reference); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(h.state, demoMark), []byte(reference.Format(time.RFC3339)+"\n"), 0o600); err != nil {
			return err
		}
	}
	_ = os.Remove(filepath.Join(h.state, unfinishedMark))
	moving := live.New(m)
	for _, a := range demo.Agents() {
		n, err := moving.At(a.Host)
		if err != nil {
			return err
		}
		if err := h.AddAgent(c.ctx, store.Agent{Name: a.Name, Site: a.Site, Kind: "simulated", Address: a.Host}, n, demoFarEnd(m, n, a.Host)); err != nil {
			return err
		}
	}
	return nil
}

// demoFarEnd lets an agent of the demo answer as the far end of others, in the world.
func demoFarEnd(m *world.Model, n *live.Host, name string) func(*agent.Options) {
	return func(o *agent.Options) {
		at, err := addressIn(m, name, 4)
		if err != nil {
			return
		}
		end, wall := inWorld(n, name)
		o.Listen, o.Wall, o.End = netip.AddrPortFrom(at, kind.UsualPort), wall, func() session.End { return end }
	}
}

func (c *call) demoWatches(to *service.Service) error {
	specs, err := readWatches("the demo's watches", demo.Watches)
	if err != nil {
		return err
	}
	for _, w := range specs {
		spec, err := api.SpecOf(w)
		if err != nil {
			return err
		}
		if _, err := to.Watches.Save(c.ctx, ident.ID{}, w.Name, spec, w.Paused); err != nil {
			return err
		}
	}
	return nil
}

// demoHistory makes the past of all paths, in virtual time.
func (c *call) demoHistory(to *service.Service, m *world.Model, reference time.Time) error {
	views := to.Views(service.Filter{})
	end := reference.Truncate(time.Minute)
	start := end.AddDate(0, 0, -demo.HistoryDays)
	if err := to.Store.CoverDays(c.ctx, start, end.AddDate(0, 0, 2)); err != nil {
		return err
	}
	fmt.Fprintf(c.err, "Making %d days of history for %d paths …\n", demo.HistoryDays, len(views))
	bar := progressbar.DefaultSilent(int64(len(views)))
	if isTerminal(c.err) {
		bar = progressbar.NewOptions(len(views), progressbar.OptionSetWriter(c.err), progressbar.OptionSetDescription("paths"), progressbar.OptionClearOnFinish(), progressbar.OptionShowCount())
	}
	past := to.Paths.Past()
	group, ctx := errgroup.WithContext(c.ctx)
	group.SetLimit(3)
	for _, v := range views {
		group.Go(func() error {
			defer func() { _ = bar.Add(1) }()
			return importPath(ctx, past, m, v, start, end)
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	if err := c.demoRoutes(to, past, m, end); err != nil {
		return err
	}
	if err := past.Judge(c.ctx); err != nil {
		return err
	}
	return noteStart(c.ctx, to, views, end)
}

func importPath(ctx context.Context, to *paths.Past, m *world.Model, v service.View, start, end time.Time) error {
	from, err := m.Find(v.Agent.Address)
	if err != nil {
		return err
	}
	addr, err := addressIn(m, v.Target, v.Family)
	if err != nil {
		return err
	}
	var failed error
	path := history.Path{From: from, To: addr, Interval: time.Second, Wait: 2 * time.Second, Phase: v.ID.Phase(time.Second)}
	var minutes iter.Seq[paths.Minute] = func(yield func(paths.Minute) bool) {
		failed = history.Minutes(ctx, m, path, start, end, func(r reading.Reading, probes []reading.Probe) error {
			if !yield(paths.Minute{Reading: r, Probes: probes}) {
				return errStopped
			}
			return nil
		})
	}
	if err := to.Add(ctx, v.ID, minutes); err != nil {
		return err
	}
	if errors.Is(failed, errStopped) {
		return nil
	}
	return failed
}

// noteStart records why there are no readings between the history's end and the
// agents' start.
func noteStart(ctx context.Context, to *service.Service, views []service.View, end time.Time) error {
	var u protocol.Upload
	now := time.Now()
	for _, v := range views {
		var watch ident.ID
		if len(v.Watches) > 0 {
			if w, err := to.Watches.Find(v.Watches[0]); err == nil {
				watch = w.ID
			}
		}
		u.Runs = append(u.Runs, protocol.Run{ID: ident.New(), Watch: watch, Path: v.ID, Started: end, Ended: now, Outcome: protocol.Missed, Reason: "the demo was starting"})
	}
	return to.Store.SaveUpload(ctx, u)
}

var errStopped = errors.New("stopped")

func addressIn(m *world.Model, target string, f wire.Family) (netip.Addr, error) {
	i, err := m.Find(target)
	if err != nil {
		return netip.Addr{}, err
	}
	if a, ok := m.Nodes()[i].Addr(f); ok {
		return a, nil
	}
	return netip.Addr{}, fmt.Errorf("%s has no %v address", target, f)
}
