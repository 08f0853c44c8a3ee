// Package readiness decides whether a place is fit for a service: what was measured from it, held
// to what the service needs.
//
//	n, err := readiness.Find("calls")
//	r := readiness.Judge(n, 40, facts)
//	fmt.Println(r.Answer, r.Sentence)
package readiness
