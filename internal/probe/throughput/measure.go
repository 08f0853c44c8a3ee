package throughput

import (
	"context"
	"fmt"
	"strings"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/internal/probe/bulk"
	"woodlark.example/internal/probe/nearend"
)

// Heard is told how far it is: which run of how many, and the run's progress.
type Heard func(step string, p nearend.Progress)

// measurement is one that is going on.
type measurement struct {
	o       nearend.Options
	r       Request
	heard   Heard
	report  finding.ThroughputReport
	rates   [2][]capacity.Rate // there and back, of all runs
	last    [2]*finding.ThroughputDirection
	started time.Time
}

// Measure carries out a request and reports what was found. What broke off is reported
// with its reason; the error is for what could not be measured at all.
func Measure(ctx context.Context, o nearend.Options, r Request, heard Heard) (finding.ThroughputReport, error) {
	if err := r.complete(); err != nil {
		return finding.ThroughputReport{}, err
	}
	if heard == nil {
		heard = func(string, nearend.Progress) {}
	}
	r.Family = 4
	if o.To.Addr().Is6() {
		r.Family = 6
	}
	m := &measurement{o: o, r: r, heard: heard, started: o.Network.Clock().Now()}
	m.report = finding.ThroughputReport{Target: r.Target, Address: o.To.String(), From: o.End.Name, Protocol: string(r.Protocol), StartedAt: m.started.UTC(), Complete: true,
		Directions: []finding.ThroughputDirection{}, Repeats: []finding.ThroughputRepeat{}, Findings: []finding.Finding{}}
	m.report.Conditions = finding.ThroughputConditions{Streams: r.Streams, AtOnce: r.Direction == Both, For: r.For.Seconds(), WarmUp: r.WarmUp.Seconds(), WindowBytes: r.Window,
		DSCP: int(r.DSCP), NearSystem: o.End.System, NearVersion: o.End.Version}
	if r.Protocol == capacity.UDP {
		m.report.Conditions.PacketBytes = r.Size
	}
	if r.Short {
		m.note(fmt.Sprintf("In %v there is no time to leave a warm-up out: the rate has that in which TCP finds it. Measure for more than %v, or say -warm-up.", r.For, 2*DefaultWarmUp))
	}
	if r.Yardstick {
		m.yardstick(ctx)
	}
	err := m.runAll(ctx)
	if err != nil && len(m.rates[0])+len(m.rates[1]) == 0 && m.last[0] == nil && m.last[1] == nil {
		return m.report, err
	}
	if err != nil {
		m.report.Complete, m.report.Problem = false, err.Error()
	}
	m.finish(ctx)
	return m.report, nil
}

// note adds a remark, once.
func (m *measurement) note(text string) {
	if !strings.Contains(m.report.Note, text) {
		m.report.Note = strings.TrimSpace(m.report.Note + " " + text)
	}
}

// ways are the runs of one repeat.
func (r Request) ways() []Direction {
	if r.Direction == Each {
		return []Direction{There, Back}
	}
	return []Direction{r.Direction}
}

func (m *measurement) runAll(ctx context.Context) error {
	for n := range m.r.Repeats {
		for _, way := range m.r.ways() {
			step := string(way)
			if m.r.Repeats > 1 {
				step = fmt.Sprintf("%s, %d of %d", way, n+1, m.r.Repeats)
			}
			rate := m.r.Rate
			if m.r.Search {
				found, err := m.search(ctx, way)
				if err != nil {
					return err
				}
				rate = found
			}
			if err := m.run(ctx, way, rate, step); err != nil {
				return err
			}
		}
	}
	return nil
}

// run is one run of one direction, or of both at once.
func (m *measurement) run(ctx context.Context, way Direction, rate capacity.Rate, step string) error {
	order, err := m.r.order(way, rate, m.r.For)
	if err != nil {
		return err
	}
	run, err := nearend.Open(ctx, m.o, order)
	if err != nil {
		return err
	}
	o, err := run.Run(ctx, func(p nearend.Progress) { m.heard(step, p) })
	if err != nil {
		return err
	}
	if o.Far.Name == "" || o.Far.Name == o.Near.Name {
		o.Far.Name = m.r.Target
	}
	m.report.To = o.Far.Name
	m.report.Conditions.FarSystem, m.report.Conditions.FarVersion = o.Far.System, o.Far.Version
	if o.NoUDP != "" {
		m.note("There is no round trip under load: " + o.NoUDP)
	}
	for i, there := range []bool{true, false} {
		if way == There && !there || way == Back && there {
			continue
		}
		d := m.direction(o, there)
		if m.r.Protocol == capacity.UDP {
			offered := float64(rate)
			m.report.Conditions.OfferedBps = &offered
		}
		if before := m.last[i]; before != nil {
			d.Tried = before.Tried
		}
		m.last[i] = &d
		m.report.Repeats = append(m.report.Repeats, finding.ThroughputRepeat{Direction: d.Direction, StartedAt: o.Started.UTC().Format(time.RFC3339Nano), Bps: d.ReceivedBps, LossRatio: d.LossRatio})
		if d.ReceivedBps != nil && o.Complete {
			m.rates[i] = append(m.rates[i], capacity.Rate(*d.ReceivedBps))
		}
	}
	if !o.Complete {
		return fmt.Errorf("%s", o.Problem)
	}
	return nil
}

// direction is what both ends noted of a direction.
func (m *measurement) direction(o nearend.Outcome, there bool) finding.ThroughputDirection {
	d := finding.ThroughputDirection{From: o.Near.Name, To: o.Far.Name, There: there, RTTRestMs: figure.Ms(nearend.MedianOf(o.Rest)), RTTLoadMs: figure.Ms(nearend.MedianOf(o.Load)),
		Tried: []finding.ThroughputTry{}, Spans: []finding.ThroughputSpan{}}
	if !there {
		d.From, d.To = d.To, d.From
	}
	d.Direction = d.From + " → " + d.To
	if m.r.Protocol == capacity.TCP {
		t := o.TCPThere
		if !there {
			t = o.TCPBack
		}
		m.ofTCP(&d, t, o)
	} else {
		m.ofUDP(&d, o, there)
	}
	return d
}

func bps(r figure.Opt[capacity.Rate]) *float64 {
	v, ok := r.Get()
	if !ok {
		return nil
	}
	f := float64(v)
	return &f
}

func (m *measurement) ofTCP(d *finding.ThroughputDirection, t nearend.Transfer, o nearend.Outcome) {
	if t.Sent != nil {
		d.SentBytes = t.Sent.Left
		d.SentBps = bps(capacity.Of(t.Sent.Left, t.Sent.Seconds))
	}
	for _, x := range []*bulk.Report{t.Sent, t.Received} {
		if x != nil && x.Problem != "" && o.Complete {
			m.note("A stream ended before its time: " + x.Problem)
		}
	}
	if t.Received == nil { // the far end's notes did not come over
		return
	}
	r := t.Received
	d.ReceivedBytes, d.WholeBps = r.Bytes, bps(capacity.Of(r.Bytes, r.Seconds))
	warm := m.r.WarmUp.Seconds()
	if !o.Complete && warm > 0 && r.First+r.Seconds < warm+1 {
		warm = 0
		m.note("It was stopped before the warm-up had passed: the rate is that of all of it.")
	}
	var bytes int64
	busyTo, busyFrom := 0.0, 0.0
	var counted, told int
	for i, x := range r.Intervals {
		v := finding.ThroughputSpan{Start: x.Start, Length: x.Seconds, ReceivedBytes: x.Bytes, CPUTo: x.Machine, WarmUp: x.Start+0.5 < warm}
		v.ReceivedBps = float64(x.Bytes) * 8 / x.Seconds
		if t.Sent != nil && i < len(t.Sent.Intervals) {
			s := t.Sent.Intervals[i]
			v.SentBytes, v.Resent, v.RTTMs, v.WindowBytes, v.CPUFrom = &s.Bytes, s.Retransmits, s.RTTMs, s.Window, s.Machine
		}
		d.Spans = append(d.Spans, v)
		if v.WarmUp {
			continue
		}
		bytes += x.Bytes
		if v.CPUTo != nil && v.CPUFrom != nil {
			busyTo, busyFrom, told = busyTo+*v.CPUTo, busyFrom+*v.CPUFrom, told+1
		}
		counted++
	}
	// The last interval may be short: the receiver's own time is from the end of the
	// warm-up to its last byte.
	d.Span = r.Seconds
	if counted > 0 && counted < len(d.Spans) {
		d.Span = r.First + r.Seconds - d.Spans[len(d.Spans)-counted].Start
	} else {
		bytes = r.Bytes
	}
	d.ReceivedBps = bps(capacity.Of(bytes, d.Span))
	if told > 0 {
		from, to := busyFrom/float64(told), busyTo/float64(told)
		d.BusyNear, d.BusyFar = &from, &to
		if !d.There {
			d.BusyNear, d.BusyFar = &to, &from
		}
	}
	if t.Sent != nil {
		d.BusiestNear, d.BusiestFar = &t.Sent.Busiest, &r.Busiest
		if !d.There {
			d.BusiestNear, d.BusiestFar = d.BusiestFar, d.BusiestNear
		}
	}
	m.ofSender(d, t, o)
}

// ofSender is what the sender's stack told.
func (m *measurement) ofSender(d *finding.ThroughputDirection, t nearend.Transfer, o nearend.Outcome) {
	s := t.Sent
	if s == nil || !s.Told {
		return
	}
	d.Segments, d.Resent = &s.Segments, &s.Again
	if s.Timed {
		d.ByReceiver, d.ByBuffer = &s.ByReceiver, &s.ByBuffer
	}
	m.report.Conditions.Congestion = s.Congestion
	framing := capacity.Framing{Family: m.r.Family, Transport: capacity.TCP, Payload: s.Segment, Options: 12}
	m.layers(d, framing)
	var mean figure.Duration
	var sum time.Duration
	for _, x := range o.Load {
		sum += x
	}
	if len(o.Load) > 0 {
		mean = figure.Of(sum / time.Duration(len(o.Load)))
	}
	least := figure.Duration{}
	for _, x := range o.Rest {
		if v, ok := least.Get(); !ok || x < v {
			least = figure.Of(x)
		}
	}
	f := capacity.FrameworkOf(capacity.Transfer{Took: time.Duration(t.Received.Seconds * 1e9), Bytes: t.Received.Bytes, Segment: s.Segment, Family: m.r.Family, Segments: s.Segments,
		Retransmits: s.Again, LeastRTT: least, MeanRTT: mean, Bottleneck: m.r.Line})
	d.TransferRatio, d.Efficiency, d.BufferDelay = plain(f.TransferRatio), plain(f.Efficiency), plain(f.BufferDelay)
}

func plain(n figure.Number) *float64 {
	v, ok := n.Get()
	if !ok {
		return nil
	}
	return &v
}

func (m *measurement) layers(d *finding.ThroughputDirection, f capacity.Framing) {
	if d.ReceivedBps == nil {
		return
	}
	at := func(l capacity.Layer) *float64 {
		r, ok := f.At(capacity.Rate(*d.ReceivedBps), l)
		if !ok {
			return nil
		}
		v := float64(r)
		return &v
	}
	d.IPBps, d.FrameBps, d.LineBps = at(capacity.IP), at(capacity.Frame), at(capacity.Line)
}

// yardstick is what each end reaches within itself.
func (m *measurement) yardstick(ctx context.Context) {
	m.heard("yardstick", nearend.Progress{Length: yardstickFor})
	y := &finding.YardstickReport{}
	if r, err := bulk.Loopback(ctx, m.r.Streams, yardstickFor); err == nil {
		y.NearBps = &r
	}
	if r, err := nearend.Yardstick(ctx, m.o, m.r.Streams, yardstickFor); err == nil {
		y.FarBps = &r
	}
	m.report.Yardstick = y
}

const yardstickFor = 2 * time.Second
