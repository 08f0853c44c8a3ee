package guardbench

import (
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
)

// Figures are what a set of paths shows.
type Figures struct {
	CleanPaths   int
	Young, Older int // false episodes in the first fortnight and after it
	youngYears   float64
	olderYears   float64
	Changes      int       // as large as is asked for
	Found        int       // of those
	Smaller      int       // changes
	FoundSmaller int       // of those
	Episodes     int       // told of the changes that were found
	True, Told   int       // episodes
	Delay        []float64 // minutes until a change was told
	Date         []float64 // minutes by which its begin was wrong
	Over         []float64 // minutes until its end was told
}

// FalseYoung and FalseOlder are false episodes a clean path and year.
func (f *Figures) FalseYoung() float64 { return float64(f.Young) / max(f.youngYears, 1e-9) }

// FalseOlder is that after the first fortnight.
func (f *Figures) FalseOlder() float64 { return float64(f.Older) / max(f.olderYears, 1e-9) }

// Precision is which part of the episodes told was true.
func (f *Figures) Precision() float64 { return float64(f.True) / float64(max(1, f.Told)) }

// Recall is which part of the changes was told.
func (f *Figures) Recall() float64 { return float64(f.Found) / float64(max(1, f.Changes)) }

// Fragments is how many episodes one change made.
func (f *Figures) Fragments() float64 { return float64(f.Episodes) / float64(max(1, f.Found)) }

// Median of a list of minutes; 0 when it is empty.
func Median(list []float64) float64 { return q(list, 0.5) }

// P95 is the 95 % quantile of a list.
func P95(list []float64) float64 { return q(list, 0.95) }

// matches reports whether an episode is of a fault.
func (f *made) matches(e guard.Episode) bool {
	const early = 20 * time.Minute
	if e.From.Before(f.at.Add(-early)) && (e.To.IsZero() || !e.To.After(f.at)) || e.From.Before(f.at.Add(-6*time.Hour)) {
		return false
	}
	return f.to.IsZero() || e.From.Before(f.to.Add(10*time.Minute))
}

// Gather works out the figures of the paths that take selects.
func (t *Table) gather(take func(result) bool) *Figures {
	f := &Figures{}
	for _, r := range t.results {
		if !take(r) {
			continue
		}
		if r.clean {
			f.CleanPaths++
			f.youngYears += young.Hours() / 24 / 365
			f.olderYears += (float64(r.path.days)*24 - young.Hours()) / 24 / 365
			f.addFalse(r, r.episodes)
			continue
		}
		if r.path.fault.kind.name != creep {
			f.addChange(r)
		}
	}
	return f
}

func (f *Figures) addFalse(r result, list []guard.Episode) {
	for _, e := range list {
		f.Told++
		if e.From.Before(r.path.start.Add(young)) {
			f.Young++
		} else {
			f.Older++
		}
	}
}

func (f *Figures) addChange(r result) {
	x := r.path.fault
	var of, others []guard.Episode
	var told time.Time
	for i, e := range r.episodes {
		if x.matches(e) {
			if of = append(of, e); len(of) == 1 {
				told = r.toldAt(i)
			}
		} else {
			others = append(others, e)
		}
	}
	f.Told += len(of) + len(others)
	f.True += len(of)
	if !x.asked {
		f.Smaller++
		if len(of) > 0 {
			f.FoundSmaller++
		}
		return
	}
	f.Changes++
	if len(of) == 0 {
		return
	}
	f.Found++
	f.Episodes += len(of)
	first, last := of[0], of[len(of)-1]
	f.Delay = append(f.Delay, told.Sub(x.at).Minutes())
	f.Date = append(f.Date, abs(first.From.Sub(x.at).Minutes()))
	if !x.to.IsZero() && !last.OverToldAt.IsZero() {
		f.Over = append(f.Over, last.OverToldAt.Sub(x.to).Minutes())
	}
}

// All are the figures of all paths.
func (t *Table) All() *Figures { return t.gather(func(result) bool { return true }) }

// Print writes the tables.
func (t *Table) Print(w io.Writer) {
	fmt.Fprintf(w, "%-16s %6s %9s %9s %7s %7s %6s | %13s | %13s | %13s\n", "", "clean", "false/y", "false/y", "preci-", "", "a", "told, min", "date, min", "over, min")
	fmt.Fprintf(w, "%-16s %6s %9s %9s %7s %7s %6s | %6s %6s | %6s %6s | %6s %6s\n", "", "paths", "young", "older", "sion", "recall", "change", "50 %", "95 %", "50 %", "95 %", "50 %", "95 %")
	for _, by := range []func(result) string{
		func(r result) string { return r.path.climate.name },
		func(r result) string {
			if r.clean || r.path.fault.kind.name == creep {
				return ""
			}
			return r.path.fault.kind.name
		},
		func(r result) string {
			if r.clean || r.path.fault.kind.name == creep {
				return ""
			}
			return fmt.Sprintf("size %d of 4", r.path.fault.size+1)
		},
	} {
		var names []string
		for _, r := range t.results {
			if n := by(r); n != "" && !slices.Contains(names, n) {
				names = append(names, n)
			}
		}
		sort.Strings(names)
		for _, n := range names {
			printRow(w, n, t.gather(func(r result) bool { return by(r) == n }))
		}
		fmt.Fprintln(w)
	}
	all := t.All()
	printRow(w, "all", all)
	fmt.Fprintf(w, "of %d changes smaller than three spreads of their hours, shorter than half an hour or not worth caring about, %d told\n", all.Smaller, all.FoundSmaller)
	t.printProperties(w)
	t.printCost(w)
}

func printRow(w io.Writer, name string, f *Figures) {
	young, older := "–", "–"
	if f.CleanPaths > 0 {
		young, older = fmt.Sprintf("%.2f", f.FalseYoung()), fmt.Sprintf("%.2f", f.FalseOlder())
	}
	fmt.Fprintf(w, "%-16s %6d %9s %9s %7.3f %7.3f %6.2f | %6.1f %6.1f | %6.1f %6.1f | %6.1f %6.1f\n", name, f.CleanPaths, young, older, f.Precision(), f.Recall(), f.Fragments(),
		Median(f.Delay), P95(f.Delay), Median(f.Date), P95(f.Date), Median(f.Over), P95(f.Over))
}

// CreepDays are after how many days creeps of two percent a day and more were told, and how
// many were not.
func (t *Table) CreepDays() (days []float64, untold int) {
	for _, r := range t.results {
		if r.clean || r.path.fault.kind.name != creep || r.path.fault.size == 0 {
			continue
		}
		if k, ok := r.told(guard.Creeping); ok {
			days = append(days, k.ToldAt.Sub(r.path.fault.at).Hours()/24)
		} else {
			untold++
		}
	}
	return days, untold
}

func (r result) told(kind guard.PropertyKind) (guard.Property, bool) {
	for _, k := range r.known {
		if k.Kind == kind && k.Measure == baseline.RTT && k.ToldAt.After(r.path.fault.at) {
			return k, true
		}
	}
	return guard.Property{}, false
}

func (t *Table) printProperties(w io.Writer) {
	days, untold := t.CreepDays()
	fmt.Fprintf(w, "\ncreeps of 2 to 5 %% a day: %d told after %.1f days (median), %.1f (p95), %d not\n", len(days), Median(days), P95(days), untold)
	levels, of := 0, 0
	for _, r := range t.results {
		if !r.clean && r.path.fault.kind.name == newLevel && r.path.fault.at.Before(r.path.start.AddDate(0, 0, r.path.days-4)) {
			of++
			if _, ok := r.told(guard.NewLevel); ok {
				levels++
			}
		}
	}
	fmt.Fprintf(w, "new levels: %d of %d told to be that\n", levels, of)
	for _, c := range climates {
		counts, paths := map[guard.PropertyKind]int{}, 0
		for _, r := range t.results {
			if r.clean && r.path.climate.name == c.name {
				paths++
				for _, k := range r.known {
					counts[k.Kind]++
				}
			}
		}
		if len(counts) > 0 {
			fmt.Fprintf(w, "properties of %d clean paths, %s: %s\n", paths, c.name, strings.TrimPrefix(fmt.Sprint(counts), "map"))
		}
	}
}

func (t *Table) printCost(w io.Writer) {
	var spent time.Duration
	readings, packets := 0, 0
	for _, r := range t.results {
		spent += r.spent
		packets += r.packets
		readings += r.readings
	}
	fmt.Fprintf(w, "%d paths, %d readings: %.1f µs a reading, training included\n", len(t.results), readings, float64(spent.Microseconds())/float64(max(readings, 1)))
	if packets > 0 {
		fmt.Fprintf(w, "more probes of what looks wrong: %.0f packets a path and day\n", float64(packets)/float64(len(t.results)*t.results[0].path.days))
	}
}

// late is after how long a change is told late.
const late = 10 * time.Minute

// Explain writes each change that was not told or told late, and each episode that was told
// wrongly.
func (t *Table) Explain(w io.Writer) {
	for _, r := range t.results {
		for _, e := range r.episodes {
			if r.clean || !r.path.fault.matches(e) {
				fmt.Fprintf(w, "false: %s, seed %d, %s\n", r.path.climate.name, r.path.seed, describe(e))
			}
		}
		f := r.path.fault
		if f == nil || f.kind.name == creep {
			continue
		}
		what := "not told"
		if i := slices.IndexFunc(r.episodes, f.matches); i >= 0 {
			after := r.toldAt(i).Sub(f.at)
			if after <= late {
				continue
			}
			what = fmt.Sprintf("told after %.0f min", after.Minutes())
		}
		if !f.asked {
			what += ", nor asked for"
		}
		fmt.Fprintf(w, "%s: %s, %s of size %d (%.1f ms on %.1f, %.3f lost) at %s for %v, seed %d\n", what, r.path.climate.name, f.kind.name, f.size+1, f.shift, f.base, f.loss, f.at.Format("Mon 15:04"), f.to.Sub(f.at).Round(time.Minute), r.path.seed)
	}
}

func describe(e guard.Episode) string {
	var parts []string
	for _, x := range e.Excesses {
		parts = append(parts, fmt.Sprintf("%s %.3g instead of %.3g", x.Measure, x.Now, x.Normal))
	}
	return fmt.Sprintf("%s %s for %v: %s", e.Kind, e.From.Format("Mon 2 15:04"), e.To.Sub(e.From).Round(time.Minute), strings.Join(parts, ", "))
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
