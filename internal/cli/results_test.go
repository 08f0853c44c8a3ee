package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/api/apitype"
)

func TestAPathIsMeantByFamilyAndKindOfProbe(t *testing.T) {
	list := []apitype.Path{{Via: "icmp", Family: 4}, {Via: "tcp:443", Family: 4}, {Via: "icmp", Family: 6}}
	for want, o := range map[string]pathOptions{"111": {}, "110": {family: "4"}, "101": {via: "icmp"}, "001": {family: "6", via: "icmp"}, "000": {family: "6", via: "tcp:443"}} {
		got := ""
		for _, p := range list {
			got += map[bool]string{true: "1", false: "0"}[o.means(p)]
		}
		assert.Equal(t, want, got, "%+v", o)
	}
	assert.Equal(t, "by icmp over IPv4, by tcp:443 over IPv4, by icmp over IPv6", ways(list))
}
