package ident

import "time"

// Phase is a time within an interval, always the same for an identifier, so that things of one
// interval are spread over it.
func (id ID) Phase(interval time.Duration) time.Duration {
	var h uint64 = 14695981039346656037
	for _, b := range id {
		h = (h ^ uint64(b)) * 1099511628211
	}
	return time.Duration(h % uint64(interval))
}
