// Package baseline learns what is normal for a path and judges, reading by
// reading, whether the path has got worse.
//
//	normal := baseline.Build(points, baseline.Training{Zone: time.Local})
//	judge := baseline.NewJudge(baseline.Options{Paths: 14})
//	judge.SetBaseline(normal)
//	for _, p := range live {
//		for _, change := range judge.Add(p) { … }
//	}
//
// A path is degraded in a measure when its last readings are surely different
// from the baseline (a rank test for delay and jitter, a binomial test for
// loss, with false alarms bounded over all paths) and worth caring about
// (beyond the band by more than the measure's tolerance). It opens when that
// has held, is dated back to where it began, and closes only after the path
// has been normal again for longer than it took to open.
//
// Delays are in milliseconds, loss is a ratio from 0 to 1.
package baseline
