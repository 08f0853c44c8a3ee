// Package acceptance decides whether a circuit carries what was bought: by frame size
// (RFC 2544, as RFC 5180, 6815 and 9004 mend it) and by service (ITU-T Y.1564).
//
// It sends nothing and has no clock. A plan says what to test. Walk goes through it: of the
// outcomes of the trials that were made it says what they found, and which trial is next.
//
//	for {
//		w := acceptance.Walk(plan, made)
//		if w.Next == nil {
//			return w.Result
//		}
//		made = append(made, carryOut(*w.Next))
//	}
//
// As it depends on nothing else, a test that was cut goes on at the trial that was cut, and how
// long one takes is found out by walking it with outcomes that are made up (see Estimate).
package acceptance
