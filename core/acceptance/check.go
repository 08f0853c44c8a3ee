package acceptance

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/dscp"
)

// Wrong is what is wrong with a place of a plan, such as by_size.sizes[2].
type Wrong struct{ Place, Says string }

// Error names the place.
func (w Wrong) Error() string { return w.Place + " " + w.Says }

// The limits of a plan.
const (
	mostServices = 16
	mostTrials   = 100
	mostFor      = 24 * time.Hour
	mostSizes    = 64
)

type checks struct{ list []Wrong }

func (c *checks) must(ok bool, place, format string, args ...any) {
	if !ok {
		c.list = append(c.list, Wrong{place, fmt.Sprintf(format, args...)})
	}
}

func (c *checks) span(s Span, most time.Duration, place string) {
	c.must(s >= 0 && s.D() <= most, place, "%v is more than %v", s.D(), most)
}

// Check says all that is wrong with a plan, in its order.
func (p Plan) Check() []Wrong {
	var c checks
	c.must(p.Over == "" || p.Over == IP || p.Over == Frame, "over", "%q is neither ip nor ethernet", clip(string(p.Over)))
	c.must(p.Family == 0 || p.Family == 4 || p.Family == 6, "family", "%d is neither 4 nor 6", p.Family)
	c.must(slices.Contains([]Way{"", Both, Each, There, Back}, p.Way), "direction", "%q is none of both, each, there, back", clip(string(p.Way)))
	c.must(slices.Contains([]Ends{"", AtBoth, Returned}, p.Ends), "ends", "%q is neither both nor returned", clip(string(p.Ends)))
	c.must(p.Ends != Returned || p.Way == "" || p.Way == There, "direction", "is not chosen when the far end returns all: each frame goes there and back")
	c.must(slices.Contains([]Layer{"", capacity.Payload, capacity.IP, capacity.Frame, capacity.Line}, p.Layer), "layer", "%q is none of payload, ip, frame, line", clip(string(p.Layer)))
	c.must(p.Line.There.Unit == Bits && p.Line.Back.Unit == Bits, "line", "is in bit/s: percents are of it")
	c.must(p.MTU == 0 || p.MTU >= 68 && p.MTU <= MostFrame, "mtu", "%d is not from 68 to %d", p.MTU, MostFrame)
	c.span(p.Wait, time.Minute, "wait")
	c.span(p.First.For, time.Minute, "first_look.for")
	c.span(p.Host.For, time.Minute, "host_check.for")
	c.must(p.BySize != nil || p.By != nil, "by_size", "and by_service are both missing: there is nothing to test")
	c.ethernet(p)
	if p.BySize != nil {
		c.bySize(p)
	}
	if p.By != nil {
		c.services(p)
	}
	return c.list
}

func (c *checks) ethernet(p Plan) {
	e := p.Ethernet
	c.must(p.Over != Frame || e.Interface != "", "ethernet.interface", "is missing: frames on a link leave by one")
	c.must(p.Over == Frame || e.Interface == "" && e.To == "", "ethernet", "names an interface or a hardware address, which only frames on a link have: set over to ethernet")
	if e.To != "" && p.Over == Frame {
		a, err := net.ParseMAC(e.To)
		c.must(err == nil && len(a) == 6, "ethernet.to", "%q is no hardware address such as 02:00:5e:10:00:07", clip(e.To))
	}
	c.must(len(e.Tags) <= 2, "ethernet.tags", "are %d: two at most are possible", len(e.Tags))
	c.must(len(e.Labels) <= 4, "ethernet.mpls_labels", "are %d: four at most are possible", len(e.Labels))
	for i, t := range e.Tags {
		at := fmt.Sprintf("ethernet.tags[%d].", i)
		c.must(t.VLAN >= 0 && t.VLAN <= 4094, at+"vlan", "%d is not from 0 to 4094", t.VLAN)
		c.must(t.Priority >= 0 && t.Priority <= 7, at+"priority", "%d is not from 0 to 7", t.Priority)
		c.must(t.Type == "" || t.Type == "802.1q" || t.Type == "802.1ad", at+"type", "%q is neither 802.1q nor 802.1ad", clip(t.Type))
	}
	for i, l := range e.Labels {
		c.must(l < 1<<20, fmt.Sprintf("ethernet.mpls_labels[%d]", i), "%d is more than 1048575", l)
	}
}

// rate checks amounts of both ways. Those of a way that is not tested are no matter.
func (c *checks) rate(p Plan, w Ways, place string) {
	for _, there := range []bool{true, false} {
		if a := w.Of(there); p.goes(there) && a.Unit == Percent {
			c.must(!p.Line.Of(there).IsZero(), place, "%v is of the line's rate, and that is not said: give line, such as 1G", a)
		}
	}
}

func (c *checks) bySize(p Plan) {
	b := p.BySize
	c.must(len(b.Sizes) <= mostSizes, "by_size.sizes", "are %d: %d at most are possible", len(b.Sizes), mostSizes)
	for i, n := range b.Sizes {
		err := p.Packing().Fits(n)
		c.must(err == nil, fmt.Sprintf("by_size.sizes[%d]", i), "%v", err)
	}
	for _, there := range []bool{true, false} {
		if p.goes(there) {
			c.must(!b.Most.Of(there).IsZero() || !p.Line.Of(there).IsZero(), "by_size.most", "is missing, and so is line: up to which rate is looked for%s?", []string{" back", " there"}[b2i(there)])
		}
	}
	for place, w := range map[string]Ways{"by_size.most": b.Most, "by_size.least": b.Least, "by_size.limits.throughput": b.Limits.Throughput} {
		c.rate(p, w, place)
	}
	c.must(b.Within.Or(usualWithin) >= 0.0001, "by_size.within", "%v is closer than can be measured: 0.01%% at least", b.Within)
	c.must(b.Within.Or(usualWithin) <= 0.5, "by_size.within", "%v is no accuracy: 50%% at most", b.Within)
	c.must(b.Reached.Or(usualReached) >= 0.0001 && b.Reached.Or(usualReached) <= 0.1, "by_size.reached", "%v is not from 0.01%% to 10%%", b.Reached)
	c.must(b.Loss.Step.Or(usualStep) >= 0.01, "by_size.frame_loss.step", "%v is below 1%%", b.Loss.Step)
	c.must(!b.Latency.At.Given || b.Latency.At.Value > 0, "by_size.latency.at", "is nothing")
	c.span(b.Throughput.For, time.Hour, "by_size.throughput.for")
	c.span(b.Latency.For, time.Hour, "by_size.latency.for")
	c.span(b.Loss.For, time.Hour, "by_size.frame_loss.for")
	c.span(b.Burst.Longest, time.Minute, "by_size.back_to_back.longest")
	for place, n := range map[string]int{"throughput.trials": b.Throughput.Trials, "latency.trials": b.Latency.Trials, "frame_loss.trials": b.Loss.Trials, "back_to_back.trials": b.Burst.Trials} {
		c.must(n >= 0 && n <= mostTrials, "by_size."+place, "%d is not from 1 to %d", n, mostTrials)
	}
	c.must(!(b.Throughput.Skip && b.Latency.Skip && b.Loss.Skip && b.Burst.Skip), "by_size", "has all of its parts left out")
	c.must(b.Limits.Burst >= 0, "by_size.limits.burst_frames", "%d is below zero", b.Limits.Burst)
	slices.SortStableFunc(c.list, func(a, b Wrong) int { return strings.Compare(a.Place, b.Place) })
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (c *checks) services(p Plan) {
	x := p.By
	c.must(len(x.List) > 0, "by_service.services", "are missing: name one at least")
	c.must(len(x.List) <= mostServices, "by_service.services", "are %d: %d at most are possible", len(x.List), mostServices)
	c.must(!(x.Configuration.Skip && x.Performance.Skip), "by_service", "has all of its parts left out")
	c.must(x.Configuration.StepFor == 0 || x.Configuration.StepFor.D() >= time.Second && x.Configuration.StepFor.D() <= time.Minute, "by_service.configuration.step_for", "%v is not from 1s to 60s (ITU-T Y.1564 §8.1.1)", x.Configuration.StepFor.D())
	c.must(x.Performance.For == 0 || x.Performance.For.D() >= time.Second, "by_service.performance.for", "%v is below 1s", x.Performance.For.D())
	c.span(x.Performance.For, mostFor, "by_service.performance.for")
	for i, s := range x.Configuration.Steps {
		c.must(s.Value > 0, fmt.Sprintf("by_service.configuration.steps[%d]", i), "is nothing")
	}
	names := map[string]bool{}
	for i, s := range x.List {
		at := fmt.Sprintf("by_service.services[%d].", i)
		c.must(s.Name != "", at+"service", "is missing: its name")
		c.must(!names[s.Name], at+"service", "%q is there twice", clip(s.Name))
		names[s.Name] = true
		c.service(p, s, at)
	}
}

func (c *checks) service(p Plan, s Service, at string) {
	if s.Frames != "" || p.Packing().Fits(512) != nil {
		_, err := Mix(s.Frames, p.mtu(), p.Packing())
		c.must(err == nil, at+"frames", "%v", err)
	}
	for _, there := range []bool{true, false} {
		if p.goes(there) {
			c.must(!s.CIR.Of(there).IsZero() || !s.EIR.Of(there).IsZero(), at+"cir", "is missing, and so is eir%s", []string{" back", " there"}[b2i(there)])
		}
	}
	c.rate(p, s.CIR, at+"cir")
	c.rate(p, s.EIR, at+"eir")
	c.must(s.CBS >= 0, at+"cbs_bytes", "%d is below zero", s.CBS)
	c.must(s.EBS >= 0, at+"ebs_bytes", "%d is below zero", s.EBS)
	classes := map[string]string{"dscp": s.DSCP}
	if s.Colours != nil {
		if p.Over == Frame {
			c.colours(p, s, at)
		} else {
			classes["colours.green"], classes["colours.yellow"] = s.Colours.Green, s.Colours.Yellow
		}
		c.must(s.DSCP == "", at+"dscp", "is said by colours")
		c.must(s.Colours.Green != s.Colours.Yellow, at+"colours", "are the same: what is within CIR would not be told from what is beyond")
	}
	for place, text := range classes {
		if text == "" && place == "dscp" {
			continue
		}
		_, err := dscp.Parse(text)
		c.must(err == nil, at+place, "%v", err)
	}
	c.must(s.DSCP == "" || p.Over != Frame, at+"dscp", "is of IP, which frames on a link do not have: give priority")
	c.must(s.Priority == nil || p.Over == Frame, at+"priority", "is of frames on a link: give dscp")
	c.must(s.VLAN == nil || p.Over == Frame, at+"vlan", "is of frames on a link")
	c.must(s.Priority == nil || *s.Priority >= 0 && *s.Priority <= 7, at+"priority", "%d is not from 0 to 7", deref(s.Priority))
	c.must(s.VLAN == nil || *s.VLAN >= 0 && *s.VLAN <= 4094, at+"vlan", "%d is not from 0 to 4094", deref(s.VLAN))
	c.must((s.Priority == nil && s.VLAN == nil) || len(p.Ethernet.Tags) > 0, at+"vlan", "or priority is said, and the plan's frames have no tag: give ethernet.tags")
	for place, text := range map[string]string{"source": s.Source} {
		if text != "" {
			_, err := netip.ParseAddr(text)
			c.must(err == nil, at+place, "%q is not an IP address", clip(text))
		}
	}
	if s.Like != "" {
		_, err := LimitsLike(s.Like)
		c.must(err == nil, at+"limits_like", "%v", err)
	}
}

// colours checks priorities that tell what is within CIR from what is beyond.
func (c *checks) colours(p Plan, s Service, at string) {
	c.must(len(p.Ethernet.Tags) > 0, at+"colours", "are priorities of a tag, and the plan's frames have none: give ethernet.tags")
	c.must(s.Priority == nil, at+"priority", "is said by colours")
	for place, text := range map[string]string{"green": s.Colours.Green, "yellow": s.Colours.Yellow} {
		_, err := readPriority(text)
		c.must(err == nil, at+"colours."+place, "%v", err)
	}
}

func deref(n *int) int {
	if n == nil {
		return 0
	}
	return *n
}
