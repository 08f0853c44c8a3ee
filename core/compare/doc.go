// Package compare lays two measurements beside each other: which figures surely differ, by how
// much, and which way.
//
//	r := compare.Of(a, b)
//	fmt.Println(r.Sentence)
package compare
