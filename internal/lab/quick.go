package lab

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// The two hosts of a link that is described in one line.
const (
	Near = "near.example"
	Far  = "far.example"
)

var (
	quickRate  = regexp.MustCompile(`^[0-9.]+ ?[kMG]?bit/s$`)
	quickDelay = regexp.MustCompile(`^([0-9.]+ ?(?:ns|us|µs|ms|s))(?: ?(?:±|\+-|\+/-) ?([0-9.]+ ?(?:ns|us|µs|ms|s)))?$`)
	quickLoss  = regexp.MustCompile(`^[0-9.]+ ?%$`)
	quickWord  = regexp.MustCompile(`^([a-z_]+) +(.+)$`)
)

// quickKeys are the properties that may be named.
var quickKeys = map[string]bool{"loss": true, "variation": true, "queue": true, "policer": true, "load": true, "duplicates": true,
	"reorders": true, "order": true, "mtu": true, "too_big": true, "rate": true, "delay": true}

// QuickWorld is the file of a world with one link between two hosts, described
// like "6Mbit/s, 40ms ±5ms, 0.5%": rate, delay one way with the most that it
// varies to either side, loss; further properties by name, such as "queue 200ms"
// or "mtu 1400". back describes the way back; as the way there when empty.
func QuickWorld(there, back string) (string, error) {
	first, err := quickLink(there)
	if err != nil {
		return "", err
	}
	second := first
	if back != "" {
		if second, err = quickLink(back); err != nil {
			return "", fmt.Errorf("the way back: %w", err)
		}
	}
	return fmt.Sprintf(`world: one link
nodes:
  - {name: %s, aliases: [near], addresses: [192.0.2.1, "2001:db8:1::1"]}
  - {name: %s, aliases: [far], addresses: [198.51.100.1, "2001:db8:2::1"]}
links:
  - between: [%s, %s]
    toward:
      %s: {%s}
      %s: {%s}
`, Near, Far, Near, Far, Far, first, Near, second), nil
}

func quickLink(text string) (string, error) {
	var parts []string
	given := map[string]bool{}
	set := func(key, value string) error {
		if given[key] {
			return fmt.Errorf("link %q gives %s twice", text, key)
		}
		given[key] = true
		if key != "mtu" {
			value = strconv.Quote(value)
		}
		parts = append(parts, key+": "+value)
		return nil
	}
	for _, item := range strings.Split(text, ",") {
		item = strings.TrimSpace(item)
		var err error
		switch {
		case quickRate.MatchString(item):
			err = set("rate", item)
		case quickLoss.MatchString(item):
			err = set("loss", item)
		case quickDelay.MatchString(item):
			m := quickDelay.FindStringSubmatch(item)
			if err = set("delay", m[1]); err == nil && m[2] != "" {
				err = set("variation", "uniform "+strings.ReplaceAll(m[2], " ", ""))
			}
		default:
			m := quickWord.FindStringSubmatch(item)
			if m == nil || !quickKeys[m[1]] {
				return "", fmt.Errorf("link %q: %q is neither a rate (6Mbit/s), a delay (40ms ±5ms), a loss (0.5%%) nor a property by name (queue 200ms, mtu 1400, …)", text, item)
			}
			err = set(m[1], m[2])
		}
		if err != nil {
			return "", err
		}
	}
	return strings.Join(parts, ", "), nil
}
