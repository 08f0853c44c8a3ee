package protocol

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// Version is that of what an agent and its service say to each other; both name it in each
// call.
//
//   - 1, of releases that do not name it: plans have tasks of paths, and sweeps and traces of
//     their own; kinds of probes are numbers.
//   - 2: plans have tasks of paths that are measured without a pause, and what is made again and
//     again of any kind; what was made is uploaded in one form; kinds of probes are text.
//   - 3: what is in plans has times: expressions, hours, a begin and an end.
//   - 4: plans have programs whose conversations are followed, and uploads those.
const Version = 4

// VersionHeader is the header that names it.
const VersionHeader = "Woodlark-Protocol"

// SpeaksHeader is the header of the held connection that says how often the service speaks at least,
// in seconds. One that says nothing speaks each twenty.
const SpeaksHeader = "Woodlark-Speaks"

// ParseVersion reads what the header says; an empty one is of version 1.
func ParseVersion(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return 1
	}
	return n
}

// For is a plan as an agent of a version understands it, and what of it such an agent does not
// make.
func (p Plan) For(version int) (plan any, lacks []string) {
	if version > 3 {
		return p, nil
	}
	if len(p.Follow) > 0 {
		lacks = []string{"conversations of programs"}
	}
	p.Follow = nil
	p.Tasks = slices.DeleteFunc(slices.Clone(p.Tasks), func(t Task) bool { return len(t.Talks) > 0 })
	if version > 2 {
		return p, lacks
	}
	timed := func(is bool) bool {
		if text := "what has times: cron expressions, hours, a begin or an end"; is && !slices.Contains(lacks, text) {
			lacks = append(lacks, text)
		}
		return is
	}
	q := p
	q.Tasks = slices.DeleteFunc(slices.Clone(p.Tasks), func(t Task) bool { return timed(len(t.Times) > 0) })
	q.Standing = slices.DeleteFunc(slices.Clone(p.Standing), func(t Standing) bool { return timed(!t.Times.IsZero()) })
	if version > 1 {
		return q, lacks
	}
	plan, more := q.first()
	return plan, append(lacks, more...)
}

// Whole reports whether an agent of a version makes all of a plan.
func (p Plan) Whole(version int) bool {
	_, lacks := p.For(version)
	return len(lacks) == 0
}

// firstPlan is a plan of version 1.
type firstPlan struct {
	Tasks  []firstTask `json:"tasks"`
	Sweeps []struct{}  `json:"sweeps"`
	Traces []struct{}  `json:"traces"`
}

type firstTask struct {
	Watch    ident.ID
	Path     ident.ID
	Target   string
	Family   wire.Family
	Via      struct{ Kind, Port int }
	Every    time.Duration
	Probes   int
	Interval time.Duration
	Wait     time.Duration
	Payload  int
	DSCP     uint8
	Phase    time.Duration
}

// first is a plan as an agent of version 1 understands it, and what of it such an agent does
// not make.
func (p Plan) first() (plan any, lacks []string) {
	first := firstPlan{Tasks: []firstTask{}, Sweeps: []struct{}{}, Traces: []struct{}{}}
	lack := func(format string, args ...any) {
		if text := fmt.Sprintf(format, args...); !slices.Contains(lacks, text) {
			lacks = append(lacks, text)
		}
	}
	for _, t := range p.Tasks {
		if t.Poisson || t.Out != (Out{}) {
			lack("pings at random times, or by an interface, source, TTL or key of their own")
			continue
		}
		first.Tasks = append(first.Tasks, firstTask{t.Watch, t.Path, t.Target, t.Family, firstVia(t.Via), t.Every, t.Probes, t.Interval, t.Wait, t.Payload, t.DSCP, t.Phase})
	}
	for _, s := range p.Standing {
		if s.Away {
			lack("a %s while the service is away", s.Order.Kind)
			continue
		}
		tasks, ok := s.first()
		if !ok {
			lack("a %s again and again", s.Order.Kind)
			continue
		}
		first.Tasks = append(first.Tasks, tasks...)
	}
	return first, lacks
}

// first are the tasks of a measurement of paths that is made again and again; false for others.
func (s Standing) first() (list []firstTask, ok bool) {
	k, err := kind.Find(s.Order.Kind)
	if err != nil || !k.Paths {
		return nil, false
	}
	spec, err := k.Decode(kind.Standing, s.Order.Spec)
	if err != nil {
		return nil, false
	}
	how, ok := spec.(interface {
		Endless() kind.Endless
		Count() int
	})
	if !ok {
		return nil, false
	}
	e := how.Endless()
	own := e.Out // beside its service class, which such an agent knows
	own.DSCP = 0
	if e.Poisson || e.StampKey != "" || own != (network.SocketOptions{}) || how.Count() < 1 {
		return nil, false
	}
	for _, l := range s.Order.Lanes {
		via, err := reading.ParseVia(l.Lane.Via)
		if err != nil {
			return nil, false
		}
		list = append(list, firstTask{s.Order.Watch, l.Path, l.Lane.Target, l.Lane.Family, firstVia(via), s.Every, how.Count(), e.Interval, e.Wait, e.Payload, e.Out.DSCP, s.Phase})
	}
	return list, true
}

func firstVia(v reading.Via) (n struct{ Kind, Port int }) {
	n.Kind, n.Port = int(v.Kind), int(v.Port)
	return n
}
