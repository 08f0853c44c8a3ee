package compare

import "math"

// Figures that several kinds of measurement have, so that they are compared by the same words.

// RTT is a mean round trip of probes, by their standard deviation: of runs that hold one.
func RTT(mean, sd *float64, n int) Figure {
	f := Figure{Key: "rtt_mean", Name: "mean RTT", Unit: "ms", At: mean, Of: n, Worth: 0.5, Part: 0.05}
	if mean != nil && sd != nil && n >= 6 {
		half := student(n-1) * *sd / math.Sqrt(float64(n))
		low, high := *mean-half, *mean+half
		f.Low, f.High = &low, &high
	}
	return f
}

// Delays are a figure of delay by several values of it, such as those of each minute: their median.
func Delays(key, name, way string, values []float64) Figure {
	f := Figure{Key: key, Name: name, Way: way, Unit: "ms", Of: len(values), Worth: 0.5, Part: 0.05}
	f.At, f.Low, f.High = Median(values)
	return f
}

// Loss is how much is lost, of packets that may be lost one by one.
func Loss(way string, lost, sent int) Figure {
	f := Figure{Key: "loss", Name: "loss", Way: way, Unit: "ratio", Of: sent, Worth: 0.001}
	f.At, f.Low, f.High = Ratio(lost, sent)
	return f
}

// LossOver is the same by the ratios of stretches: where losses come together, it is known less
// well than by their number.
func LossOver(way string, lost, sent int, ratios []float64) Figure {
	f := Loss(way, lost, sent)
	_, low, high := Mean(ratios)
	if low != nil && f.Low != nil {
		a, b := max(0, min(*low, *f.Low)), min(1, max(*high, *f.High))
		f.Low, f.High = &a, &b
	}
	return f
}

// Rates are a rate by its seconds.
func Rates(key, name, way string, values []float64) Figure {
	f := Figure{Key: key, Name: name, Way: way, Unit: "bit/s", Of: len(values), MoreIsBetter: true, Part: 0.05}
	f.At, f.Low, f.High = Mean(values)
	return f
}

// Known is a figure whose interval is known by other means; none where low and high are nil.
func Known(key, name, way, unit string, at, low, high *float64, moreIsBetter bool) Figure {
	return Figure{Key: key, Name: name, Way: way, Unit: unit, At: at, Low: low, High: high, MoreIsBetter: moreIsBetter, Part: 0.05}
}
