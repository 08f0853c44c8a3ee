// Package accept is the kind of measurement that decides whether a circuit carries what was
// bought: by frame size (RFC 2544) and by service (ITU-T Y.1564).
package accept

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/acceptance"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/trial"
)

// Spec says what to test: a plan, what goes over what it says, or both.
type Spec struct {
	Plan         Plan        `json:"plan" help:"FILE of a plan (YAML or JSON); the other options go over what it says"`
	Rate         Ways        `json:"up_to" help:"test by frame size, up to this rate: 100M, \"there 100M back 20M\", 1488fps, or 95% of -line-rate"`
	Sizes        kind.List   `json:"frame_bytes" flag:"sizes" help:"of tests by frame size: bytes with FCS (default those of RFC 2544)"`
	Tests        kind.List   `json:"tests" help:"which: by frame size throughput, latency, frame-loss, back-to-back; of services configuration, performance (default all)"`
	Service      string      `json:"service_name" flag:"name" help:"name of a service to test (default service, with -cir)"`
	CIR          Ways        `json:"cir" help:"test a service with this committed information rate"`
	EIR          Ways        `json:"eir" help:"excess information rate of the service"`
	CBS          int         `json:"cbs_bytes" flag:"cbs" help:"committed burst size of the service, in bytes"`
	EBS          int         `json:"ebs_bytes" flag:"ebs" help:"excess burst size of the service, in bytes"`
	Frames       string      `json:"frames" help:"frames of the service: 512, 64,512,1518, emix:abceg or random:64-1518 (default 512)"`
	DSCP         kind.Class  `json:"dscp" help:"service class of the service's frames, by name such as EF or by number"`
	Line         Ways        `json:"line_rate" help:"rate of the line in bit/s, which percents are of"`
	Layer        string      `json:"layer" enum:"payload,ip,frame,line" help:"what rates in bit/s are of: payload, ip, frame (with FCS) or line (default frame)"`
	Direction    string      `json:"direction" enum:"both,each,there,back" help:"both (at once), each (one after the other), there or back (default both)"`
	Returned     bool        `json:"returned" help:"the far end sends each frame back: the round trip only"`
	For          kind.Span   `json:"for" help:"how long a trial or a step is (default 10s)"`
	Steps        kind.List   `json:"steps" help:"of services: the steps, in parts of CIR (default 25%,50%,75%,100%)"`
	FirstLook    bool        `json:"first_look" help:"look first at both links and at the highest rate, and end where the rest would be wasted"`
	HostCheck    bool        `json:"host_check" help:"measure first what this host can send and receive by itself"`
	Trials       int         `json:"trials" help:"of tests by frame size: how often each is made"`
	Performance  kind.Span   `json:"performance" help:"how long all services are sent at once (default 15m)"`
	Wait         kind.Span   `json:"wait" help:"how long is rested between trials (default 5s)"`
	AtLeast      Ways        `json:"throughput_limit" flag:"at-least" help:"throughput that each frame size is held to"`
	Delay        kind.Span   `json:"delay_limit" flag:"delay" help:"mean one-way delay that it is held to"`
	Variation    kind.Span   `json:"variation_limit" flag:"variation" help:"delay variation that it is held to (99.9 % quantile less the least)"`
	Loss         Share       `json:"loss_limit" help:"frame loss ratio that it is held to: 0.1% or 0.001"`
	Like         string      `json:"limits_like" help:"limits of the service that are ready-made, such as y1541-0 or mef-metro-high"`
	OutOfService bool        `json:"out_of_service" help:"the circuit carries nothing else now: tests by frame size fill it (RFC 6815)"`
	Over         string      `json:"over" enum:"ip,ethernet" help:"what carries the frames: ip (UDP), or ethernet: frames on a link that both ends share, without IP (default ip)"`
	Interface    string      `json:"interface" help:"of frames on a link: to send by, of the host that measures"`
	Station      string      `json:"far_hardware" flag:"hardware" help:"of frames on a link: hardware address of the far end (default: found by asking on the link)"`
	VLANs        kind.List   `json:"vlans" flag:"vlan" help:"of frames on a link: VLANs, the outermost first, each with its priority: 100, 100/5, 802.1ad:200/3,100 (over IP: tags that the circuit adds)"`
	Labels       kind.List   `json:"mpls_labels" flag:"labels" help:"of frames on a link: labels of MPLS, the outermost first (over IP: those that the circuit adds)"`
	Family       kind.Family `json:"family" enum:"4,6" help:"4 or 6, of a far end that is a name (default 4, else 6)"`
	Source       kind.Addr   `json:"source" help:"address to send from, of the host that measures"`
}

// Kind is this kind.
var Kind = kind.Register(&kind.Kind{
	Name: "accept", Version: 1, Rank: 7, Summary: "acceptance tests of a circuit, by frame size (RFC 2544) and by service (ITU-T Y.1564)",
	Earlier: "two-ended", News: "two-ended",
	Usage: "TARGET[:PORT]",
	Example: "woodlark accept estimate -up-to 100M -for 10s gannet\n" +
		"woodlark accept -world learn:new-fast-line -from desk.northquay.example -up-to 100M -sizes 512,1518 -tests throughput,latency -for 2s -wait 200ms terminal.holm.example\n" +
		"woodlark accept -key-file key -plan gannet.yaml 192.0.2.7:7474\n" +
		"woodlark accept -key-file key -cir 8M -eir 2M -limits-like mef-metro-high -performance 15m 192.0.2.7",
	Help: "At the target an agent or 'woodlark respond' must stand. Tests by frame size find, for each\n" +
		"size, the throughput, the latency at it, the loss from the highest rate down, and the longest\n" +
		"burst; they fill the circuit, which must carry nothing else then. Tests by service send what\n" +
		"was bought, in steps and then for long, and hold it to its limits. Each limit is passed,\n" +
		"missed, or could not be told. 'accept estimate' says beforehand how long it takes and how\n" +
		"much it sends. What this host itself cannot do is told apart. -resume goes on with a test\n" +
		"that was cut, from what -format json wrote of it.",
	Says: says,
	New: func(kind.Occasion) kind.Spec {
		return &Spec{FirstLook: true, HostCheck: true}
	},
	Lanes:  func(kind.Spec) kind.Rule { return kind.Rule{} },
	Target: func(_ kind.Spec, t string) error { return kind.CheckEnd(t) },
	One:    true, TwoEnds: true, Load: true, Least: time.Hour, Resumes: true,
	Limit: func(s kind.Spec, _ int) time.Duration {
		p, err := s.(*Spec).plan()
		if err != nil {
			return time.Hour
		}
		return acceptance.EstimateOf(p, nil).Most.D()*3/2 + 10*time.Minute
	},
	Cost: func(s kind.Spec, targets []string) kind.Cost {
		p, err := s.(*Spec).plan()
		if err != nil {
			return kind.Cost{}
		}
		e := acceptance.EstimateOf(p, nil)
		return kind.Cost{Bytes: float64(e.MostThere+e.MostBack) * float64(len(targets))}
	},
	Watch: func(s kind.Spec, _ []string, repeat time.Duration) error { return s.(*Spec).standing(repeat) },
	Guest: func(s kind.Spec) kind.Guest {
		p, err := s.(*Spec).plan()
		if err != nil {
			return kind.Guest{}
		}
		session, rate := trial.Guest(p)
		return kind.Guest{Session: session, Rate: rate, Whole: acceptance.EstimateOf(p, nil).Most.D()*3/2 + 10*time.Minute}
	},
	Disturbs: func(s kind.Spec) string { return s.(*Spec).disturbs() },
	Estimate: estimate, Schema: acceptance.Schema,
	Run: run, Result: func() any { return &Result{} }, More: func() any { return &Told{} }, Document: read, JSON: kind.OneAlone, Good: good,
})

// disturbs says why it is not made on a path that a watch measures, and what to do; empty where it
// may be.
func (s *Spec) disturbs() string {
	p, err := s.plan()
	if err != nil || p.BySize == nil || s.OutOfService {
		return ""
	}
	return "tests by frame size fill a circuit until frames are lost, and belong on one that is out of service (RFC 6815): say so with -out-of-service, or test the service that was bought with -cir"
}

func (s *Spec) standing(repeat time.Duration) error {
	var c kind.Checks
	p, err := s.plan()
	if err != nil {
		return err
	}
	c.Must(p.BySize == nil, "up_to", "tests by frame size fill the circuit (RFC 6815): a standing one is of services")
	whole := acceptance.EstimateOf(p, nil).Most.D()
	c.Must(whole <= repeat/2, "plan", "takes %v, which is more than half of every %v", whole.Round(time.Second), repeat)
	return c.Err()
}

// Check says what is wrong with it.
func (s *Spec) Check() error {
	var c kind.Checks
	p, err := s.plan()
	if err != nil {
		return err
	}
	for _, w := range p.Check() {
		c.Wrong(s.field(w.Place), "%s", s.said(w))
	}
	return c.Err()
}

// places are the options that say what stands at places of a plan.
var places = map[string]string{"by_size.most": "up_to", "by_size.limits.throughput": "throughput_limit", "line": "line_rate", "over": "over", "ethernet": "over", "ethernet.interface": "interface", "ethernet.to": "far_hardware", "ethernet.tags": "vlans", "ethernet.mpls_labels": "mpls_labels", "layer": "layer", "direction": "direction", "wait": "wait",
	"by_service.services[0].cir": "cir", "by_service.services[0].eir": "eir", "by_service.services[0].frames": "frames", "by_service.services[0].limits_like": "limits_like",
	"by_service.services[0].cbs_bytes": "cbs_bytes", "by_service.services[0].ebs_bytes": "ebs_bytes", "by_service.configuration.step_for": "for", "by_size.throughput.for": "for",
	"by_service.performance.for": "performance", "by_size.throughput.trials": "trials", "by_size.latency.trials": "trials"}

// field is which field of the spec a place of the plan comes from.
func (s *Spec) field(place string) string {
	if s.Plan.IsZero() {
		if f := places[place]; f != "" {
			return f
		}
		for prefix, f := range map[string]string{"by_size.sizes": "frame_bytes", "ethernet.tags": "vlans", "ethernet.mpls_labels": "mpls_labels"} {
			if strings.HasPrefix(place, prefix) {
				return f
			}
		}
	}
	return "plan"
}

// said is what is wrong there, with the place where the field does not name it.
func (s *Spec) said(w acceptance.Wrong) string {
	if s.field(w.Place) != "plan" {
		return w.Says
	}
	if n := s.Plan.line(w.Place); n > 0 {
		return fmt.Sprintf("line %d: %s", n, w.Error())
	}
	return w.Error()
}

// sizeTests and serviceTests are the parts of tests, as options name them.
var (
	sizeTests    = []string{"throughput", "latency", "frame-loss", "back-to-back"}
	serviceTests = []string{"configuration", "performance"}
)

// wants reports whether one of some parts is asked for by name.
func (s *Spec) wants(parts []string) bool {
	return slices.ContainsFunc(parts, func(t string) bool { return slices.Contains(s.Tests, t) })
}

// plan is what is to be done: the plan, with what goes over it.
func (s *Spec) plan() (p acceptance.Plan, err error) {
	var c kind.Checks
	p = s.Plan.copied()
	for _, t := range s.Tests {
		all := append(slices.Clone(sizeTests), serviceTests...)
		c.Must(slices.Contains(all, t), "tests", "%q is none of %s", t, strings.Join(all, ", "))
	}
	if p.BySize == nil && (!s.Rate.IsZero() || len(s.Sizes) > 0 || s.wants(sizeTests)) {
		p.BySize = &acceptance.BySize{}
	}
	if b := p.BySize; b != nil {
		s.bySize(b, &c)
	}
	if err := s.byService(&p, &c); err != nil {
		return p, err
	}
	if p.BySize == nil && p.By == nil {
		c.Wrong("", "say what to test: up_to a rate by frame size, cir as a service, or a plan of both")
		return p, c.Err()
	}
	c.Must(p.By != nil || !s.wants(serviceTests), "tests", "names a part of services: give cir, or a plan")
	if s.wants(sizeTests) != s.wants(serviceTests) && len(s.Tests) > 0 { // only what is named
		if s.wants(sizeTests) {
			p.By = nil
		} else {
			p.BySize = nil
		}
	}
	p.First.Skip, p.Host.Skip = p.First.Skip || !s.FirstLook, p.Host.Skip || !s.HostCheck
	if s.For > 0 && p.First.For == 0 {
		p.First.For = acceptance.Span(min(s.For, kind.Span(10*time.Second)))
	}
	over(&p.Line, s.Line.Ways)
	if s.Layer != "" {
		p.Layer = acceptance.Layer(s.Layer)
	}
	if s.Direction != "" {
		p.Way = acceptance.Way(s.Direction)
	}
	if s.Returned {
		p.Ends = acceptance.Returned
	}
	if s.Wait > 0 {
		p.Wait = acceptance.Span(s.Wait)
	}
	s.onLink(&p, &c)
	if s.Family != "" {
		p.Family, _ = strconv.Atoi(string(s.Family))
	}
	return p, c.Err()
}

// onLink takes what is said of frames on a link over the plan.
func (s *Spec) onLink(p *acceptance.Plan, c *kind.Checks) {
	if s.Over != "" {
		p.Over = acceptance.Over(s.Over)
	}
	if s.Interface != "" {
		p.Ethernet.Interface = s.Interface
	}
	if s.Station != "" {
		p.Ethernet.To = s.Station
	}
	if len(s.VLANs) > 0 {
		p.Ethernet.Tags = nil
		for _, text := range s.VLANs {
			t, err := tagOf(text)
			c.Must(err == nil, "vlans", "%v", err)
			p.Ethernet.Tags = append(p.Ethernet.Tags, t)
		}
	}
	if len(s.Labels) > 0 {
		p.Ethernet.Labels = nil
		for _, text := range s.Labels {
			n, err := strconv.ParseUint(text, 10, 20)
			c.Must(err == nil, "mpls_labels", "%q is no label: 0 to 1048575", text)
			p.Ethernet.Labels = append(p.Ethernet.Labels, uint32(n))
		}
	}
}

func over(at *acceptance.Ways, w acceptance.Ways) {
	if !w.IsZero() {
		*at = w
	}
}

func (s *Spec) bySize(b *acceptance.BySize, c *kind.Checks) {
	over(&b.Most, s.Rate.Ways)
	over(&b.Limits.Throughput, s.AtLeast.Ways)
	if len(s.Sizes) > 0 {
		b.Sizes = nil
		for _, text := range s.Sizes {
			n, err := strconv.Atoi(text)
			c.Must(err == nil, "frame_bytes", "%q is no number of bytes", text)
			b.Sizes = append(b.Sizes, n)
		}
	}
	if s.wants(sizeTests) {
		for name, skip := range map[string]*bool{"throughput": &b.Throughput.Skip, "latency": &b.Latency.Skip, "frame-loss": &b.Loss.Skip, "back-to-back": &b.Burst.Skip} {
			*skip = !slices.Contains(s.Tests, name)
		}
	}
	if s.For > 0 {
		d := acceptance.Span(s.For)
		b.Throughput.For, b.Latency.For, b.Loss.For = d, d, d
	}
	if s.Trials != 0 {
		b.Throughput.Trials, b.Latency.Trials, b.Burst.Trials = s.Trials, s.Trials, s.Trials
	}
	if s.Delay > 0 {
		b.Limits.Latency = acceptance.Span(s.Delay)
	}
	if s.Variation > 0 {
		b.Limits.Variation = acceptance.Span(s.Variation)
	}
	if s.Loss.Given && s.CIR.IsZero() {
		b.Limits.Loss = s.Loss.Share
	}
}

// one reports whether something of a single service is said.
func (s *Spec) one() bool {
	return !s.CIR.IsZero() || !s.EIR.IsZero() || s.Service != "" || s.CBS != 0 || s.EBS != 0 || s.Frames != "" || s.DSCP != 0 || s.Like != ""
}

func (s *Spec) byService(p *acceptance.Plan, c *kind.Checks) error {
	if s.one() {
		if p.By != nil {
			c.Wrong("", "the plan has services, and options say what one is like: change it in the plan")
			return c.Err()
		}
		x := acceptance.Service{Name: s.Service, CIR: s.CIR.Ways, EIR: s.EIR.Ways, CBS: s.CBS, EBS: s.EBS, Frames: s.Frames, DSCP: s.DSCP.String(), Like: s.Like}
		if x.Name == "" {
			x.Name = "service"
		}
		x.Limits = acceptance.ServiceLimits{Loss: s.Loss.Share, Delay: acceptance.Span(s.Delay), Variation: acceptance.Span(s.Variation)}
		p.By = &acceptance.Services{List: []acceptance.Service{x}}
	}
	if p.By == nil {
		c.Must(s.Performance == 0, "performance", "is of services: give -cir, or a plan")
		return nil
	}
	if s.For > 0 {
		p.By.Configuration.StepFor = acceptance.Span(s.For)
	}
	if s.wants(serviceTests) {
		p.By.Configuration.Skip, p.By.Performance.Skip = !slices.Contains(s.Tests, "configuration"), !slices.Contains(s.Tests, "performance")
	}
	if len(s.Steps) > 0 {
		p.By.Configuration.Steps = nil
		for _, text := range s.Steps {
			var x acceptance.Share
			err := x.UnmarshalText([]byte(text))
			c.Must(err == nil, "steps", "%v", err)
			p.By.Configuration.Steps = append(p.By.Configuration.Steps, x)
		}
	}
	if s.Performance > 0 {
		p.By.Performance.For = acceptance.Span(s.Performance)
	}
	return nil
}

// FarFamily is by which family a far end that is a name is looked for.
func (s *Spec) FarFamily() kind.Family {
	if s.Family == "" && s.Plan.Family > 0 {
		return kind.Family(strconv.Itoa(s.Plan.Family))
	}
	return s.Family
}

// FarPort is the port of a far end when none is named.
func (s *Spec) FarPort() uint16 { return kind.UsualPort }

// Told is how far a test is.
type Told struct {
	nearend.Progress
	Made   int                 `json:"trials_made"`
	Left   acceptance.Estimate `json:"left"`
	Result *acceptance.Result  `json:"result,omitempty"` // so far, told when a trial is over
}
