// Package respond is the far end of two-ended measurement: one port, TCP and UDP.
//
// It is safe to leave open. Who does not have a key gets a challenge of a fixed size
// and nothing more; to an address that did not prove itself no datagram goes that is
// larger than the one that came, and STAMP is reflected no faster than a source may ask.
//
//	r, err := respond.New(respond.Options{Network: kernel.Host(), Listen: at, Keys: respond.Shared("secret")})
//	err = r.Run(ctx)
package respond
