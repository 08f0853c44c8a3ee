package cli

import (
	"fmt"
	"regexp"
	"time"

	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/network/world/schedule"
)

var hourOnly = regexp.MustCompile(`^\d{1,2}:\d{2}$`)

// momentOf reads when something is to be measured in a simulated network: an hour of today, such as
// 17:00, or an instant as its file has them, such as day-1 14:30.
func momentOf(text string, now time.Time, zone *time.Location) (time.Time, error) {
	if hourOnly.MatchString(text) {
		text = "day-0 " + text
	}
	t, err := schedule.Instant(text, now, zone)
	if err != nil {
		return t, wrongCall("-moment %q is neither an hour such as 17:00 nor an instant such as 'day-1 14:30': %v", short(text), err)
	}
	return t, nil
}

// momentHost is a host of a simulated network as that is at a moment. What measures from one end does
// so in virtual time, at once. Two ends move in real time, as transport protocols do: there it is the
// hour, by a time zone in which it is that now.
func momentHost(file, from, moment string, twoEnds bool) (*live.Host, error) {
	now, local := time.Now(), time.Local
	at, err := momentOf(moment, now, local)
	if err != nil {
		return nil, err
	}
	data, err := worldFile(file)
	if err != nil {
		return nil, exit{exitWrongCall, err}
	}
	if twoEnds && !hourOnly.MatchString(moment) {
		return nil, wrongCall("-moment %q: two ends measure in real time, and can do so at an hour of today only, such as 17:00", short(moment))
	}
	if twoEnds {
		_, offset := now.In(local).Zone()
		local = time.FixedZone("that hour", offset+int(at.Sub(now).Round(time.Second).Seconds()))
	}
	// What a file has so long after its start begins with the measurement.
	reference := now
	if hourOnly.MatchString(moment) && !twoEnds {
		reference = at
	}
	m, err := world.Read(data, world.Options{Zone: local, Reference: reference})
	if err != nil {
		return nil, exit{exitWrongCall, fmt.Errorf("%s: %w", file, err)}
	}
	moving := live.New(m)
	if !twoEnds {
		moving = live.Virtual(m, at)
	}
	h, err := moving.At(from)
	if err != nil {
		return nil, exit{exitWrongCall, err}
	}
	return h, nil
}
