package world

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// linkSetter reads properties of a link; nil when none is given.
func (r *reader) linkSetter(place string, p LinkProperties) func(*linkState) {
	var sets []func(*linkState)
	read := func(key string, text *string, parse func(string) (func(*linkState), error)) {
		if text == nil {
			return
		}
		set, err := parse(*text)
		if err != nil {
			r.wrong(place+"."+key, "%s: %v", key, err)
			return
		}
		sets = append(sets, set)
	}
	read("delay", p.Delay, func(s string) (func(*linkState), error) {
		d, err := span(s)
		return func(l *linkState) { l.delay = d }, err
	})
	read("variation", p.Variation, variation)
	read("loss", p.Loss, func(s string) (func(*linkState), error) {
		v, err := ratio(s, 1)
		return func(l *linkState) { l.loss = v }, err
	})
	read("load", p.Load, func(s string) (func(*linkState), error) {
		v, err := ratio(s, 10)
		return func(l *linkState) { l.load = v }, err
	})
	read("rate", p.Rate, func(s string) (func(*linkState), error) {
		bps, err := rate(s)
		if err != nil {
			return nil, err
		}
		service := time.Duration(1500 * 8 / bps * 1e9)
		return func(l *linkState) { l.service = service }, nil
	})
	read("queue", p.Queue, func(s string) (func(*linkState), error) {
		d, err := span(s)
		return func(l *linkState) { l.queue = d }, err
	})
	if p.Metric != nil {
		if *p.Metric < 1 {
			r.wrong(place+".metric", "metric: %d is less than 1", *p.Metric)
		}
		sets = append(sets, func(l *linkState) { l.metric = *p.Metric })
	}
	if p.Linked != nil {
		sets = append(sets, func(l *linkState) { l.up = *p.Linked })
	}
	if len(sets) == 0 {
		return nil
	}
	return func(l *linkState) {
		for _, set := range sets {
			set(l)
		}
	}
}

func span(text string) (time.Duration, error) {
	d, err := time.ParseDuration(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		return 0, fmt.Errorf("%q is not a span of time such as \"12.5ms\"", text)
	}
	if d < 0 || d > time.Minute {
		return 0, fmt.Errorf("%q is not between 0 and 1m", text)
	}
	return d, nil
}

// variation reads "gamma 0.3ms".
func variation(text string) (func(*linkState), error) {
	kind, scale, _ := strings.Cut(text, " ")
	if Variation(kind) == Constant {
		return func(l *linkState) { l.variation, l.scale = Constant, 0 }, nil
	}
	switch Variation(kind) {
	case Uniform, Gaussian, Gamma:
	default:
		return nil, fmt.Errorf("%q is none of none, uniform, normal, gamma", kind)
	}
	d, err := span(scale)
	if err != nil {
		return nil, fmt.Errorf("%w after %q", err, kind)
	}
	return func(l *linkState) { l.variation, l.scale = Variation(kind), d }, nil
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

var ratePattern = regexp.MustCompile(`^([0-9.]+) ?([kMG]?)bit/s$`)

// rate reads "20Mbit/s" as bits per second.
func rate(text string) (float64, error) {
	m := ratePattern.FindStringSubmatch(text)
	if m == nil {
		return 0, fmt.Errorf("%q is not a rate such as \"20Mbit/s\"", text)
	}
	v, err := strconv.ParseFloat(m[1], 64)
	if err != nil || v <= 0 {
		return 0, fmt.Errorf("%q is not a rate such as \"20Mbit/s\"", text)
	}
	return v * map[string]float64{"": 1, "k": 1e3, "M": 1e6, "G": 1e9}[m[2]], nil
}
