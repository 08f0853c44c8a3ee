// Package replay judges readings from files as the service would have, training included, in
// virtual time, with no service and no database: what would have been told last month, or with
// other tolerances?
//
//	out, err := replay.Run(replay.Input{Readings: file}, replay.Options{Zone: time.Local})
package replay
