package document

import (
	"fmt"

	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
)

// State is a path's state by mark and word.
func State(state string) string {
	switch state {
	case "degraded":
		return Changed("◆ degraded")
	case "lost":
		return Lost("⊖ lost")
	case "unmeasured":
		return Faint("◌ unmeasured")
	}
	return "● steady"
}

var measureNames = map[string]string{"rtt": "RTT", "rtt_ms": "RTT", "delay_there": "delay there", "delay_back": "delay back", "jitter_there": "jitter there", "jitter_back": "jitter back", "loss_there": "loss there",
	"loss_back": "loss back", "mos": "MOS", "throughput_there": "throughput there", "throughput_back": "throughput back", "resolve": "name resolution", "answering": "addresses answering", "loss_ratio": "loss", "delay_ms": "delay",
	"jitter_ms": "jitter", "spread_ms": "spread", "variation_ms": "variation", "there_bps": "throughput there", "back_bps": "throughput back", "availability_ratio": "availability"}

// MeasureName is what a measure, by its key, is called.
func MeasureName(key string) string {
	if name := measureNames[key]; name != "" {
		return name
	}
	return key
}

// Amount writes a figure with its unit: ms, ratio, bps, mos or a count.
func Amount(unit string, v float64) string {
	switch unit {
	case "ms":
		return figure.FormatMs(v)
	case "ratio":
		return figure.FormatRatio(v)
	case "bps":
		return capacity.Rate(v).String()
	case "mos":
		return fmt.Sprintf("%.2f", v)
	}
	return fmt.Sprintf("%.0f", v)
}
