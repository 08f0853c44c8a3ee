package baseline

import "time"

// State is a path's state.
type State string

// The states of a path.
const (
	StateSteady     State = "steady"
	StateDegraded   State = "degraded"
	StateLost       State = "lost"
	StateUnmeasured State = "unmeasured"
)

// States are all states, worst first.
func States() []State {
	return []State{StateLost, StateDegraded, StateUnmeasured, StateSteady}
}

// Verdict is a path's state and what it rests on.
type Verdict struct {
	State    State
	Since    time.Time // zero when not known
	Episode  *Episode  // of degraded and lost
	Never    bool      // lost: it has not answered any probe since it was first measured
	Silence  int       // unanswered probes in a row
	Newest   Point     // the last reading; its At is zero when there is none
	Baseline *Baseline // nil when there is none yet
}

// Verdict says how the path stands at now. A path whose last reading ended
// more than patience ago is unmeasured since then.
func (j *Judge) Verdict(now time.Time, patience time.Duration) Verdict {
	v := Verdict{State: StateUnmeasured, Silence: j.silent, Baseline: j.baseline}
	if len(j.past) == 0 {
		return v
	}
	v.Newest = j.past[len(j.past)-1]
	end := v.Newest.At.Add(v.Newest.Span)
	switch {
	case now.Sub(end) > patience:
		v.Since = end
	case j.lost != nil:
		v.State, v.Since, v.Episode = StateLost, j.lost.From, j.lost
	case !j.answered && j.silent >= silentProbes:
		v.State, v.Never, v.Since = StateLost, true, j.past[0].At
	case j.degraded != nil:
		v.State, v.Since, v.Episode = StateDegraded, j.degraded.From, j.degraded
	default:
		v.State = StateSteady
	}
	if v.Episode != nil {
		e := v.Episode.clone()
		v.Episode = &e
	}
	return v
}
