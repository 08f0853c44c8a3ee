package service_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/route"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// TestWhoHasWhat: what people say counts more than the settings' file, and lasts.
func TestWhoHasWhat(t *testing.T) {
	db := storetest.New(t)
	given, err := route.ParseOwners(strings.NewReader("192.0.2.0/24,Skerry Line,ours\n203.0.113.0/24,Kelpnet,transit\n"))
	require.NoError(t, err)
	begin := func() *service.Service {
		c, err := service.New(t.Context(), service.Options{Store: db, Owners: given})
		require.NoError(t, err)
		return c
	}
	c := begin()
	who := func(c *service.Service, address string) string {
		o, _ := c.Owners.Table().Of(netip.MustParseAddr(address))
		return o.Name
	}
	own := func(prefix, name, part string) route.Owner {
		o, err := route.ParseOwner(prefix, name, part)
		require.NoError(t, err)
		return o
	}
	assert.Equal(t, "Kelpnet", who(c, "203.0.113.70"))
	require.NoError(t, c.Owners.Save(t.Context(), own("203.0.113.64/29", "Kelpnet Mobile", "access"), own("203.0.113.0/24", "Farseas", "transit"), own("2001:db8::/32", "Farseas", "transit")))
	for _, x := range []*service.Service{c, begin()} {
		assert.Equal(t, []string{"Kelpnet Mobile", "Farseas", "Farseas", "Skerry Line", ""}, []string{who(x, "203.0.113.70"), who(x, "203.0.113.1"), who(x, "2001:db8::1"), who(x, "192.0.2.1"), who(x, "198.51.100.1")})
		var given []bool
		for _, o := range x.Owners.All() {
			given = append(given, o.Given)
		}
		assert.Equal(t, []bool{true, false, false, false}, given)
	}
	require.NoError(t, c.Owners.Remove(t.Context(), netip.MustParsePrefix("203.0.113.0/24")))
	assert.Equal(t, "Kelpnet", who(c, "203.0.113.1"), "what the settings say counts again")
	err = c.Owners.Remove(t.Context(), netip.MustParsePrefix("203.0.113.0/24"))
	require.ErrorIs(t, err, kind.ErrInvalid)
	assert.ErrorContains(t, err, "stands in the settings' file")
	require.ErrorIs(t, c.Owners.Remove(t.Context(), netip.MustParsePrefix("198.51.100.0/24")), store.ErrNotFound)
	err = c.Owners.Save(t.Context(), own("198.51.100.0/24", "A", "ours"), own("198.51.100.0/24", "B", "ours"))
	require.ErrorIs(t, err, kind.ErrInvalid)
	assert.Empty(t, who(c, "198.51.100.1"), "all or none")
	_, err = route.ParseOwner("::ffff:192.0.2.0/120", "A", "ours")
	require.ErrorContains(t, err, "write it as that of IPv4")
	err = c.Owners.Save(t.Context(), own("198.51.100.0/24", strings.Repeat("x", 101), "ours"))
	assert.ErrorIs(t, err, kind.ErrInvalid)
}
