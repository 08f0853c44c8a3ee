package guardbench

import (
	"math"
	"math/rand/v2"
	"time"
)

// state is how a path is in one minute.
type state struct {
	delay  float64 // ms, the middle of the round trips
	noise  float64 // ms, of the median of a reading
	jitter float64 // ms
	loss   float64 // 0 to 1, at random
	burst  float64 // probes lost in a run, beside
	down   bool
	tail   float64 // ms added to the median of this reading alone
	absent bool    // not measured
}

// climate makes the states of a path, minute by minute, in order.
type climate struct {
	name string
	make func(r *rand.Rand) func(t time.Time) state
}

// bump is a smooth rise between two hours of the day, 0 to 1, with soft edges of so many hours.
func bump(h, from, to, edge float64) float64 {
	if to < from {
		to += 24
	}
	if h < from-edge {
		h += 24
	}
	up := 1 / (1 + math.Exp(-(h-from)/edge*4))
	down := 1 / (1 + math.Exp((h-to)/edge*4))
	return up * down
}

func hour(t time.Time) float64 {
	h, m, s := t.Clock()
	return float64(h) + float64(m)/60 + float64(s)/3600
}

func weekend(t time.Time) bool { return t.Weekday() == time.Saturday || t.Weekday() == time.Sunday }

func between(r *rand.Rand, low, high float64) float64 { return low * math.Pow(high/low, r.Float64()) }

// ar is a series that remembers.
type ar struct {
	r        *rand.Rand
	phi, now float64
}

func (a *ar) next() float64 {
	a.now = a.phi*a.now + math.Sqrt(1-a.phi*a.phi)*a.r.NormFloat64()
	return a.now
}

// daily draws a number that holds for a day.
type daily struct {
	r    *rand.Rand
	day  int
	draw func(r *rand.Rand) float64
	now  float64
}

func (d *daily) at(t time.Time) float64 {
	if day := t.YearDay(); day != d.day {
		d.day, d.now = day, d.draw(d.r)
	}
	return d.now
}

var climates = []climate{
	{"quiet", func(r *rand.Rand) func(time.Time) state {
		base := between(r, 2, 80)
		noise := base * between(r, 0.002, 0.02)
		return func(time.Time) state { return state{delay: base, noise: noise, jitter: 2 * noise} }
	}},
	{"noisy", func(r *rand.Rand) func(time.Time) state {
		base := between(r, 8, 80)
		noise := base * between(r, 0.05, 0.25)
		loss := between(r, 0.0005, 0.01)
		m := &ar{r: r, phi: r.Float64() * 0.6}
		return func(time.Time) state {
			return state{delay: base + noise*0.6*m.next(), noise: noise * 0.8, jitter: noise * (1 + 0.2*math.Abs(r.NormFloat64())), loss: loss}
		}
	}},
	{"office", func(r *rand.Rand) func(time.Time) state {
		base, rise := between(r, 5, 40), between(r, 0.2, 3)
		noise := base * between(r, 0.01, 0.05)
		from, to := 7.5+1.5*r.Float64(), 16.5+1.5*r.Float64()
		shiftOf := &daily{r: r, draw: func(r *rand.Rand) float64 { return r.NormFloat64() * 0.25 }}
		size := &daily{r: r, draw: func(r *rand.Rand) float64 { return 1 + 0.15*r.NormFloat64() }}
		loss := r.Float64() * 0.004
		return func(t time.Time) state {
			x := 0.0
			if s := shiftOf.at(t); !weekend(t) {
				x = max(0, size.at(t)) * bump(hour(t), from+s, to+s, 1)
			}
			return state{delay: base * (1 + rise*x), noise: noise * (1 + 2*x), jitter: 2 * noise * (1 + 3*x), loss: loss * x}
		}
	}},
	{"evenings", func(r *rand.Rand) func(time.Time) state {
		base, rise := between(r, 8, 40), between(r, 0.3, 3)
		noise := base * between(r, 0.01, 0.06)
		size := &daily{r: r, draw: func(r *rand.Rand) float64 { return 0.6 + 0.8*r.Float64() }}
		loss := between(r, 0.001, 0.02)
		m := &ar{r: r, phi: 0.9}
		return func(t time.Time) state {
			x := size.at(t.Add(-4*time.Hour)) * bump(hour(t), 18.5, 23.3, 1.2)
			if weekend(t) {
				x *= 1.2
			}
			return state{delay: base * (1 + rise*x*(1+0.1*m.next())), noise: noise * (1 + 3*x), jitter: 2 * noise * (1 + 4*x), loss: loss * x}
		}
	}},
	{"backups", func(r *rand.Rand) func(time.Time) state {
		base := between(r, 4, 60)
		noise := base * between(r, 0.005, 0.03)
		rise, loss := between(r, 0.5, 6), between(r, 0.002, 0.05)
		from, long := 0.5+4*r.Float64(), 1.5+3*r.Float64()
		both := r.IntN(2) == 0
		start := &daily{r: r, draw: func(r *rand.Rand) float64 { return r.NormFloat64() * 0.1 }}
		return func(t time.Time) state {
			s, h := start.at(t), hour(t)
			on := (t.Weekday() == time.Sunday || both && t.Weekday() == time.Saturday) && h >= from+s && h < from+s+long
			if !on {
				return state{delay: base, noise: noise, jitter: 2 * noise}
			}
			return state{delay: base * (1 + rise), noise: noise + base*rise*0.1, jitter: 2*noise + base*rise*0.1, loss: loss}
		}
	}},
	{"weekly job", func(r *rand.Rand) func(time.Time) state {
		base := between(r, 4, 60)
		noise := base * between(r, 0.005, 0.03)
		rise, loss := between(r, 0.5, 6), between(r, 0.002, 0.05)
		from, long := 24*r.Float64(), 1.0+4*r.Float64()
		day := time.Weekday(r.IntN(7))
		start := &daily{r: r, draw: func(r *rand.Rand) float64 { return r.NormFloat64() * 0.1 }}
		return func(t time.Time) state {
			h := hour(t) + 24*float64((int(t.Weekday())-int(day)+7)%7) - start.at(t)
			if h < from || h >= from+long {
				return state{delay: base, noise: noise, jitter: 2 * noise}
			}
			return state{delay: base * (1 + rise), noise: noise + base*rise*0.1, jitter: 2*noise + base*rise*0.1, loss: loss}
		}
	}},
	{"two levels", func(r *rand.Rand) func(time.Time) state {
		base := between(r, 8, 60)
		noise := base * between(r, 0.005, 0.02)
		gap := base * between(r, 0.08, 0.5)
		dwell := between(r, 0.5, 6) * 60
		upper := between(r, 0.15, 0.5)
		high, left := false, 0.0
		return func(time.Time) state {
			if left--; left <= 0 {
				high = !high
				mean := dwell * 2 * (1 - upper)
				if high {
					mean = dwell * 2 * upper
				}
				left = r.ExpFloat64() * mean
			}
			v := base
			if high {
				v += gap
			}
			return state{delay: v, noise: noise, jitter: 2 * noise, loss: 0.0002}
		}
	}},
	{"loss in runs", func(r *rand.Rand) func(time.Time) state {
		base := between(r, 8, 60)
		noise := base * between(r, 0.01, 0.05)
		every, long := between(r, 20, 400), between(r, 3, 25)
		return func(time.Time) state {
			s := state{delay: base, noise: noise, jitter: 2 * noise, loss: 0.0005}
			if r.Float64() < 1/every {
				s.burst = r.ExpFloat64() * long
			}
			return s
		}
	}},
	{"long tails", func(r *rand.Rand) func(time.Time) state {
		base := between(r, 5, 60)
		noise := base * between(r, 0.01, 0.05)
		often, scale := between(r, 0.005, 0.06), base*between(r, 0.1, 1)
		return func(time.Time) state {
			s := state{delay: base, noise: noise, jitter: 2 * noise * math.Exp(0.4*r.NormFloat64()), loss: 0.0005}
			if r.Float64() < often {
				s.tail = scale * math.Pow(r.Float64()+1e-6, -0.4)
				s.jitter += s.tail / 2
			}
			return s
		}
	}},
	{"low orbit", func(r *rand.Rand) func(time.Time) state {
		base := between(r, 25, 50)
		hop := 0.0
		m := &ar{r: r, phi: 0.8}
		loss := between(r, 0.002, 0.012)
		return func(time.Time) state {
			hop = 0.5*hop + base*0.08*r.NormFloat64()
			s := state{delay: base + math.Abs(hop) + base*0.04*m.next(), noise: base * 0.04, jitter: base * 0.12 * math.Exp(0.2*r.NormFloat64()), loss: loss}
			if r.Float64() < 0.03 {
				s.burst = 1 + r.ExpFloat64()*4
			}
			return s
		}
	}},
	{"high orbit", func(r *rand.Rand) func(time.Time) state {
		base := 540 + 80*r.Float64()
		noise := between(r, 3, 20)
		m := &ar{r: r, phi: 0.7}
		fade := 0.0
		return func(time.Time) state {
			if fade > 0 {
				fade--
			} else if r.Float64() < 1.0/3000 {
				fade = 2 + r.ExpFloat64()*6
			}
			s := state{delay: base + noise*m.next(), noise: noise, jitter: noise * (1.5 + 0.2*r.NormFloat64()), loss: 0.001}
			if fade > 0 {
				s.loss = 0.012
			}
			return s
		}
	}},
	{"drift", func(r *rand.Rand) func(time.Time) state {
		base := between(r, 8, 80)
		noise := base * between(r, 0.005, 0.03)
		period, size := between(r, 3, 20), between(r, 0.01, 0.06)
		phase := r.Float64() * 7
		return func(t time.Time) state {
			x := float64(t.Unix()) / 86400 / period * 2 * math.Pi
			return state{delay: base * (1 + size*math.Sin(x+phase)), noise: noise, jitter: 2 * noise, loss: 0.0003}
		}
	}},
	{"gaps", func(r *rand.Rand) func(time.Time) state {
		base, rise := between(r, 5, 40), between(r, 0.1, 1)
		noise := base * between(r, 0.01, 0.05)
		gap := 0.0
		return func(t time.Time) state {
			if gap > 0 {
				gap--
			} else if r.Float64() < 1.0/900 {
				gap = r.ExpFloat64() * 120
			}
			x := bump(hour(t), 9, 17, 1)
			return state{delay: base * (1 + rise*x), noise: noise, jitter: 2 * noise, loss: 0.0005, absent: gap > 0}
		}
	}},
	{"nightly", func(r *rand.Rand) func(time.Time) state {
		base := between(r, 5, 50)
		noise := base * between(r, 0.005, 0.04)
		rise, loss := between(r, 0.3, 4), between(r, 0.001, 0.03)
		from, long := 22+5*r.Float64(), 0.5+3*r.Float64()
		start := &daily{r: r, draw: func(r *rand.Rand) float64 { return r.NormFloat64() * 0.08 }}
		return func(t time.Time) state {
			h := hour(t)
			if h < 12 {
				h += 24
			}
			s := start.at(t.Add(-12 * time.Hour))
			if h >= from+s && h < from+s+long {
				return state{delay: base * (1 + rise), noise: noise + base*rise*0.08, jitter: 2*noise + base*rise*0.1, loss: loss}
			}
			return state{delay: base, noise: noise, jitter: 2 * noise}
		}
	}},
	{"radio", func(r *rand.Rand) func(time.Time) state {
		base := between(r, 10, 50)
		m, slow := &ar{r: r, phi: 0.6}, &ar{r: r, phi: 0.995}
		noise := base * between(r, 0.05, 0.15)
		loss := between(r, 0.002, 0.02)
		return func(time.Time) state {
			q := math.Exp(0.3 * slow.next())
			return state{delay: base + noise*q*(1+0.5*m.next()), noise: noise * 0.5, jitter: noise * q * (1 + 0.15*math.Abs(r.NormFloat64())), loss: loss * q}
		}
	}},
}
