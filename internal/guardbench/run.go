package guardbench

import (
	"math/rand/v2"
	"runtime"
	"sync"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
)

// Seeds: those up to Tuned were looked at while the guard was made, HeldOut and those above it
// were not.
const (
	Tuned   = 1
	HeldOut = 1001
)

// Options of a run.
type Options struct {
	Seed uint64
	// Every is how far apart readings are: a minute of 60 probes, or more minutes of 20.
	Every time.Duration
	// Part takes one of so many of the paths; all when 0. It has no factor in common with the
	// numbers of kinds and sizes, so that all of them are taken from.
	Part uint64
	// Suspicion has paths that look wrong probed more, as the service has it.
	Suspicion bool
}

func (o Options) probes() int {
	if o.Every > time.Minute {
		return 20
	}
	return 60
}

// result is what came of one path.
type result struct {
	path     path
	clean    bool
	episodes []guard.Episode
	known    []guard.Property
	beside   map[int]time.Time // when an episode was told that more probes told, by its number less one
	packets  int               // of more probes
	spent    time.Duration
	readings int
}

// toldAt is when an episode was told.
func (r *result) toldAt(i int) time.Time {
	if at, is := r.beside[i+1]; is {
		return at
	}
	return r.episodes[i].ToldAt
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
		for _, f := range faults {
			for size := range sizes {
				if n++; o.Part > 1 && n%o.Part != o.Seed%o.Part {
					continue
				}
				seed := o.Seed*1_000_003 + n*7919
				r := rand.New(rand.NewPCG(seed, 9))
				p := path{climate: c, seed: seed, every: o.Every, probes: o.probes(), zone: zoneOf(r), start: begin.Add(time.Duration(r.IntN(7*24*60)) * time.Minute), days: 28}
				clean := p
				clean.seed++
				p.fault = p.suffer(f, size, r)
				list = append(list, clean, p)
			}
		}
	}
	return list
}

// suffer makes a fault of a size on a path, after its first fortnight.
func (p *path) suffer(f fault, size int, r *rand.Rand) *made {
	spread, middle := p.spread()
	tolerance := max(1, 0.1*middle)
	m := &made{kind: f, size: size, base: middle, loss: losses[size], shift: max(sizes[size]*spread, tolerance*beyond[size])}
	m.at = p.start.Add(young + time.Duration(r.Float64()*float64(10*24*time.Hour))).Truncate(time.Second)
	if long := f.long(r); long > 0 {
		m.to = m.at.Add(long)
	}
	if f.name == creep {
		m.at = p.start.Add(young)
	}
	return m
}

// runPath lets the guard have the readings of a path.
func runPath(p path, suspects bool) result {
	r := result{path: p, clean: p.fault == nil}
	if !r.clean {
		p.fault.weigh(p)
	}
	g := guard.NewPath(&guard.Options{Calendar: baseline.Calendar{Zone: p.zone}}, rand.New(rand.NewPCG(p.seed, 5)).Float64())
	if suspects {
		return r.lookedInto(p, g)
	}
	points := make([]baseline.Point, 0, 41_000)
	for point := range p.points {
		points = append(points, point)
	}
	from := time.Now()
	for _, point := range points {
		g.Add(point)
	}
	r.spent, r.readings = time.Since(from), len(points)
	r.episodes, r.known = g.Episodes(), g.Properties()
	return r
}

// lookedInto is a path that is probed more when it looks wrong.
func (r result) lookedInto(p path, g *guard.Path) result {
	x := newSuspicion(&p, g)
	p.during = x.during
	for point := range p.points {
		from := time.Now()
		g.Add(point)
		r.spent += time.Since(from)
		r.readings++
		x.came(point)
	}
	r.episodes, r.known, r.beside, r.packets = g.Episodes(), g.Properties(), x.told, x.packets
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
				t.results[i] = runPath(paths[i], o.Suspicion)
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

// young is how old a path is when more may be asked of what is told of it.
const young = 14 * 24 * time.Hour
