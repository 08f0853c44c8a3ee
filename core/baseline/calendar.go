package baseline

import (
	"slices"
	"sync/atomic"
	"time"
)

// Calendar says whose hours count, and which days are off.
type Calendar struct {
	Zone     *time.Location // UTC when nil
	Holidays []time.Time    // any time of each day counts
	// Off are the days of the week that are off; Saturday and Sunday when nil.
	Off []time.Weekday
}

func (c Calendar) zone() *time.Location {
	if c.Zone == nil {
		return time.UTC
	}
	return c.Zone
}

// minutesADay is how many minutes of the clock a day has; the day on which clocks change has
// others, but what a clock shows is below it.
const minutesADay = 24 * 60

// moment is a time as people there live it.
type moment struct {
	day     int // of the civil calendar; day 0 is a Thursday
	minute  int // of the day, by the clock
	weekday time.Weekday
	off     bool
}

// clockwork turns times into moments; it remembers the hour that it was asked about last,
// because times come in order. It is not safe for concurrent use.
type clockwork struct {
	zone     *time.Location
	off      [7]bool
	holidays map[int]bool
	// last is the stretch that was asked for last: who judges and who shows ask at the same time.
	last atomic.Pointer[stretch]
}

// stretch is a quarter of an hour; it does not change.
type stretch struct {
	from int64 // unix seconds
	base moment
}

func (c Calendar) clockwork() *clockwork {
	w := &clockwork{zone: c.zone(), holidays: map[int]bool{}}
	off := c.Off
	if off == nil {
		off = []time.Weekday{time.Saturday, time.Sunday}
	}
	for d := range w.off {
		w.off[d] = slices.Contains(off, time.Weekday(d))
	}
	for _, h := range c.Holidays {
		w.holidays[civilDay(h.In(w.zone))] = true
	}
	return w
}

// quarter is for how long a zone's offset surely holds: all that are in use change it at
// full quarters of an hour.
const quarter = 15 * 60

func (w *clockwork) at(unix int64) moment {
	now := w.last.Load()
	if now == nil || unix < now.from || unix >= now.from+quarter {
		from := unix - unix%quarter
		if unix < 0 {
			from = unix - (unix%quarter+quarter)%quarter
		}
		local := time.Unix(from, 0).In(w.zone)
		h, m, _ := local.Clock()
		now = &stretch{from, moment{day: civilDay(local), minute: h*60 + m, weekday: local.Weekday()}}
		now.base.off = w.off[now.base.weekday] || w.holidays[now.base.day]
		w.last.Store(now)
	}
	out := now.base
	out.minute += int(unix-now.from) / 60
	if out.minute >= minutesADay {
		// An odd zone whose midnight is within a quarter.
		local := time.Unix(unix, 0).In(w.zone)
		h, m, _ := local.Clock()
		out = moment{day: civilDay(local), minute: h*60 + m, weekday: local.Weekday()}
		out.off = w.off[out.weekday] || w.holidays[out.day]
	}
	return out
}

// civilDay numbers the days of the local calendar; day 0 is a Thursday.
func civilDay(t time.Time) int {
	y, m, d := t.Date()
	return int(time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

// Moment is a time by the calendar: the civil day by its number, the minute of that day by the
// clock, the day of the week, and whether it is a day off.
func (c Calendar) Moment(t time.Time) (day, minute int, weekday time.Weekday, off bool) {
	w := c.clockwork()
	m := w.at(t.Unix())
	return m.day, m.minute, m.weekday, m.off
}

// DayOff reports whether a civil day, by its number, is a day off.
func (c Calendar) DayOff(day int) bool {
	w := c.clockwork()
	return w.holidays[day] || w.off[(day%7+7+4)%7] // day 0 was a Thursday
}

// Mask is the set of the days of the week that are off, or of those that are not.
func (c Calendar) Mask(off bool) (set uint8) {
	w := c.clockwork()
	for d, is := range w.off {
		if is == off {
			set |= 1 << d
		}
	}
	return set
}
