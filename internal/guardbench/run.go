package guardbench

import (
	"fmt"
	"io"
	"math/rand/v2"
	"runtime"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"woodlark.example/core/guard"
	baseline "woodlark.example/core/normal"
)

// Options of a run.
type Options struct {
	Seed    uint64
	Repeats int // of each climate × fault × size
	Every   time.Duration
	Probes  int
	Only    string // climate
	Stride  uint64 // takes one of so many
	Fault   string
	Verbose io.Writer
}

// result is what came of one path.
type result struct {
	path     path
	clean    bool
	days     float64
	young    float64
	episodes []guard.Episode
	known    []guard.Property
	trained  time.Duration
	judged   time.Duration
	trains   int
	readings int
}

func zoneOf(r *rand.Rand) *time.Location {
	names := []string{"UTC", "Europe/Oslo", "America/New_York", "Asia/Kolkata"}
	zone, err := time.LoadLocation(names[r.IntN(len(names))])
	if err != nil {
		panic(err)
	}
	return zone
}

// begin is a Monday; clocks change in the fourth week in Europe and in the first in America.
var begin = time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)

func (o Options) paths() (list []path) {
	n := uint64(0)
	for _, c := range climates {
		if o.Only != "" && !strings.Contains(c.name, o.Only) {
			continue
		}
		for rep := range o.Repeats {
			_ = rep
			for _, f := range faults {
				for size := range 4 {
					n++
					if o.Stride > 1 && n%o.Stride != o.Seed%o.Stride {
						continue
					}
					seed := o.Seed*1_000_003 + n*7919
					r := rand.New(rand.NewPCG(seed, 9))
					base := path{climate: c, seed: seed, every: o.Every, probes: o.Probes, zone: zoneOf(r), start: begin.Add(time.Duration(r.IntN(7*24*60)) * time.Minute), days: 28}
					clean := base
					clean.seed++
					list = append(list, clean)
					if o.Fault != "" && f.name != o.Fault {
						continue
					}
					spread, middle := base.spread()
					tolerance := max(1, 0.1*middle)
					m := &made{kind: f, size: size, base: middle, loss: losses[size], shift: max(sizes[size]*spread, tolerance*[]float64{1.3, 1.8, 3, 8}[size])}
					m.at = base.start.Add(14*24*time.Hour + time.Duration(r.Float64()*float64(10*24*time.Hour))).Truncate(time.Second)
					if long := f.long(r); long > 0 {
						m.to = m.at.Add(long)
					}
					if f.name == "creep" {
						m.at = base.start.Add(14 * 24 * time.Hour)
					}
					faulty := base
					faulty.fault = m
					list = append(list, faulty)
				}
			}
		}
	}
	return list
}

func runPath(p path) result {
	r := result{path: p, clean: p.fault == nil}
	rnd := rand.New(rand.NewPCG(p.seed, 5))
	g := guard.NewPath(&guard.Options{Calendar: baseline.Calendar{Zone: p.zone}}, rnd.Float64())
	var told time.Duration
	for point := range p.points {
		r.readings++
		from := time.Now()
		g.Add(point)
		told += time.Since(from)
	}
	r.judged = told
	r.episodes, r.known = g.Episodes(), g.Properties()
	return r
}

// Table is what a run found.
type Table struct{ results []result }

// Run runs all paths.
func Run(o Options) *Table {
	paths := o.paths()
	t := &Table{results: make([]result, len(paths))}
	var wg sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for i := range next {
				t.results[i] = runPath(paths[i])
			}
		})
	}
	for i := range paths {
		next <- i
	}
	close(next)
	wg.Wait()
	return t
}

const young = 14 * 24 * time.Hour

func (f *made) matches(e guard.Episode, slack time.Duration) bool {
	if e.From.Before(f.at.Add(-slack)) && (e.To.IsZero() || !e.To.After(f.at)) {
		return false
	}
	if e.From.Before(f.at.Add(-6 * time.Hour)) {
		return false
	}
	return f.to.IsZero() || e.From.Before(f.to.Add(10*time.Minute))
}

type tally struct {
	paths, false1, false2      int
	years1, years2             float64
	changes, found             int
	episodes                   int
	delay, date, closing, size []float64
	truth, told                int
}

// Print writes the tables.
func (t *Table) Print(w io.Writer, verbose bool) {
	climate, fault, bySize := map[string]*tally{}, map[string]*tally{}, map[string]*tally{}
	all := &tally{}
	get := func(m map[string]*tally, k string) *tally {
		if m[k] == nil {
			m[k] = &tally{}
		}
		return m[k]
	}
	var judged time.Duration
	readings := 0
	for _, r := range t.results {
		judged += r.judged
		readings += r.readings
		c := get(climate, r.path.climate.name)
		for _, x := range []*tally{c, all} {
			if r.clean {
				x.paths++
				x.years1 += 14.0 / 365
				x.years2 += float64(r.path.days-14) / 365
			}
		}
		if r.clean {
			for _, e := range r.episodes {
				isYoung := e.From.Before(r.path.start.Add(young))
				for _, x := range []*tally{c, all} {
					x.told++
					if isYoung {
						x.false1++
					} else {
						x.false2++
					}
				}
				if verbose {
					fmt.Fprintf(w, "FALSE %s seed %d %s\n", r.path.climate.name, r.path.seed, describe(e))
				}
			}
			continue
		}
		f := r.path.fault
		if f.kind.name == "creep" || f.kind.name == "new level" {
			t.printProperty(w, r, verbose)
		}
		if f.kind.name == "creep" {
			continue
		}
		ts := []*tally{c, all, get(fault, f.kind.name), get(bySize, fmt.Sprint(f.size))}
		var first *guard.Episode
		n := 0
		for i, e := range r.episodes {
			ok := f.matches(e, 20*time.Minute)
			for _, x := range ts {
				x.told++
				if ok {
					x.truth++
				}
			}
			if ok {
				n++
				if first == nil {
					first = &r.episodes[i]
				}
			} else {
				for _, x := range ts {
					if e.From.Before(r.path.start.Add(young)) {
						x.false1++
					} else {
						x.false2++
					}
				}
				if verbose {
					fmt.Fprintf(w, "ALSO FALSE %s/%s seed %d %s; fault %s to %s\n", r.path.climate.name, f.kind.name, r.path.seed, describe(e), f.at.Format("Mon 15:04"), f.to.Format("Mon 15:04"))
				}
			}
		}
		for _, x := range ts {
			x.changes++
			x.episodes += n
			if first == nil {
				continue
			}
			x.found++
			x.delay = append(x.delay, first.ToldAt.Sub(f.at).Minutes())
			x.date = append(x.date, abs(first.From.Sub(f.at).Minutes()))
			if last := lastOf(r.episodes, f); !f.to.IsZero() && !last.OverToldAt.IsZero() {
				x.closing = append(x.closing, last.OverToldAt.Sub(f.to).Minutes())
			}
		}
		if verbose && n == 0 {
			fmt.Fprintf(w, "MISSED %s/%s size %d shift %.2f loss %.3f base %.1f at %s for %v seed %d\n", r.path.climate.name, f.kind.name, f.size, f.shift, f.loss, f.base, f.at.Format("Mon 15:04"), f.to.Sub(f.at).Round(time.Minute), r.path.seed)
		}
		if verbose && n > 1 {
			fmt.Fprintf(w, "SPLIT %s/%s size %d into %d\n", r.path.climate.name, f.kind.name, f.size, n)
		}
	}
	head := "%-16s %6s %9s %9s %7s %7s %6s | %6s %6s | %6s %6s | %6s %6s\n"
	fmt.Fprintf(w, head, "", "clean", "false/y<", "false/y>", "prec", "recall", "frag", "tell50", "tell95", "date50", "date95", "over50", "over95")
	row := func(name string, x *tally) {
		prec := 1.0
		if x.told > 0 {
			prec = float64(x.truth) / float64(x.truth+x.false1+x.false2)
		}
		fmt.Fprintf(w, "%-16s %6d %9.2f %9.2f %7.3f %7.3f %6.2f | %6.1f %6.1f | %6.1f %6.1f | %6.1f %6.1f\n", name, x.paths, float64(x.false1)/max(x.years1, 1e-9), float64(x.false2)/max(x.years2, 1e-9),
			prec, float64(x.found)/max(1, float64(x.changes)), float64(x.episodes)/max(1, float64(x.found)), q(x.delay, .5), q(x.delay, .95), q(x.date, .5), q(x.date, .95), q(x.closing, .5), q(x.closing, .95))
	}
	for _, m := range []map[string]*tally{climate, fault, bySize} {
		names := make([]string, 0, len(m))
		for k := range m {
			names = append(names, k)
		}
		sort.Strings(names)
		for _, k := range names {
			row(k, m[k])
		}
		fmt.Fprintln(w)
	}
	row("all", all)
	t.printKnown(w)
	fmt.Fprintf(w, "%d paths, %d readings, %.1f µs a reading with training\n", len(t.results), readings, float64(judged.Microseconds())/float64(max(readings, 1)))
}

func lastOf(list []guard.Episode, f *made) (last guard.Episode) {
	for _, e := range list {
		if f.matches(e, 20*time.Minute) {
			last = e
		}
	}
	return last
}

func abs(v float64) float64 { return max(v, -v) }

func q(list []float64, p float64) float64 {
	if len(list) == 0 {
		return 0
	}
	list = slices.Clone(list)
	slices.Sort(list)
	return list[min(len(list)-1, int(p*float64(len(list))))]
}

func describe(e guard.Episode) string {
	var parts []string
	for _, x := range e.Excesses {
		parts = append(parts, fmt.Sprintf("%s %.3g>%.3g tol %.2g ev %.0f", x.Measure, x.Normal, x.Now, x.Tolerance, x.Evidence))
	}
	return fmt.Sprintf("%s %s for %v: %s", e.Kind, e.From.Format("Mon 2 15:04"), e.To.Sub(e.From).Round(time.Minute), strings.Join(parts, "; "))
}

// printProperty says when a creep or a new level was told.
func (t *Table) printProperty(w io.Writer, r result, verbose bool) {
	f := r.path.fault
	want := guard.Creeping
	if f.kind.name == "new level" {
		want = guard.NewLevel
	}
	for _, k := range r.known {
		if k.Kind == want && k.Measure == baseline.RTT && k.ToldAt.After(f.at) {
			if verbose {
				fmt.Fprintf(w, "TOLD %s/%s size %d after %.1f days, since %+.1f days, %.1f to %.1f, episodes %d\n", r.path.climate.name, f.kind.name, f.size, k.ToldAt.Sub(f.at).Hours()/24, k.Since.Sub(f.at).Hours()/24, k.Before, k.Now, len(r.episodes))
			}
			return
		}
	}
	fmt.Fprintf(w, "NOT TOLD %s/%s size %d shift %.1f base %.1f seed %d episodes %d\n", r.path.climate.name, f.kind.name, f.size, f.shift, f.base, r.path.seed, len(r.episodes))
}

// printKnown counts the properties of clean paths.
func (t *Table) printKnown(w io.Writer) {
	counts := map[string]map[string]int{}
	paths := map[string]int{}
	for _, r := range t.results {
		if !r.clean {
			continue
		}
		paths[r.path.climate.name]++
		for _, k := range r.known {
			if counts[r.path.climate.name] == nil {
				counts[r.path.climate.name] = map[string]int{}
			}
			counts[r.path.climate.name][string(k.Kind)]++
		}
	}
	for _, c := range climates {
		if paths[c.name] > 0 {
			fmt.Fprintf(w, "properties of %d clean paths, %s: %v\n", paths[c.name], c.name, counts[c.name])
		}
	}
}
