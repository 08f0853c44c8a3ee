// Package route says what probes of the hops of a route mean: which loss and which
// delay begin where and carry on to the target, and which are only a router that
// spares its own answers.
//
//	for i, c := range route.Carry(hops) {
//		if c.Begins { fmt.Println("loss begins at hop", i+1) }
//	}
package route
