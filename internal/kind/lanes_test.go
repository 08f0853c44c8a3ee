package kind_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/demo"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network/world/live"
)

// TestWhereTargetsAre: by the names of the demo's world.
func TestWhereTargetsAre(t *testing.T) {
	m, err := demo.World(time.Now(), time.UTC)
	require.NoError(t, err)
	n, err := live.New(m).At("ops.northquay.example")
	require.NoError(t, err)
	for _, c := range []struct {
		target string
		family kind.Family
		want   []string
	}{
		{"app.ticketing.example", "", []string{"198.51.100.10"}},
		{"app.ticketing.example", "4", []string{"198.51.100.10"}},
		{"app.ticketing.example", "6", []string{"2001:db8:2::10"}},
		{"app.ticketing.example", "both", []string{"198.51.100.10", "2001:db8:2::10"}},
		{"kiosk.oxwater.example", "both", []string{"203.0.113.35"}},
		{"192.0.2.77", "6", []string{"192.0.2.77"}},
	} {
		var got []string
		for _, l := range (kind.Rule{Families: true, Family: c.family}).Locate(t.Context(), n, []string{c.target}) {
			require.Empty(t, l.Problem)
			got = append(got, l.Address.String())
		}
		assert.Equal(t, c.want, got, "%s by %q", c.target, c.family)
	}
	none := (kind.Rule{Families: true, Family: "6", Vias: []string{"icmp", "tcp:443"}}).Locate(t.Context(), n, []string{"kiosk.oxwater.example"})
	require.Len(t, none, 1, "what does not resolve is told once")
	assert.NotEmpty(t, none[0].Problem)
	require.Len(t, none[0].Named.Findings, 1)
	assert.Equal(t, finding.NameUnresolved, none[0].Named.Findings[0].Code)
	all := (kind.Rule{Families: true, All: true, Vias: []string{"icmp", "tcp:443"}}).Locate(t.Context(), n, []string{"app.ticketing.example"})
	assert.Len(t, all, 4, "every address of both families, by each kind of probe")

	lanes := (kind.Rule{Families: true, Family: "both"}).Split([]string{"app.ticketing.example"})
	kind.Resolve(t.Context(), n, lanes)
	require.Len(t, lanes, 2)
	assert.Equal(t, "2001:db8:2::10", lanes[1].Address.String())
}

func TestWhichLanesAreKnownBefore(t *testing.T) {
	assert.True(t, kind.Rule{}.Definite([]string{"holm"}))
	assert.True(t, kind.Rule{Families: true, Family: "4"}.Definite([]string{"holm"}))
	assert.True(t, kind.Rule{Families: true}.Definite([]string{"192.0.2.7", "2001:db8::7"}))
	assert.False(t, kind.Rule{Families: true}.Definite([]string{"192.0.2.7", "holm"}), "by which family is known where it resolves")
	assert.False(t, kind.Rule{Families: true, Family: "4", All: true}.Definite([]string{"holm"}))
	assert.Equal(t, []kind.Lane{{Target: "192.0.2.0/24, 192.0.2.7"}}, kind.Rule{Whole: true}.Split([]string{"192.0.2.0/24", "192.0.2.7"}))
}

func TestTargetsWithPorts(t *testing.T) {
	for text, want := range map[string]struct {
		name string
		port uint16
	}{
		"192.0.2.7": {"192.0.2.7", 7474}, "192.0.2.7:80": {"192.0.2.7", 80}, "2001:db8::7": {"2001:db8::7", 7474}, "[2001:db8::7]:80": {"2001:db8::7", 80},
		"holm.example": {"holm.example", 7474}, "holm.example:80": {"holm.example", 80},
	} {
		name, port, err := kind.SplitPort(text, kind.UsualPort)
		require.NoError(t, err, text)
		assert.Equal(t, want.name, name)
		assert.Equal(t, want.port, port)
	}
	for _, text := range []string{"holm:gull", "holm:0", ":80", "a:b:c", "holm:99999"} {
		_, _, err := kind.SplitPort(text, kind.UsualPort)
		assert.ErrorContains(t, err, "is not ADDRESS:PORT", text)
	}
}
