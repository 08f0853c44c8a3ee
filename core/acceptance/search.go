package acceptance

import (
	"math"

	"woodlark.example/core/loss"
)

// search looks for the highest rate that is carried (RFC 2544 §26.1): from the most down, by
// halves. Where more was offered than fits, what arrived in the end says how much does: one or
// two trials around that spare most of the halving, and are trials like any other.
type search struct {
	most, least, within float64 // frames a second; the search ends when it is known so closely
	limit               float64 // that the circuit is held to: tried itself, where it would be left open
	allowed, reached    float64

	good, bad float64 // the highest that was carried, the lowest that was not
	found     float64 // the rate at which good was really offered: a host that pauses offers less
	rate      float64 // to try next
	guess     float64 // of what fits
	guesses   int
	over      bool
	limited   string // why not more could be offered
	tooLarge  bool
	pool      loss.Ratio // of trials at this rate that could not tell yet
	pooled    int
}

func newSearch(most, least, within, limit, allowed, reached float64) *search {
	return &search{most: most, least: least, within: within * most, limit: limit, allowed: allowed, reached: reached, bad: math.Inf(1), rate: most}
}

// offer is what is sent in its direction: what is found, once that is known, so that the other
// direction goes on under the same load.
func (s *search) offer() float64 {
	if s.over {
		return s.found
	}
	return s.rate
}

// nearAsked is how much of the rate that is asked for a host has to offer, for what becomes of it
// to be said of that rate: between short pauses that is what it offers.
const nearAsked = 0.98

// mostPooled is how many trials are laid together at most to tell a loss ratio from what is
// allowed.
const mostPooled = 4

// carried reports whether a rate was carried, and whether that can be told.
func (s *search) carried(x Seen) (is, sure bool) {
	if x.Growth != nil && *x.Growth > s.reached || x.Received == 0 {
		return false, true
	}
	s.pool.Lost += int(x.lost())
	s.pool.Sent += int(x.Sent)
	s.pooled++
	if s.pool.Lost == 0 || s.allowed == 0 {
		return s.pool.Lost == 0, true
	}
	low, high, _ := s.pool.Interval()
	point := float64(s.pool.Lost) / float64(s.pool.Sent)
	switch {
	case high <= s.allowed:
		return true, true
	case low > s.allowed:
		return false, true
	}
	return point <= s.allowed, s.pooled >= mostPooled
}

// take takes what came of its rate.
func (s *search) take(x Seen) {
	if s.over {
		return
	}
	if x.TooLarge {
		s.over, s.tooLarge = true, true
		return
	}
	is, sure := s.carried(x)
	if !sure {
		return // once more
	}
	s.pool, s.pooled = loss.Ratio{}, 0
	offered := s.rate
	if x.Offered > 0 && x.Offered < nearAsked*s.rate {
		offered = x.Offered
	}
	switch {
	case is && x.Short: // more than that this host does not offer
		s.limited = x.Ours
		s.found = max(s.found, min(offered, x.Offered))
		s.good = max(s.good, s.found)
		s.over = true
		return
	case is:
		s.good, s.found = max(s.good, s.rate), max(s.found, offered)
	default:
		s.bad = min(s.bad, s.rate)
		s.limited = ""
		if x.Short {
			s.limited = x.Ours
		}
		s.guess = 0
		if x.Steady != nil {
			s.guess = max(0, *x.Steady)
		}
	}
	s.next()
}

// next settles which rate is tried.
func (s *search) next() {
	switch {
	case s.good >= s.most*(1-1e-9) || s.bad <= s.good:
		s.over = true
		return
	case s.bad <= s.least*(1+1e-9):
		s.over = true
		return
	case s.bad-s.good <= s.within:
		if s.limit > s.good && s.limit < s.bad && s.limit >= s.least {
			s.rate = s.limit
			return
		}
		s.over = true
		return
	}
	const mostGuesses = 3
	if g := s.guess; g > 0 && s.guesses < mostGuesses && g < s.bad*1.001 {
		// Just below what seems to fit, then a little less.
		try := g - s.within*[]float64{0.4, 1.5, 6}[s.guesses]
		s.guesses++
		if try > s.good+s.within/2 && try >= s.least && try < s.bad {
			s.rate = try
			return
		}
	}
	// What arrives when too much is offered is no more than fits: above it nothing is looked for.
	if top := s.guess + 0.6*s.within; s.guess > 0 && s.good >= s.guess-s.within && top < s.bad && top > s.good {
		s.bad = top
		s.next()
		return
	}
	s.rate = max(s.least, (s.good+s.bad)/2)
}
