package devices

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/finding"
)

func TestWhoAnswersInTraces(t *testing.T) {
	var d Devices
	node := func(address, name, owner, segment string) finding.HopReport {
		return finding.HopReport{Address: address, Nodes: []finding.NodeReport{{Address: address, Name: name, Owner: owner, Segment: segment}}}
	}
	d.Note(&finding.TraceReport{Hops: []finding.HopReport{node("2001:db8:1::1", "gw.quay.example", "Skerry Line", "ours"), node("203.0.113.9", "", "", ""), {}}})
	assert.Equal(t, "2001:db8:1::1", d.Same("2001:db8:1::1"))
	d.Note(&finding.TraceReport{Hops: []finding.HopReport{node("192.0.2.1", "gw.quay.example", "Skerry Line", "ours"), node("192.0.2.9", "gw.quay.example", "", "")}})
	assert.Equal(t, "192.0.2.1", d.Same("2001:db8:1::1"), "one device, by both families")
	assert.Equal(t, "192.0.2.1", d.Same("192.0.2.9"))
	assert.Equal(t, "203.0.113.9", d.Same("203.0.113.9"), "without a name each is its own")
	assert.Equal(t, "198.51.100.1", d.Same("198.51.100.1"), "never heard of")
	assert.Equal(t, "gw.quay.example (ours, Skerry Line)", d.Call("192.0.2.1"))
	assert.Equal(t, "203.0.113.9", d.Call("203.0.113.9"))
	d.Note(&finding.TraceReport{Hops: []finding.HopReport{node("192.0.2.1", "", "", "transit")}})
	assert.Equal(t, "gw.quay.example (transit)", d.Call("192.0.2.1"), "a name is not forgotten when it is not known once")
}
