package baseline

import "time"

// Trainer feeds a judge and gives it a new baseline at every local midnight,
// and earlier while the path is young: what a service does over days, for
// readings that are all there already.
type Trainer struct {
	judge    *Judge
	zone     *time.Location
	window   time.Duration
	points   []Point
	episodes []Episode
	next     time.Time
}

// NewTrainer returns a trainer of a judge, over a training window.
func NewTrainer(j *Judge, zone *time.Location, window time.Duration) *Trainer {
	return &Trainer{judge: j, zone: zone, window: window}
}

// Judge is the judge that is trained.
func (t *Trainer) Judge() *Judge { return t.judge }

// Episodes are the episodes so far, oldest first, the last one maybe open.
func (t *Trainer) Episodes() []Episode { return t.episodes }

// Add takes the next point; it trains first when a training is due.
func (t *Trainer) Add(p Point) []Change {
	if len(t.points) == 0 {
		t.next = p.At.Add(time.Hour)
	}
	if !p.At.Before(t.next) {
		t.Train(p.At)
	}
	t.points = append(t.points, p)
	changes := t.judge.Add(p)
	for _, c := range changes {
		if c.Opened {
			t.episodes = append(t.episodes, c.Episode)
			continue
		}
		for i := len(t.episodes) - 1; i >= 0; i-- {
			if t.episodes[i].Kind == c.Episode.Kind {
				t.episodes[i] = c.Episode
				break
			}
		}
	}
	return changes
}

// Train makes a new baseline now from the window before it. The old one stays
// when there are too few readings.
func (t *Trainer) Train(now time.Time) {
	from := now.Add(-t.window)
	first := 0
	for first < len(t.points) && t.points[first].At.Before(from) {
		first++
	}
	t.points = t.points[first:]
	if b, err := Build(t.points, Training{Zone: t.zone, Exclude: Spans(t.episodes)}); err == nil {
		t.judge.SetBaseline(b)
	}
	t.next = NextTraining(t.points, now, t.zone)
}

// NextTraining is when a path whose readings are points is to be trained
// again: hourly in its first day, at local midnight after that.
func NextTraining(points []Point, now time.Time, zone *time.Location) time.Time {
	if len(points) == 0 || now.Sub(points[0].At) < 24*time.Hour {
		return now.Add(time.Hour)
	}
	y, m, d := now.In(zone).Date()
	return time.Date(y, m, d+1, 0, 0, 0, 0, zone)
}

// Spans are the stretches of time of episodes.
func Spans(episodes []Episode) []Interval {
	spans := make([]Interval, len(episodes))
	for i, e := range episodes {
		spans[i] = Interval{From: e.From, To: e.To}
	}
	return spans
}
