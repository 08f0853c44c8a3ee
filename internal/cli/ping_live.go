package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"woodlark.example/core/reading"
	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/network"
	"woodlark.example/internal/report"
)

const (
	mostLive   = 6 // rows that are drawn
	redraw     = 200 * time.Millisecond
	fullWidth  = 100
	leastWidth = 40
)

func isNoName(err error) bool { return errors.Is(err, network.ErrNoName) }

// drawing draws a measurement at the terminal until it is closed.
func (c *call) drawing(o pingOptions, results []report.PingResult, places []int) watching {
	ctx, cancel := context.WithCancel(c.ctx)
	rows := make([]report.LiveRow, len(places))
	for i, p := range places {
		rows[i].Name = results[p].Target
		if r := results[p]; r.Address != r.Target {
			rows[i].Name += " " + r.Address
		}
		if len(o.vias) > 1 || o.via != "icmp" {
			rows[i].Name += " by " + results[p].Via
		}
	}
	c.normals(o, results, places, rows)
	var mu sync.Mutex
	var wg sync.WaitGroup
	screen := &screen{c: c, began: time.Now(), total: time.Duration(o.probes) * o.every}
	keys, restore := c.keys(ctx, &wg)
	wg.Go(func() {
		tick := time.NewTicker(redraw)
		defer tick.Stop()
		for {
			var summary bool
			select {
			case <-ctx.Done():
				return
			case key := <-keys:
				if key == ctrlC || key == 'q' {
					cancel()
					return
				}
				summary = key == 's' || key == ' '
			case <-tick.C:
			}
			mu.Lock()
			if summary {
				screen.summary(results, places, rows, o)
			}
			screen.draw(rows)
			mu.Unlock()
		}
	})
	return watching{ctx: ctx,
		heard: func(i int, p reading.Probe) {
			mu.Lock()
			defer mu.Unlock()
			rows[i].Hear(p)
		},
		close: func() {
			cancel()
			wg.Wait()
			restore()
			screen.clear()
		}}
}

// normals asks the service of this machine, if one runs, what is normal for the
// targets at this hour, as measured from here.
func (c *call) normals(o pingOptions, results []report.PingResult, places []int, rows []report.LiveRow) {
	if o.world != "" {
		return
	}
	service, err := c.client()
	if err != nil {
		return // there is none, and it is not needed
	}
	ctx, cancel := context.WithTimeout(c.ctx, time.Second)
	defer cancel()
	var agents []apitype.Agent
	var list api.PathList
	if service.Get(ctx, "/agents", nil, &agents) != nil || service.Get(ctx, "/paths", url.Values{"limit": {"20000"}}, &list) != nil {
		return
	}
	here := map[string]bool{}
	for _, a := range agents {
		here[a.Name] = a.Kind == "builtin"
	}
	for i, at := range places {
		r := results[at]
		for _, p := range list.Paths {
			six := strings.Contains(r.Address, ":")
			if here[p.From] && (p.To == r.Target || p.To == r.Address) && p.Via == r.Via && (p.Family == 6) == six && p.Normal != nil && p.Normal.RTTMs != nil {
				rows[i].Normal = report.Ms(&p.Normal.RTTMs.Low) + " to " + report.Ms(&p.Normal.RTTMs.High)
			}
		}
	}
}

const ctrlC = 3

// keys reads single keys from the terminal, if there is one.
func (c *call) keys(ctx context.Context, wg *sync.WaitGroup) (<-chan byte, func()) {
	keys := make(chan byte)
	in, ok := c.in.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return keys, func() {}
	}
	before, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return keys, func() {}
	}
	wg.Go(func() {
		fds := []unix.PollFd{{Fd: int32(in.Fd()), Events: unix.POLLIN}}
		for ctx.Err() == nil {
			if n, err := unix.Poll(fds, int(redraw.Milliseconds())); n < 1 || err != nil {
				continue
			}
			var b [1]byte
			if n, err := in.Read(b[:]); n < 1 || err != nil {
				return
			}
			select {
			case keys <- b[0]:
			case <-ctx.Done():
			}
		}
	})
	return keys, func() { _ = term.Restore(int(in.Fd()), before) }
}

// screen is the part of the terminal that is drawn over again.
type screen struct {
	c     *call
	began time.Time
	total time.Duration
	lines int // that were drawn last
}

func (s *screen) width() int {
	if f, ok := fileOf(s.c.out); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			return max(leastWidth, min(fullWidth, w-1))
		}
	}
	return fullWidth
}

// clear takes away what was drawn.
func (s *screen) clear() {
	if s.lines > 0 {
		fmt.Fprintf(s.c.out, "\x1b[%dA\r\x1b[J", s.lines)
	}
	s.lines = 0
}

func (s *screen) draw(rows []report.LiveRow) {
	elapsed := time.Since(s.began)
	text := report.Live(s.c.ink, s.width(), rows)
	text += s.c.ink.Faint(fmt.Sprintf("%s of %s   s: summary so far   Ctrl-C: end, keep what there is", elapsed.Round(time.Second), s.total)) + "\n"
	s.show(text)
}

// show draws a text in the place of the last.
func (s *screen) show(text string) {
	s.clear()
	fmt.Fprint(s.c.out, strings.ReplaceAll(text, "\n", "\r\n"))
	s.lines = strings.Count(text, "\n")
}

// summary prints the results so far above the drawing.
func (s *screen) summary(results []report.PingResult, places []int, rows []report.LiveRow, o pingOptions) {
	s.clear()
	var b strings.Builder
	now := make([]report.PingResult, len(places))
	for i, p := range places {
		now[i] = results[p]
		r := reading.Of(s.began, time.Since(s.began), 0, o.every, rows[i].Known())
		now[i].Figures = r.Figures()
		now[i].Outcome = "running"
	}
	fmt.Fprintf(&b, "%s\n", s.c.ink.Faint("so far, after "+time.Since(s.began).Round(time.Second).String()+":"))
	_ = report.Ping(&b, s.c.ink, now)
	fmt.Fprint(s.c.out, strings.ReplaceAll(b.String()+"\n", "\n", "\r\n"))
}
