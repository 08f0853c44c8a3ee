// Package host tells this machine's own standing in its network: what an engineer
// looks at first, because half of all faults end here.
//
//	s, err := host.Read()
//	way, err := host.Toward(netip.MustParseAddr("198.51.100.10"))
package host
