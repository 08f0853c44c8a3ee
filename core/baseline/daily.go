package baseline

import (
	"time"

	"woodlark.example/core/loss"
)

// Daily is a stretch of the day in which a path keeps getting worse.
type Daily struct {
	FromMinute int // minute of the local day
	ToMinute   int // exclusive; less than FromMinute when it runs past midnight
	Days       int // on how many days it came
	OfDays     int // of how many days looked at
	// Chance that episodes of that length, coming at any time of the day, would
	// meet at some minute on so many days: the binomial tail of one minute,
	// times the minutes of a day.
	Chance float64
}

const minutesADay = 24 * 60

// DailyOf finds the hours at which episodes come back: the minutes of the day
// that episodes covered on at least three days, and on more than half of the
// days between from and to. Episodes of 18 hours or more are no daily matter
// and do not count.
func DailyOf(episodes []Episode, from, to time.Time, zone *time.Location) (Daily, bool) {
	first, last := civilDay(from.In(zone)), civilDay(to.In(zone))
	days := make(map[int]*[minutesADay]bool)
	for _, e := range episodes {
		end := e.To
		if end.IsZero() || end.After(to) {
			end = to
		}
		if end.Sub(e.From) >= 18*time.Hour || e.From.Before(from) {
			continue
		}
		for t := e.From.Truncate(time.Minute); t.Before(end); t = t.Add(time.Minute) {
			local := t.In(zone)
			day := civilDay(local)
			if days[day] == nil {
				days[day] = new([minutesADay]bool)
			}
			days[day][local.Hour()*60+local.Minute()] = true
		}
	}
	whole := last - first // the last day may only have begun
	need := max(minRepeats, whole/2+1)
	var counts [minutesADay]int
	for _, covered := range days {
		for minute, is := range covered {
			if is {
				counts[minute]++
			}
		}
	}
	d, ok := longestDaily(counts, need, max(whole, len(days)))
	covered := 0
	for _, n := range counts {
		covered += n
	}
	share := float64(covered) / float64(minutesADay*max(1, d.OfDays))
	d.Chance = min(1, minutesADay*loss.Ratio{Lost: d.Days, Sent: d.OfDays}.AtLeast(share))
	return d, ok
}

// longestDaily is the longest stretch of minutes counted at least need times,
// past midnight too.
func longestDaily(counts [minutesADay]int, need, days int) (Daily, bool) {
	best, bestLength, length := 0, 0, 0
	for i := range 2 * minutesADay {
		if counts[i%minutesADay] < need {
			length = 0
			continue
		}
		length++
		if length > bestLength && length <= minutesADay {
			best, bestLength = i-length+1, length
		}
	}
	if bestLength < 10 {
		return Daily{}, false
	}
	d := Daily{FromMinute: best % minutesADay, ToMinute: (best + bestLength) % minutesADay, OfDays: days}
	for i := range bestLength {
		d.Days = max(d.Days, counts[(best+i)%minutesADay])
	}
	return d, true
}
