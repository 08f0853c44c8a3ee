package loss

// The least that makes losses regular: so many of them, and such a part of them
// at one place of each turn, and of such places lost.
const (
	leastRegular = 6
	mostTurn     = 64
	regularPart  = 0.9
)

// Every finds whether losses come regularly: one in each turn of n probes, as
// when packets are dealt out to lines in turn and one line is dead. chance is how
// likely losses at random would lie so.
func Every(lost []bool) (n int, chance float64, ok bool) {
	total := 0
	for _, gone := range lost {
		if gone {
			total++
		}
	}
	if total < leastRegular || total == len(lost) {
		return 0, 0, false
	}
	for n = 2; n <= min(mostTurn, len(lost)/leastRegular); n++ {
		losses, places := make([]int, n), make([]int, n)
		for i, gone := range lost {
			places[i%n]++
			if gone {
				losses[i%n]++
			}
		}
		for at, k := range losses {
			if float64(k) < regularPart*float64(total) || float64(k) < regularPart*float64(places[at]) {
				continue
			}
			chance = min(1, float64(n)*Ratio{Lost: k, Sent: total}.AtLeast(1/float64(n)))
			return n, chance, chance < 0.01
		}
	}
	return 0, 0, false
}
