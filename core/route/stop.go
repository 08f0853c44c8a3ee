package route

import "math"

// Confidence with which the branches behind a hop are told to be all.
const Confidence = 0.95

// mostNext is the largest number of next hops that Enough is asked for.
const mostNext = 64

// Enough is how many flows through a hop have to be seen, when k different next
// hops were, before there is no further one: were there k + 1 that share the
// flows evenly, one of them would have stayed unseen with a chance of at most 1 −
// Confidence. It is 6 for one, 11 for two, 16 for three.
func Enough(k int) int {
	k = max(1, min(k, mostNext))
	n := k + 1
	for unseen(k+1, n) > 1-Confidence {
		n++
	}
	return n
}

// unseen is the chance that n flows, spread at random over k next hops, leave out
// at least one: by inclusion and exclusion.
func unseen(k, n int) float64 {
	sum, choose := 0.0, 1.0
	for j := 1; j <= k; j++ {
		choose *= float64(k-j+1) / float64(j)
		term := choose * math.Pow(1-float64(j)/float64(k), float64(n))
		if j%2 == 0 {
			term = -term
		}
		sum += term
	}
	return sum
}
