package cli

import (
	"bufio"
	"context"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

const (
	mostLive   = 6 // rows that are drawn
	mostRoutes = 2
	redraw     = 200 * time.Millisecond
	fullWidth  = 100
	leastWidth = 40
	// liveFrom is how long a measurement lasts that is drawn at a terminal.
	liveFrom = 10 * time.Second
)

// showing shows a measurement as it goes.
type showing struct {
	ctx   context.Context // ends when somebody ends it
	heard func(kind.Progress)
	close func()
}

// showing chooses how a measurement is shown as it goes: drawn, as lines of JSON, as one line
// or a bar on standard error, or not at all.
func (m *measuring) showing(from string, lanes []kind.Lane) showing {
	switch {
	case m.format == "ndjson" && m.kind.Line != nil:
		return m.lines(lanes)
	case m.format == "text" && isTerminal(m.out) && m.kind.Draw != kind.DrawNothing && (m.live || m.kind.Took(m.spec) >= liveFrom):
		if m.kind.Draw == kind.DrawProbes && len(lanes) <= mostLive {
			return m.drawProbes(from, lanes)
		}
		if m.kind.Draw == kind.DrawRoute && len(lanes) <= mostRoutes {
			return m.drawRoutes(lanes)
		}
	}
	if m.kind.Says != nil {
		return m.sayLine()
	}
	return m.bar(len(lanes))
}

// lines writes each probe as a line of JSON as soon as its fate is known.
func (m *measuring) lines(lanes []kind.Lane) showing {
	out := bufio.NewWriter(m.out)
	var mu sync.Mutex
	lanes = slices.Clone(lanes)
	return showing{ctx: m.ctx,
		heard: func(p kind.Progress) {
			mu.Lock()
			defer mu.Unlock()
			if l := &lanes[p.Lane]; !l.Address.IsValid() && p.Address != "" { // an agent resolved the name
				l.Address, _ = netip.ParseAddr(p.Address)
			}
			_ = m.kind.Line(out, lanes[p.Lane], p)
		},
		close: func() { _ = out.Flush() }}
}

// sayLine shows how far it is, on one line of a terminal.
func (m *measuring) sayLine() showing {
	if !isTerminal(m.err) {
		return showing{m.ctx, nil, func() {}}
	}
	return showing{m.ctx, func(p kind.Progress) { fmt.Fprintf(m.err, "\r\x1b[K%s", m.kind.Says(p)) }, func() { fmt.Fprint(m.err, "\r\x1b[K") }}
}

// bar shows how many of all are done, over all lanes.
func (m *measuring) bar(lanes int) showing {
	var mu sync.Mutex
	done := make([]int64, max(1, lanes))
	bar := m.progress(1)
	return showing{m.ctx, func(p kind.Progress) {
		mu.Lock()
		defer mu.Unlock()
		done[p.Lane] = p.Done
		all := int64(0)
		for _, n := range done {
			all += n
		}
		bar.ChangeMax64(max(1, p.Of*int64(len(done))))
		_ = bar.Set64(min(all, bar.GetMax64()))
	}, func() { _ = bar.Finish() }}
}

// drawProbes draws the probes of each lane until it is closed.
func (m *measuring) drawProbes(from string, lanes []kind.Lane) showing {
	ctx, cancel := context.WithCancel(m.ctx)
	rows := make([]report.LiveRow, len(lanes))
	ways := map[string]bool{}
	for _, l := range lanes {
		ways[l.Via] = true
	}
	for i, l := range lanes {
		rows[i].Name = l.Target
		if a := l.Address.String(); l.Address.IsValid() && a != l.Target {
			rows[i].Name += " " + a
		}
		if len(ways) > 1 || l.Via != (reading.Via{}).String() {
			rows[i].Name += " by " + l.Via
		}
	}
	m.normals(lanes, rows)
	var mu sync.Mutex
	var wg sync.WaitGroup
	screen := &screen{c: m.call, began: time.Now(), total: m.kind.Took(m.spec)}
	keys, restore := m.keys(ctx, &wg)
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
				screen.summary(from, lanes, rows)
			}
			screen.draw(rows)
			mu.Unlock()
		}
	})
	return showing{ctx: ctx,
		heard: func(p kind.Progress) {
			if probe, is := p.More.(reading.Probe); is {
				mu.Lock()
				defer mu.Unlock()
				rows[p.Lane].Hear(probe)
			}
		},
		close: func() {
			cancel()
			wg.Wait()
			restore()
			screen.clear()
		}}
}

// drawRoutes draws the routes as they are found; 'q' or Ctrl-C ends it and keeps what there is.
func (m *measuring) drawRoutes(lanes []kind.Lane) showing {
	ctx, cancel := context.WithCancel(m.ctx)
	gathers := make([]*route.Gather, len(lanes))
	for i, l := range lanes {
		gathers[i] = route.NewGather(l.Address)
	}
	var mu sync.Mutex
	text := func() string {
		mu.Lock()
		defer mu.Unlock()
		var doc document.Document
		for i, l := range lanes {
			doc.Say("%s  %s", document.Strong(l.Target), addressOf(l.Address))
			doc.Add(report.Lanes(finding.Traced{Route: gathers[i].Route()}.Report()))
		}
		return document.String(m.ink, doc)
	}
	var wg sync.WaitGroup
	screen := &screen{c: m.call, began: time.Now()}
	keys, restore := m.keys(ctx, &wg)
	wg.Go(func() {
		tick := time.NewTicker(redraw)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case key := <-keys:
				if key == ctrlC || key == 'q' {
					cancel()
					return
				}
			case <-tick.C:
				screen.show(text() + m.faint(fmt.Sprintf("%s   Ctrl-C: end, keep what there is", time.Since(screen.began).Round(time.Second))) + "\n")
			}
		}
	})
	return showing{ctx: ctx,
		heard: func(p kind.Progress) {
			if probe, is := p.More.(route.Probe); is {
				mu.Lock()
				defer mu.Unlock()
				gathers[p.Lane].Add(probe)
			}
		},
		close: func() {
			cancel()
			wg.Wait()
			restore()
			screen.clear()
		}}
}

func addressOf(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// normals asks the service of this machine, if one runs, what is normal for the
// targets at this hour, as measured from here.
func (m *measuring) normals(lanes []kind.Lane, rows []report.LiveRow) {
	if m.world != "" {
		return
	}
	service, err := m.client()
	if err != nil {
		return // there is none, and it is not needed
	}
	ctx, cancel := context.WithTimeout(m.ctx, time.Second)
	defer cancel()
	var agents []apitype.Agent
	var list api.PathList
	if service.Get(ctx, "/agents", nil, &agents) != nil || service.Get(ctx, "/paths", url.Values{"limit": {"20000"}}, &list) != nil {
		return
	}
	here := map[string]bool{}
	for _, a := range agents {
		here[a.Name] = a.Kind == "builtin" && m.from == "" || a.Name == m.from
	}
	for i, l := range lanes {
		for _, p := range list.Paths {
			if here[p.From] && (p.To == l.Target || p.To == addressOf(l.Address)) && p.Via == l.Via && p.Family == int(l.Family) && p.Normal != nil && p.Normal.RTTMs != nil {
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
	text := document.String(s.c.ink, report.Live(s.width(), rows))
	text += s.c.faint(fmt.Sprintf("%s of %s   s: summary so far   Ctrl-C: end, keep what there is", elapsed.Round(time.Second), s.total)) + "\n"
	s.show(text)
}

// show draws a text in the place of the last.
func (s *screen) show(text string) {
	s.clear()
	fmt.Fprint(s.c.out, strings.ReplaceAll(text, "\n", "\r\n"))
	s.lines = strings.Count(text, "\n")
}

// summary prints the results so far above the drawing.
func (s *screen) summary(from string, lanes []kind.Lane, rows []report.LiveRow) {
	s.clear()
	now := make([]report.PingResult, len(lanes))
	for i, l := range lanes {
		known := rows[i].Known()
		interval := time.Duration(0)
		if n := len(known); n > 1 {
			interval = known[n-1].DueAt.Sub(known[0].DueAt) / time.Duration(n-1)
		}
		r := reading.Of(s.began, time.Since(s.began), 0, interval, known)
		now[i] = report.PingResult{Target: l.Target, Address: addressOf(l.Address), Via: l.Via, From: from, Figures: r.Figures(), Outcome: string(kind.Running)}
	}
	var doc document.Document
	doc.Say("%s", document.Faint("so far, after "+time.Since(s.began).Round(time.Second).String()+":"))
	doc.Append(report.Ping(now))
	doc.Gap()
	fmt.Fprint(s.c.out, strings.ReplaceAll(document.String(s.c.ink, doc), "\n", "\r\n"))
}
