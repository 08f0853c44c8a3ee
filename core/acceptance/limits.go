package acceptance

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Template is a set of limits that is ready-made.
type Template struct {
	Name   string
	Source string
	Limits ServiceLimits
	// Percentile is of which the delay of the source is; of ours it is the mean.
	Note string
}

// Templates are the limits that are ready-made: the classes of ITU-T Y.1541 (Table 1 and 3), and
// the tiers of MEF 23 by class of service.
func Templates() (list []Template) {
	ms := func(n int) Span { return Span(time.Duration(n) * time.Millisecond) }
	for _, c := range []struct {
		class            int
		delay, variation int
		loss             float64
	}{{0, 100, 50, 0.001}, {1, 400, 50, 0.001}, {2, 100, 0, 0.001}, {3, 400, 0, 0.001}, {4, 1000, 0, 0.001}, {6, 100, 50, 0.00001}, {7, 400, 50, 0.00001}} {
		list = append(list, Template{Name: fmt.Sprintf("y1541-%d", c.class), Source: fmt.Sprintf("ITU-T Y.1541 class %d", c.class),
			Limits: ServiceLimits{Delay: ms(c.delay), Variation: ms(c.variation), Loss: ShareOf(c.loss)}})
	}
	tiers := []struct {
		name   string
		mean   [3]int
		ranges [2]int
		loss   [3]float64
	}{
		{"metro", [3]int{7, 13, 28}, [2]int{5, 10}, [3]float64{0.0001, 0.0001, 0.001}},
		{"regional", [3]int{18, 30, 50}, [2]int{10, 50}, [3]float64{0.0001, 0.0001, 0.001}},
		{"continental", [3]int{70, 80, 125}, [2]int{12, 50}, [3]float64{0.00025, 0.00025, 0.001}},
		{"global", [3]int{200, 220, 240}, [2]int{40, 50}, [3]float64{0.0005, 0.0005, 0.001}},
	}
	for _, t := range tiers {
		for i, class := range []string{"high", "medium", "low"} {
			x := Template{Name: "mef-" + t.name + "-" + class, Source: "MEF 23 " + t.name + ", class " + class, Limits: ServiceLimits{Delay: ms(t.mean[i]), Loss: ShareOf(t.loss[i])},
				Note: "delay: mean frame delay; variation: frame delay range"}
			if i < 2 {
				x.Limits.Variation = ms(t.ranges[i])
			}
			list = append(list, x)
		}
	}
	return list
}

// LimitsLike are ready-made limits by their name.
func LimitsLike(name string) (Template, error) {
	list := Templates()
	if i := slices.IndexFunc(list, func(t Template) bool { return t.Name == name }); i >= 0 {
		return list[i], nil
	}
	names := make([]string, len(list))
	for i, t := range list {
		names[i] = t.Name
	}
	return Template{}, fmt.Errorf("there are no limits %q; there are %s", clip(name), strings.Join(names, ", "))
}

// limits are those of a service: its own over those that are ready-made.
func (s Service) limits() ServiceLimits {
	l := s.Limits
	if t, err := LimitsLike(s.Like); err == nil {
		if !l.Loss.Given {
			l.Loss = t.Limits.Loss
		}
		if l.Delay == 0 {
			l.Delay = t.Limits.Delay
		}
		if l.Variation == 0 {
			l.Variation = t.Limits.Variation
		}
		if !l.Availability.Given {
			l.Availability = t.Limits.Availability
		}
	}
	return l
}
