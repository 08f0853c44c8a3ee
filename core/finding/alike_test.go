package finding_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/core/loss"
	"woodlark.example/core/reading"
)

// wayOf is one way of asking: of sent probes so many are answered after about a time, and
// the rest are lost, or refused with a cause.
func wayOf(addr, via string, sent, answered int, rtt time.Duration, cause string) finding.Asked {
	var probes []reading.Probe
	for i := range sent {
		p := reading.Probe{Number: i, Outcome: reading.Lost}
		switch {
		case i*answered/sent != (i+1)*answered/sent:
			p.Outcome, p.RTT = reading.Answered, rtt+time.Duration(i%5)*10*time.Microsecond
		case cause != "":
			p.Outcome, p.Cause = reading.Refused, cause
		}
		probes = append(probes, p)
	}
	return finding.Asked{Addr: netip.MustParseAddr(addr), Via: via, Reading: reading.Of(time.Time{}, 0, sent, 0, probes), Probes: probes}
}

// TestKindsAreCompared: what one kind of probe loses and another does not is spared, not
// lost; what both lose is lost; a family that is refused differs.
func TestKindsAreCompared(t *testing.T) {
	const four, six = "203.0.113.26", "2001:db8:5::10"
	for _, c := range []struct {
		name string
		ways []finding.Asked
		want []finding.Code
	}{
		{"three quarters by ICMP, nothing by TCP", []finding.Asked{wayOf(four, "icmp", 400, 100, 1e7, ""), wayOf(four, "tcp:443", 400, 400, 1e7, "")}, []finding.Code{finding.LossSparing}},
		{"a quarter by either", []finding.Asked{wayOf(four, "icmp", 400, 300, 1e7, ""), wayOf(four, "tcp:443", 400, 296, 1e7, "")}, nil},
		{"a few of a few", []finding.Asked{wayOf(four, "icmp", 10, 8, 1e7, ""), wayOf(four, "tcp:443", 10, 10, 1e7, "")}, nil},
		{"IPv6 is refused altogether", []finding.Asked{wayOf(four, "icmp", 50, 50, 1e7, ""), wayOf(six, "icmp", 50, 0, 0, "no route by 2001:db8::1")}, []finding.Code{finding.FamilyDiffers}},
		{"both are", []finding.Asked{wayOf(four, "icmp", 50, 0, 0, "no route by 192.0.2.1"), wayOf(six, "icmp", 50, 0, 0, "no route by 2001:db8::1")}, nil},
		{"both answer", []finding.Asked{wayOf(four, "icmp", 50, 50, 1e7, ""), wayOf(six, "icmp", 50, 50, 1e7, "")}, nil},
		{"neither port is open, by TCP nor by UDP", []finding.Asked{wayOf(four, "tcp:5061", 10, 0, 0, reading.PortRefused+four), wayOf(four, "udp:5060", 10, 0, 0, reading.PortRefused+four+" (port unreachable)")}, []finding.Code{finding.PortClosed, finding.PortClosed}},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.want, append([]finding.Code(nil), codes(finding.OfKinds(c.ways))...))
			assert.Equal(t, len(c.want) == 1 && c.want[0] == finding.LossSparing, finding.Spares(c.ways[0], c.ways))
		})
	}
}

// TestDelayAtHome: most of the way at the gateway, or a gateway that answers slowly only.
func TestDelayAtHome(t *testing.T) {
	gateway := netip.MustParseAddr("192.0.2.1")
	for _, c := range []struct {
		name      string
		near, far time.Duration
		want      bool
	}{
		{"240 of 260 ms", 240e6, 260e6, true},
		{"1 of 260 ms", 1e6, 260e6, false},
		{"30 of 260 ms", 30e6, 260e6, false},
		{"it answers after 240 ms, the target after 20", 240e6, 20e6, false},
		{"3 of 4 ms are a house", 3e6, 4e6, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			at, to := wayOf("192.0.2.1", "icmp", 50, 50, c.near, ""), wayOf("203.0.113.26", "icmp", 50, 50, c.far, "")
			found := codes(finding.OfWalk(finding.Walk{Gateway: gateway, AtGateway: &at, AtTarget: &to}))
			if c.want {
				assert.Equal(t, []finding.Code{finding.GatewayLossy}, found)
			} else {
				assert.Empty(t, found)
			}
		})
	}
	// A target that spares, with a clean gateway: the other kind decides.
	at, to := wayOf("192.0.2.1", "icmp", 400, 400, 1e6, ""), wayOf("203.0.113.26", "icmp", 400, 100, 2e7, "")
	clean, lossy := wayOf("203.0.113.26", "tcp:443", 400, 400, 2e7, ""), wayOf("203.0.113.26", "tcp:443", 400, 110, 2e7, "")
	assert.Equal(t, []finding.Code{finding.LossSparing}, codes(finding.OfWalk(finding.Walk{Gateway: gateway, AtGateway: &at, AtTarget: &to, AtOther: &clean})))
	assert.Equal(t, []finding.Code{finding.BeyondGateway}, codes(finding.OfWalk(finding.Walk{Gateway: gateway, AtGateway: &at, AtTarget: &to, AtOther: &lossy})))
}

// TestATargetThatSpares: a trace that alone loses at the target is held against another
// kind of probe.
func TestATargetThatSpares(t *testing.T) {
	for _, c := range []struct {
		name  string
		other *finding.OtherKind
		want  finding.Code
		says  string
	}{
		{"by TCP nothing is lost", &finding.OtherKind{Via: "tcp:443", Loss: loss.Ratio{Sent: 100}}, finding.LossSparing, "100 of 100 probes by tcp:443 are answered"},
		{"by TCP as much is", &finding.OtherKind{Via: "tcp:443", Loss: loss.Ratio{Lost: 72, Sent: 100}}, finding.LossCarried, "loses as much (72 of 100)"},
		{"it answers nothing else", &finding.OtherKind{}, finding.LossCarried, "it may spare its answers instead"},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{255, 750, 8})
			x.Other = c.other
			found := finding.OfTrace(x)
			require.Len(t, found, 1)
			assert.Equal(t, c.want, found[0].Code)
			assert.Contains(t, found[0].Sentence, c.says)
			r := x.Report()
			assert.Equal(t, c.want == finding.LossSparing, r.LossRatio == nil, "what was spared is no loss")
		})
	}
}

// TestAPathThatIsRefused: a watch of a port at which nothing listens is not steady, and
// says why.
func TestAPathThatIsRefused(t *testing.T) {
	v := guard.Verdict{State: guard.StateLost, Silence: 30, Never: true}
	found := finding.OfPath(finding.Standing{Verdict: v, Cause: reading.PortRefused + "203.0.113.26 (port unreachable)"})
	assert.Equal(t, finding.PortClosed, found[0].Code)
	assert.Contains(t, found[0].Sentence, "The host is there, the service is not.")
	v.Never = false
	found = finding.OfPath(finding.Standing{Verdict: v, Cause: "administratively prohibited by 192.0.2.1"})
	assert.Equal(t, finding.Refusals, found[0].Code)
	assert.Contains(t, found[0].Sentence, "It was answered before.")
}
