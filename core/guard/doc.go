// Package guard tells which paths got worse: since when, by how much, why and where; and stays
// quiet otherwise.
//
//	g := guard.New(guard.Options{Calendar: baseline.Calendar{Zone: time.Local}})
//	for _, change := range g.Add(guard.Key{From: "northquay", To: "terminal.holm.example"}, point) { … }
//	g.Route(key, time, hops)
//	g.Incidents()
//
// Each measure of a path is followed by three detectors that add up evidence (cumulated sums,
// Page 1954): that all readings are a little worse, that all are much worse, and that some are.
// When the evidence suffices and the change is worth caring about, an episode opens, dated back
// to where its readings part from the normal ones; it closes when its readings are normal again,
// and is resumed when it comes back within half an hour. What comes back at the same hours
// becomes a property of the path, what stays a new level, and what several paths with the same
// onset share an incident (core/incident).
//
// It knows no clock: times are those of the readings.
package guard
