// Package live is a simulated network in motion, within this process: in real
// time, so that engines and whole TCP stacks can work over it, or in virtual
// time, in which days pass in seconds. No privilege is needed and nothing leaves
// the process.
//
//	n := live.New(model)                      // in real time
//	host, err := n.At("ops.northquay.example") // a network.Network
//	v := live.Virtual(model, start)           // in virtual time
package live
