package protocol

import "woodlark.example/internal/kind"

// File adds a run of a kind to what the upload holds, in all the forms in which it is looked
// for: as a route, as who answered, as a measurement between two ends. The result is nil when
// there is none.
func (u *Upload) File(k *kind.Kind, m Made, result any) {
	like := result
	if like == nil {
		like = k.Result()
	}
	switch r := like.(type) {
	case kind.Routed:
		t := Trace{ID: m.Run, Watch: m.Watch, Target: m.Lane.Target, Family: m.Lane.Family, Via: m.Lane.Via, Started: m.Started, Ended: m.Ended, Outcome: m.Outcome, Reason: m.Reason}
		if result != nil {
			t.Report = r.Trace()
		}
		u.Traces = append(u.Traces, t)
	case kind.Swept:
		x := Sweep{ID: m.Run, Watch: m.Watch, Started: m.Started, Ended: m.Ended, Outcome: m.Outcome, Reason: m.Reason}
		if result != nil {
			x.Report, x.Scope = r.Sweep()
		}
		u.Sweeps = append(u.Sweeps, x)
	default:
		if k.TwoEnds {
			f := m.Figures
			u.TwoEnded = append(u.TwoEnded, TwoEnded{ID: m.Run, Watch: m.Watch, Far: m.FarID, Target: m.Lane.Target, Kind: m.Kind, Started: m.Started, Ended: m.Ended, Outcome: m.Outcome, Reason: m.Reason,
				ThereBps: f.ThereBps, BackBps: f.BackBps, MOS: f.MOS, SentBytes: f.SentBytes, Report: m.Body})
		}
	}
}
