// Package incident finds the segments of a network that explain why several paths got worse
// at the same time: network tomography.
//
//	e := incident.Explain(observed)
//	for _, s := range e.Segments {
//		fmt.Println(s.From, s.To, s.Excess, s.Sure)
//	}
//
// What a path is worse by is the sum of what the links on its route add (of loss, of the
// logarithms of what passes), none of them less than nothing. The smallest set of links is
// looked for that explains all paths that got worse and contradicts none that did not; links
// that lie on the same paths cannot be told apart and are one segment. It needs no answer from
// any hop.
package incident
