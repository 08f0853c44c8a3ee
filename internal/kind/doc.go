// Package kind holds the kinds of measurement, a folder each, and what they have in common:
// how a spec is written on a command line, in JSON and in a file; how a result is wrapped up
// for its way; and the list of all kinds, which everything else loops over.
//
//	k, err := kind.Find("trace")
//	spec, err := k.Decode(kind.Standing, []byte(`{"probes": 20, "via": "tcp:443"}`))
//	err = spec.Check()
package kind
