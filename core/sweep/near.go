package sweep

import "net/netip"

// Loopback are the loopback prefixes.
func Loopback() []netip.Prefix { return prefixes("127.0.0.0/8", "::1/128") }

// Nearby are the prefixes that need no word of who owns them to be swept:
// loopback, private (RFC 1918, RFC 4193), link-local, and documentation (RFC
// 5737, RFC 3849, RFC 9637).
func Nearby() []netip.Prefix {
	return append(prefixes("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16", "fc00::/7", "fe80::/10",
		"192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32", "3fff::/20"), Loopback()...)
}

func prefixes(texts ...string) []netip.Prefix {
	list := make([]netip.Prefix, len(texts))
	for i, t := range texts {
		list[i] = netip.MustParsePrefix(t)
	}
	return list
}
