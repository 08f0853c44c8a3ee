package main

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"
)

// heardAgain is how long a console may hear of no reading: a take-over, the silence by which it is noticed,
// and until the next minute is handed over.
const heardAgain = 40 * time.Second

// verdict prints what was promised and what was seen of one thing.
type verdict func(what, promised string, holds bool, seen string, args ...any)

type run struct {
	ID      string
	From    string
	Outcome string
	Reason  string
	StartAt time.Time `json:"started_at"`
}

// judge counts what was lost and doubled.
func (x *trial) judge(ctx context.Context) error {
	over := time.Now()
	wait(ctx, 150*time.Second) // the last minutes are handed over, judged and told of
	bad := 0
	line := func(what, promised string, holds bool, seen string, args ...any) {
		mark := "held"
		if !holds {
			mark = "BROKEN"
			bad++
		}
		fmt.Printf("%-46s %-40s %-60s %s\n", what, promised, fmt.Sprintf(seen, args...), mark)
	}
	fmt.Println()
	names := make([]string, 0, len(x.kinds))
	for name := range x.kinds {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		worst := slices.Max(x.kinds[name])
		line(name, "taken over within 15 s", worst <= 15*time.Second, "%d times, %v at worst", len(x.kinds[name]), worst.Round(100*time.Millisecond))
	}
	for _, of := range []func(context.Context, time.Time, verdict) error{x.judgeDue, x.judgeOrdered, x.judgeAlways, x.judgeTold} {
		if err := of(ctx, over, line); err != nil {
			return err
		}
	}
	x.view.mu.Lock()
	line("a console that is left open", "hears of readings again within 40 s", x.view.longest <= heardAgain, "%d heard, connected anew %d times, silent for %v at most", x.view.heard, x.view.anew-1, x.view.longest.Round(100*time.Millisecond))
	x.view.mu.Unlock()
	if bad > 0 {
		return fmt.Errorf("%d promises were broken", bad)
	}
	return nil
}

// runsOf are the runs that a condition takes, newest first.
func (x *trial) runsOf(ctx context.Context, condition string) (list []run, err error) {
	for before := ""; ; {
		var page []run
		if err := x.call(ctx, http.MethodGet, "/runs?limit=500"+condition+before, nil, &page); err != nil {
			return nil, err
		}
		list = append(list, page...)
		if len(page) < 500 {
			return list, nil
		}
		before = "&to_at=" + url.QueryEscape(page[len(page)-1].StartAt.Format(time.RFC3339Nano))
	}
}

// judgeDue counts what was due: each once, or said to be missed.
func (x *trial) judgeDue(ctx context.Context, over time.Time, line verdict) error {
	for _, w := range schedule {
		list, err := x.runsOf(ctx, "&watch="+w.name)
		if err != nil {
			return err
		}
		by := map[string][]run{} // agents
		for _, r := range list {
			if r.StartAt.Before(over) {
				by[r.From] = append(by[r.From], r)
			}
		}
		due, done, missed, doubled, holes := 0, 0, 0, 0, 0
		var odd []string
		for _, of := range by {
			slices.SortFunc(of, func(a, b run) int { return a.StartAt.Compare(b.StartAt) })
			for i, r := range of {
				switch r.Outcome {
				case "done":
					done++
				case "missed", "cancelled", "failed":
					missed++
					if r.Reason == "" {
						odd = append(odd, "no reason for "+r.Outcome)
					}
				default:
					odd = append(odd, r.Outcome)
				}
				if i < 2 {
					continue // the first is made at once, the second at the next multiple
				}
				switch gap := r.StartAt.Sub(of[i-1].StartAt); {
				case gap < w.every/2:
					doubled++
				case gap > w.every*3/2 && r.Outcome == "done" && of[i-1].Outcome == "done":
					holes += int(gap/w.every) - 1
				}
			}
			due += int(over.Sub(of[0].StartAt) / w.every)
		}
		line(fmt.Sprintf("%s each %v at %d agents", w.name, w.every, len(by)), "each once; missed while away, and said so", len(by) > 0 && doubled == 0 && holes == 0 && len(odd) == 0 && done+missed >= due,
			"%d due, %d done, %d said to be missed, %d twice, %d neither %s", due, done, missed, doubled, holes, strings.Join(odd, ", "))
	}
	return nil
}

// judgeOrdered looks whether what was asked for ended, and says how.
func (x *trial) judgeOrdered(ctx context.Context, _ time.Time, line verdict) error {
	how := map[string]int{}
	for _, id := range x.ordered {
		var r run
		if err := x.call(ctx, http.MethodGet, "/runs/"+id, nil, &r); err != nil {
			how["not known"]++
			continue
		}
		if r.Outcome != "done" && r.Reason == "" {
			r.Outcome += " without a reason"
		}
		how[r.Outcome]++
	}
	line("measured on demand: ready, accept", "each ends, and says how", how["done"]+how["failed"]+how["cancelled"] == len(x.ordered) && len(x.ordered) > 0, "%d asked for: %v", len(x.ordered), how)
	return nil
}

func (x *trial) judgeAlways(ctx context.Context, over time.Time, line verdict) error {
	var paths struct {
		Paths []struct{ ID, To, From string }
	}
	if err := x.call(ctx, http.MethodGet, "/paths", nil, &paths); err != nil {
		return err
	}
	// Whole minutes, from the first in which all measured.
	from, until := x.began.Truncate(time.Minute).Add(2*time.Minute), over.Truncate(time.Minute)
	sent, lost, twice, n := 0, 0, 0, 0
	for _, p := range paths.Paths {
		to, err := netip.ParseAddr(p.To)
		if err != nil || !slices.Contains(x.targets, to) {
			continue
		}
		n++
		var r struct {
			Readings []struct {
				StartAt time.Time `json:"started_at"`
				Sent    int
				Lost    int
			}
		}
		if err := x.call(ctx, http.MethodGet, "/paths/"+p.ID+"/readings?limit=50000", nil, &r); err != nil {
			return err
		}
		seen := map[time.Time]bool{}
		for _, m := range r.Readings {
			if seen[m.StartAt] {
				twice++
			}
			seen[m.StartAt] = true
			if m.StartAt.Before(from) || !m.StartAt.Before(until) {
				continue
			}
			sent, lost = sent+m.Sent, lost+m.Lost
		}
	}
	killed := len(x.kinds["an agent, killed"])
	could := n * int(until.Sub(from)/time.Second)
	// An agent that is killed begins anew within seconds, and has not kept the last five.
	allowed := killed * 12 * n / others
	silent := 0
	for _, h := range x.hush.list {
		silent += int(h.to.Sub(h.from)/time.Second) * others
	}
	line(fmt.Sprintf("a probe each second on %d paths", n), "none lost but while an agent is away", n > 0 && could-sent <= allowed && twice == 0, "%d of %d kept, %d minutes twice; agents killed %d times", sent, could, twice, killed)
	line("answers", "none lost but of what was silent", lost <= silent+killed*2*n, "%d without answer; silent for %d probes in all", lost, silent)
	return nil
}

// judgeTold looks whether each path that fell silent is told of as one episode, and that somebody
// heard of each as it opened and as it closed, by one identifier each.
func (x *trial) judgeTold(ctx context.Context, over time.Time, line verdict) error {
	if x.hushed != nil {
		return x.hushed
	}
	if len(x.hush.list) == 0 {
		fmt.Println("no path was silent, and nobody was told: that takes seven minutes")
		return nil
	}
	var d struct {
		Now, Ended []struct {
			From, To string
			Path     struct{ From, To string }
			Episodes []struct {
				ID     string
				Kind   string
				FromAt time.Time  `json:"from_at"`
				ToAt   *time.Time `json:"to_at"`
			}
		}
	}
	if err := x.call(ctx, http.MethodGet, "/reports/degraded?from_at="+url.QueryEscape(x.began.UTC().Format(time.RFC3339))+"&to_at="+url.QueryEscape(time.Now().UTC().Format(time.RFC3339)), nil, &d); err != nil {
		return err
	}
	right, wrong, beside := 0, 0, 0
	subjects := map[string]bool{}
	count := map[string]int{} // episodes, by path
	for _, p := range append(d.Now, d.Ended...) {
		to, from := p.To+p.Path.To, p.From+p.Path.From
		for _, e := range p.Episodes {
			i := slices.IndexFunc(x.hush.list, func(h silence) bool { return h.address.String() == to })
			if i < 0 {
				beside++
				continue
			}
			h := x.hush.list[i]
			count[from+to]++
			subjects[e.ID] = true
			if e.Kind == "lost" && e.ToAt != nil && e.FromAt.Sub(h.from).Abs() < 15*time.Second && e.ToAt.Sub(h.to).Abs() < 15*time.Second {
				right++
			} else {
				wrong++
			}
		}
	}
	doubled := 0
	for _, n := range count {
		doubled += n - 1
	}
	due := len(x.hush.list) * others
	line("paths that fell silent, and came back", "one episode each, from when to when", right == due && wrong == 0 && doubled == 0, "%d of %d told right, %d otherwise, %d twice; %d of other paths", right, due, wrong, doubled, beside)

	x.sink.mu.Lock()
	defer x.sink.mu.Unlock()
	ids := map[[2]string]map[string]bool{}
	again := map[string]int{}
	for _, m := range x.sink.list {
		k := [2]string{m.subject, m.what}
		if ids[k] == nil {
			ids[k] = map[string]bool{}
		}
		ids[k][m.id] = true
		again[m.id]++
	}
	opened, closed, several := 0, 0, 0
	for k, of := range ids {
		if !subjects[k[0]] {
			continue
		}
		switch k[1] {
		case "opened":
			opened++
			several += len(of) - 1
		case "closed":
			closed++
			several += len(of) - 1
		}
	}
	repeated := 0
	for _, n := range again {
		repeated += n - 1
	}
	line("somebody is told of each", "as it opens and closes, by one identifier", opened == len(subjects) && closed == len(subjects) && several == 0, "%d opened, %d closed of %d, %d by several; %d handed over again, %d refused", opened, closed, len(subjects), several, repeated, x.sink.refused)
	return nil
}
