package acceptance

import (
	"fmt"
	"strconv"
	"strings"
)

// yellow is the mark of what is beyond CIR.
const yellow = "yellow"

// marking is how a tag marks a frame.
type marking struct {
	priority int
	drop     bool
}

// readPriority reads the priority of a tag, with drop behind it where the frame may be dropped
// first (IEEE 802.1Q §6.9.3).
func readPriority(text string) (m marking, err error) {
	first, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
	rest = strings.TrimSpace(rest)
	m.priority, err = strconv.Atoi(first)
	if err != nil || m.priority < 0 || m.priority > 7 || rest != "" && rest != "drop" {
		return m, fmt.Errorf("%q is no priority of a tag: 0 to 7, or such as \"1 drop\" where frames may be dropped first", clip(text))
	}
	m.drop = rest != ""
	return m, nil
}

// priorityOf is that of a plan that was checked.
func priorityOf(text string) (priority int, drop bool) {
	m, err := readPriority(text)
	if err != nil {
		return 0, false
	}
	return m.priority, m.drop
}
