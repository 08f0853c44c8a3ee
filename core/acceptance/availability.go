package acceptance

// Availability is how much of a time a service was there (ITU-T Y.1564 §8.1.2, Y.1563).
type Availability struct {
	Seconds     int `json:"seconds"`
	Available   int `json:"available_seconds"`
	Severe      int `json:"severely_errored_seconds"` // within available time
	Unavailable int `json:"unavailable_seconds"`
	// Sent and Lost are of available time, which is what the frame loss ratio is of.
	Sent int64 `json:"sent"`
	Lost int64 `json:"lost"`
}

// Ratio is the part of the time that was available; absent when there was none.
func (a Availability) Ratio() (float64, bool) {
	if a.Seconds == 0 {
		return 0, false
	}
	return float64(a.Available) / float64(a.Seconds), true
}

const (
	// severe is the loss ratio above which a second is severely errored.
	severe = 0.5
	// enter is how many severely errored seconds in a row begin unavailable time, and how many
	// that are not end it; they belong to what they begin.
	enter = 10
)

// AvailabilityOf looks at seconds that follow each other: how many frames were sent in each, and
// how many of them were lost.
func AvailabilityOf(seconds []BadSecond) (a Availability) {
	a.Seconds = len(seconds)
	gone := make([]bool, len(seconds))
	out, run := false, 0 // of seconds that are other than the state
	for i, s := range seconds {
		if isSevere(s) == out {
			run = 0
			gone[i] = out
			continue
		}
		run++
		gone[i] = out
		if run < enter {
			continue
		}
		out = !out
		for j := i - enter + 1; j <= i; j++ {
			gone[j] = out
		}
		run = 0
	}
	for i, s := range seconds {
		if gone[i] {
			a.Unavailable++
			continue
		}
		a.Available++
		a.Sent += s.Sent
		a.Lost += s.Lost
		if isSevere(s) {
			a.Severe++
		}
	}
	return a
}

func isSevere(s BadSecond) bool { return s.Sent > 0 && float64(s.Lost) > severe*float64(s.Sent) }

// Seconds are all seconds of a load: those that lost something, and the others, in which as many
// were sent as in the mean.
func (s Seen) Seconds() []BadSecond {
	list := make([]BadSecond, s.Of)
	rest, others := s.Sent, int64(s.Of)
	for _, b := range s.Bad {
		if b.Second >= 0 && b.Second < s.Of {
			list[b.Second] = b
			rest -= b.Sent
			others--
		}
	}
	for i := range list {
		list[i].Second = i
		if list[i].Sent == 0 && list[i].Lost == 0 && others > 0 {
			n := rest / others
			list[i].Sent = n
			rest, others = rest-n, others-1
		}
	}
	return list
}
