package selection

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/kind"
)

// TestWhatASelectionTakes: each list that is given must fit, by any of its words.
func TestWhatASelectionTakes(t *testing.T) {
	holm := About{Sites: []string{"Northquay", "Holm"}, Agents: []string{"northquay"}, Targets: []string{"terminal.holm.example"}, Tags: []string{"islands", "voice"}, Labels: []string{"fibre"}}
	bare := About{Agents: []string{"drydock"}, Targets: []string{"192.0.2.1"}}
	for _, x := range []struct {
		s          Selection
		holm, bare bool
		says       string
	}{
		{Selection{}, true, true, ""},
		{Selection{Sites: []string{"holm"}}, true, false, "sites holm"},
		{Selection{Sites: []string{"Gannet Bay", "HOLM"}}, true, false, "sites Gannet Bay, HOLM"},
		{Selection{Agents: []string{"drydock", "northquay"}}, true, true, "agents drydock, northquay"},
		{Selection{Agents: []string{"northquay"}, Tags: []string{"video"}}, false, false, "agents northquay; tags video"},
		{Selection{Agents: []string{"northquay"}, Tags: []string{"video", "voice"}}, true, false, "agents northquay; tags video, voice"},
		{Selection{Labels: []string{"Fibre"}}, true, false, "labels Fibre"},
		{Selection{Labels: []string{"radio"}}, false, false, "labels radio"},
		{Selection{Targets: []string{"terminal"}}, false, false, "targets terminal"},
		{Selection{Targets: []string{"192.0.2.1"}}, false, true, "targets 192.0.2.1"},
	} {
		assert.Equal(t, x.holm, x.s.Takes(holm), x.says)
		assert.Equal(t, x.bare, x.s.Takes(bare), x.says)
		assert.Equal(t, x.says, x.s.String())
		assert.Equal(t, x.says == "", x.s.All())
		assert.NoError(t, x.s.Check())
	}
	assert.True(t, Selection{Targets: []string{"192.0.2.1"}, Tags: []string{"voice"}}.Takes(bare.And(holm)), "of several together that of all counts")
	err := Selection{Tags: make([]string, 201)}.Check()
	assert.ErrorIs(t, err, kind.ErrInvalid)
	assert.ErrorContains(t, err, "201 tags are more than 200")
}
