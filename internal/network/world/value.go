package world

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/network/world/link"
)

// longestSpan bounds every delay of a world.
const longestSpan = time.Minute

func span(text string) (time.Duration, error) {
	d, err := time.ParseDuration(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		return 0, fmt.Errorf("%q is not a span of time such as \"12.5ms\"", text)
	}
	if d < 0 || d > longestSpan {
		return 0, fmt.Errorf("%q is not between 0 and 1m", text)
	}
	return d, nil
}

var variationKinds = map[string]link.VariationKind{"none": link.Constant, "uniform": link.Uniform, "normal": link.Gaussian,
	"gamma": link.Gamma, "pareto": link.Pareto, "histogram": link.Histogram}

// variation reads "gamma 0.3ms", "pareto 2ms shape 2.5" or "histogram 0-1ms:70
// 1-8ms:30".
func variation(text string) (link.Variation, error) {
	fields := strings.Fields(text)
	if len(fields) == 0 {
		return link.Variation{}, fmt.Errorf("is empty; leave it out or write \"none\"")
	}
	kind, known := variationKinds[fields[0]]
	switch {
	case !known:
		return link.Variation{}, fmt.Errorf("%q is none of none, uniform, normal, gamma, pareto, histogram", fields[0])
	case kind == link.Constant:
		return link.Variation{}, nil
	case kind == link.Histogram:
		return histogram(fields[1:])
	case len(fields) == 1:
		return link.Variation{}, fmt.Errorf("%s needs a span of time, such as \"%s 2ms\"", fields[0], fields[0])
	}
	d, err := span(fields[1])
	if err != nil {
		return link.Variation{}, fmt.Errorf("%w after %q", err, fields[0])
	}
	v := link.Variation{Kind: kind, Scale: d, Shape: map[link.VariationKind]float64{link.Gamma: 2, link.Pareto: 3}[kind]}
	return v, withShape(&v, fields)
}

// withShape reads the "shape 3" that may follow.
func withShape(v *link.Variation, fields []string) error {
	if len(fields) == 2 {
		return nil
	}
	if len(fields) != 4 || fields[2] != "shape" || v.Shape == 0 {
		return fmt.Errorf("%q is not understood after %q", strings.Join(fields[2:], " "), strings.Join(fields[:2], " "))
	}
	n, err := strconv.ParseFloat(fields[3], 64)
	whole := n == float64(int(n)) && n >= 1 && n <= 32
	if v.Kind == link.Gamma && (err != nil || !whole) {
		return fmt.Errorf("shape %q of gamma is not a whole number from 1 to 32", fields[3])
	}
	if v.Kind == link.Pareto && (err != nil || !(n > 1 && n <= 100)) {
		return fmt.Errorf("shape %q of pareto is not a number above 1 and up to 100", fields[3])
	}
	v.Shape = n
	return nil
}

// histogram reads bins such as "0-1ms:70".
func histogram(fields []string) (link.Variation, error) {
	v := link.Variation{Kind: link.Histogram}
	total := 0.0
	for _, f := range fields {
		edges, weight, ok1 := strings.Cut(f, ":")
		from, to, ok2 := strings.Cut(edges, "-")
		if from == "0" {
			from = "0s"
		} else if _, err := strconv.ParseFloat(from, 64); err == nil {
			from += strings.TrimLeft(to, "0123456789.") // "1-8ms" has its unit once
		}
		a, err1 := span(from)
		b, err2 := span(to)
		w, err3 := strconv.ParseFloat(weight, 64)
		if !ok1 || !ok2 || err1 != nil || err2 != nil || err3 != nil || b < a || !(w > 0 && w < 1e12) {
			return v, fmt.Errorf("%q is not a bin such as \"1-8ms:30\"", f)
		}
		v.Bins = append(v.Bins, link.Bin{From: a, To: b, Weight: w})
		total += w
	}
	if len(v.Bins) == 0 {
		return v, fmt.Errorf("a histogram needs bins such as \"0-1ms:70 1-8ms:30\"")
	}
	for i := range v.Bins {
		v.Bins[i].Weight /= total
	}
	return v, nil
}

// memory reads "20s", or "20s share 60%".
func memory(text string) (m link.Memory, err error) {
	lasts, share, shared := strings.Cut(text, " share ")
	if m.For, err = time.ParseDuration(strings.TrimSpace(lasts)); err != nil || m.For < 0 || m.For > longestMemory {
		return m, fmt.Errorf("%q is no span of time from 0 to 24h, such as \"20s\" or \"20s share 60%%\"", text)
	}
	m.Share = 1
	if shared {
		m.Share, err = ratio(strings.TrimSpace(share), 1)
	}
	return m, err
}

const longestMemory = 24 * time.Hour

// loss reads "2%", "every 50" or "bursts enter 0.2% leave 20% inside 90%".
func loss(text string) (link.Loss, error) {
	fields := strings.Fields(text)
	switch {
	case len(fields) == 2 && fields[0] == "every":
		n, err := strconv.ParseUint(fields[1], 10, 32)
		if err != nil || n < 1 {
			return link.Loss{}, fmt.Errorf("%q is not a number of packets from 1 on", fields[1])
		}
		return link.Loss{Kind: link.EveryNth, N: n}, nil
	case len(fields) > 0 && fields[0] == "bursts":
		return bursts(fields[1:])
	}
	v, err := ratio(text, 1)
	if err != nil || v == 0 {
		return link.Loss{}, err
	}
	return link.Loss{Kind: link.RandomLoss, Ratio: v}, nil
}

func bursts(fields []string) (link.Loss, error) {
	l := link.Loss{Kind: link.BurstLoss, Enter: -1, Leave: -1, Inside: 1}
	to := map[string]*float64{"enter": &l.Enter, "leave": &l.Leave, "inside": &l.Inside, "outside": &l.Outside}
	for i := 0; i+1 < len(fields); i += 2 {
		value, ok := to[fields[i]]
		if !ok {
			return l, fmt.Errorf("%q is none of enter, leave, inside, outside", fields[i])
		}
		var err error
		if *value, err = ratio(fields[i+1], 1); err != nil {
			return l, err
		}
	}
	if len(fields)%2 != 0 || l.Enter < 0 || l.Leave < 0 {
		return l, fmt.Errorf("bursts are written like \"bursts enter 0.2%% leave 20%% inside 90%%\"")
	}
	return l, nil
}

// reorders reads "1% 5ms": that part is held back for so long.
func reorders(text string) (float64, time.Duration, error) {
	part, held, ok := strings.Cut(strings.TrimSpace(text), " ")
	v, err := ratio(part, 1)
	if err != nil || v == 0 {
		return 0, 0, err
	}
	if !ok {
		return 0, 0, fmt.Errorf("%q needs how long packets are held back, such as \"1%% 5ms\"", text)
	}
	d, err := span(held)
	return v, d, err
}

// ratio reads "2%" or "0.02", up to most.
func ratio(text string, most float64) (float64, error) {
	number, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
	v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if percent {
		v /= 100
	}
	if err != nil || !(v >= 0 && v <= most) {
		return 0, fmt.Errorf("%q is not a part such as \"2%%\" or \"0.02\", at most %g %%", text, most*100)
	}
	return v, nil
}

var (
	ratePattern  = regexp.MustCompile(`^([0-9.]+) ?([kMG]?)bit/s$`)
	bytesPattern = regexp.MustCompile(`^([0-9.]+) ?([kM]?)B$`)
	scales       = map[string]float64{"": 1, "k": 1e3, "M": 1e6, "G": 1e9}
)

// scaled reads a number with a unit by its pattern.
func scaled(pattern *regexp.Regexp, text string, most float64) (float64, bool) {
	m := pattern.FindStringSubmatch(text)
	if m == nil {
		return 0, false
	}
	v, err := strconv.ParseFloat(m[1], 64)
	v *= scales[m[2]]
	return v, err == nil && v > 0 && v <= most
}

// rate reads "20Mbit/s" as bits per second.
func rate(text string) (float64, error) {
	v, ok := scaled(ratePattern, text, 1e13)
	if !ok {
		return 0, fmt.Errorf("%q is not a rate such as \"20Mbit/s\"", text)
	}
	return v, nil
}

// queue reads "50ms", "64kB", "50ms early".
func queue(text string) (link.Queue, error) {
	size, early := strings.CutSuffix(strings.TrimSpace(text), " early")
	if v, ok := scaled(bytesPattern, size, 1e9); ok {
		return link.Queue{Bytes: int(v), Early: early}, nil
	}
	d, err := span(size)
	if err != nil {
		return link.Queue{}, fmt.Errorf("%q is neither a span of time such as \"50ms\" nor a size such as \"64kB\", with \"early\" behind it or not", text)
	}
	return link.Queue{Time: d, Early: early}, nil
}

// policer reads "10Mbit/s 64kB".
func policer(text string) (link.Policer, error) {
	if text == "none" {
		return link.Policer{}, nil
	}
	first, second, _ := strings.Cut(strings.TrimSpace(text), " ")
	bps, ok1 := scaled(ratePattern, first, 1e13)
	burst, ok2 := scaled(bytesPattern, strings.TrimSpace(second), 1e9)
	if !ok1 || !ok2 || burst < 1500 {
		return link.Policer{}, fmt.Errorf("%q is not a rate and a burst of at least 1500 bytes, such as \"10Mbit/s 64kB\"", text)
	}
	return link.Policer{Rate: bps, Burst: int(burst)}, nil
}

// allowance reads "100/s" or "100/s burst 10".
func allowance(text string) (limit, burst float64, err error) {
	fields := strings.Fields(text)
	wrong := fmt.Errorf("%q is not a number a second such as \"100/s\" or \"100/s burst 10\"", text)
	if len(fields) != 1 && (len(fields) != 3 || fields[1] != "burst") {
		return 0, 0, wrong
	}
	limit, err = strconv.ParseFloat(strings.TrimSuffix(fields[0], "/s"), 64)
	if err != nil || !strings.HasSuffix(fields[0], "/s") || !(limit > 0 && limit <= 1e6) {
		return 0, 0, wrong
	}
	burst = max(1, limit/10)
	if len(fields) == 3 {
		if burst, err = strconv.ParseFloat(fields[2], 64); err != nil || !(burst >= 1 && burst <= 1e6) {
			return 0, 0, wrong
		}
	}
	return limit, burst, nil
}
