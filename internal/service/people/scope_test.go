package people_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/people"
)

// TestScopes: any word of one is enough; each of several binds.
func TestScopes(t *testing.T) {
	holm := people.Scope{Sites: []string{"Holm"}}
	fibre := people.Scope{Labels: []string{"fibre"}}
	both := people.Scope{Sites: []string{"Holm"}, Labels: []string{"fibre"}}
	for _, x := range []struct {
		scopes        []people.Scope
		sites, labels []string
		sees          bool
		says          string
	}{
		{nil, nil, nil, true, ""},
		{[]people.Scope{holm}, []string{"HOLM"}, nil, true, "the site Holm"},
		{[]people.Scope{holm}, []string{"Holmes"}, []string{"Holm"}, false, "the site Holm"},
		{[]people.Scope{holm}, nil, nil, false, "the site Holm"},
		{[]people.Scope{both}, []string{"Gannet Bay"}, []string{"Fibre"}, true, "the site Holm and the label fibre"},
		{[]people.Scope{both}, []string{"Gannet Bay"}, []string{"radio"}, false, "the site Holm and the label fibre"},
		{[]people.Scope{holm, fibre}, []string{"Holm"}, []string{"radio"}, false, "the site Holm, and of that the label fibre"},
		{[]people.Scope{holm, fibre}, []string{"Holm", "Northquay"}, []string{"fibre"}, true, "the site Holm, and of that the label fibre"},
	} {
		w := people.Who{Scopes: x.scopes}
		assert.Equal(t, x.sees, w.Sees(x.sites, x.labels), "%v of %v %v", x.scopes, x.sites, x.labels)
		assert.Equal(t, x.says, w.Scope())
		assert.Equal(t, len(x.scopes) > 0, w.Scoped())
	}
	s, err := people.ReadScope([]string{" Holm ", "holm", "Gannet Bay"}, []string{"fibre"})
	require.NoError(t, err)
	assert.Equal(t, people.Scope{Sites: []string{"Holm", "Gannet Bay"}, Labels: []string{"fibre"}}, s, "a word twice is one")
	for _, bad := range [][]string{{""}, {"a,b"}, {"a\x00"}, {"\xff"}, {strings.Repeat("x", 201)}, make([]string, 201)} {
		_, err := people.ReadScope(bad, nil)
		assert.ErrorIs(t, err, kind.ErrInvalid, "%q", bad)
		_, err = people.ReadScope(nil, bad)
		assert.ErrorIs(t, err, kind.ErrInvalid, "%q", bad)
	}
}
