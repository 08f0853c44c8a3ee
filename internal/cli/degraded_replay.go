package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/internal/replay"
	"woodlark.example/internal/report"
)

// replayOptions say what is judged again.
type replayOptions struct {
	readings, routes, zone string
	holidays               string
	tolerances             baseline.Tolerances
}

func (o *replayOptions) register(c *call) {
	o.tolerances = baseline.Tolerances{}
	c.flags.StringVar(&o.readings, "replay", "", "judge the readings of a file instead (NDJSON, as 'results -format ndjson' writes; - is standard input), without a service")
	c.flags.StringVar(&o.routes, "routes", "", "of -replay: a file of routes (NDJSON: from, to, family, at, hops)")
	c.flags.StringVar(&o.zone, "zone", "", "of -replay: time zone whose hours count, such as Europe/Oslo; this machine's when left out")
	c.flags.StringVar(&o.holidays, "holidays", "", "of -replay: days off beside Saturdays and Sundays, such as 2026-12-25,2026-12-26")
	c.again = append(c.again, "tolerance")
	c.flags.Func("tolerance", "of -replay: what of a measure is not worth caring about, such as rtt=2ms,10% or loss=0.5%; may be given again", func(s string) error {
		m, t, err := baseline.ParseTolerance(s)
		if err == nil {
			o.tolerances[m] = t
		}
		return err
	})
}

// asked reports which options of a replay were given without one.
func (o *replayOptions) asked() string {
	switch {
	case o.routes != "":
		return "-routes"
	case o.zone != "":
		return "-zone"
	case o.holidays != "":
		return "-holidays"
	case len(o.tolerances) > 0:
		return "-tolerance"
	}
	return ""
}

func (o *replayOptions) run(c *call) error {
	options := replay.Options{Zone: zone(), Tolerances: o.tolerances}
	if o.zone != "" {
		z, err := time.LoadLocation(o.zone)
		if err != nil {
			return wrongCall("-zone %q is not a time zone; write one such as Europe/Oslo or UTC", short(o.zone))
		}
		options.Zone = z
	}
	if o.holidays != "" {
		for _, s := range strings.Split(o.holidays, ",") {
			day, err := time.ParseInLocation(time.DateOnly, strings.TrimSpace(s), options.Zone)
			if err != nil {
				return wrongCall("-holidays %q: write days such as 2026-12-25, with commas between", short(s))
			}
			options.Holidays = append(options.Holidays, day)
		}
	}
	in := replay.Input{ReadingsName: o.readings, RoutesName: o.routes}
	readings, err := openInput(c, o.readings)
	if err != nil {
		return err
	}
	defer readings.Close()
	in.Readings = readings
	if o.routes != "" {
		if o.routes == "-" && o.readings == "-" {
			return wrongCall("-replay and -routes cannot both be standard input")
		}
		routes, err := openInput(c, o.routes)
		if err != nil {
			return err
		}
		defer routes.Close()
		in.Routes = routes
	}
	out, err := replay.Run(in, options)
	switch {
	case errors.Is(err, replay.ErrInput):
		return wrongCall("%v", err)
	case err != nil:
		return err
	}
	if len(out.Unknown) > 0 {
		fmt.Fprintf(c.err, "not judged, because these keys are not known or say too little: %s\n", strings.Join(out.Unknown, ", "))
	}
	err = c.write(out, report.Replay(out, options.Zone))
	if err == nil && len(out.Episodes) > 0 {
		return exit{status: exitNotGood}
	}
	return err
}

// openInput opens a file, or standard input for -.
func openInput(c *call, name string) (io.ReadCloser, error) {
	if name == "-" {
		return io.NopCloser(c.in), nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, wrongCall("%v", err)
	}
	return f, nil
}
