package kernel

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

const dnsPort = "53"

// asked remembers which server a resolver spoke to.
type asked struct {
	mu   sync.Mutex
	last string
}

// resolver asks as this host's programs do: the hosts file, the search list, the
// servers in their order; or, with only, that server alone.
func (a *asked) resolver(only netip.Addr) *net.Resolver {
	return &net.Resolver{PreferGo: true, StrictErrors: true, Dial: func(ctx context.Context, kind, server string) (net.Conn, error) {
		if only.IsValid() {
			server = net.JoinHostPort(only.String(), dnsPort)
		}
		name, _, err := net.SplitHostPort(server)
		if err != nil {
			name = server
		}
		a.mu.Lock()
		a.last = name
		a.mu.Unlock()
		return (&net.Dialer{}).DialContext(ctx, kind, server)
	}}
}

func (a *asked) server() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.last
}

// Lookup asks the system's resolvers.
func (host) Lookup(ctx context.Context, name string, f wire.Family) (network.Resolved, error) {
	return lookup(ctx, netip.Addr{}, name, f)
}

// LookupAt asks one resolver.
func (host) LookupAt(ctx context.Context, resolver netip.Addr, name string, f wire.Family) (network.Resolved, error) {
	return lookup(ctx, resolver, strings.TrimSuffix(name, ".")+".", f)
}

func lookup(ctx context.Context, only netip.Addr, name string, f wire.Family) (network.Resolved, error) {
	kind := map[wire.Family]string{0: "ip", wire.IPv4: "ip4", wire.IPv6: "ip6"}[f]
	var a asked
	began := time.Now()
	addrs, err := a.resolver(only).LookupNetIP(ctx, kind, name)
	r := network.Resolved{Resolver: a.server(), Took: time.Since(began)}
	if err != nil {
		return r, nameError(name, r.Resolver, err)
	}
	for _, x := range addrs {
		if x = x.Unmap(); f == 0 || wire.FamilyOf(x) == f {
			r.Addrs = append(r.Addrs, x)
		}
	}
	if len(r.Addrs) == 0 {
		return r, fmt.Errorf("%q has no address of %v: %w", name, f, network.ErrNoName)
	}
	return r, nil
}

func nameError(name, server string, err error) error {
	var dns *net.DNSError
	switch {
	case errors.As(err, &dns) && dns.IsNotFound:
		return fmt.Errorf("%q: %w", name, network.ErrNoName)
	case errors.As(err, &dns) && dns.IsTimeout:
		return fmt.Errorf("look up %q: resolver %s did not answer", name, server)
	case errors.As(err, &dns):
		return fmt.Errorf("look up %q at resolver %s: %s", name, server, dns.Err)
	}
	return fmt.Errorf("look up %q: %w", name, err)
}

// Reverse asks the system's resolvers for the name of an address.
func (host) Reverse(ctx context.Context, addr netip.Addr) (string, error) {
	var a asked
	names, err := a.resolver(netip.Addr{}).LookupAddr(ctx, addr.WithZone("").String())
	if err == nil && len(names) == 0 {
		err = &net.DNSError{IsNotFound: true}
	}
	if err != nil {
		return "", nameError(addr.String(), a.server(), err)
	}
	return strings.TrimSuffix(names[0], "."), nil
}

// Resolvers are those of /etc/resolv.conf.
func (host) Resolvers() []netip.Addr {
	data, err := os.ReadFile("/etc/resolv.conf")
	if err != nil {
		return nil
	}
	var list []netip.Addr
	for line := range strings.Lines(string(data)) {
		if fields := strings.Fields(line); len(fields) > 1 && fields[0] == "nameserver" {
			if a, err := netip.ParseAddr(fields[1]); err == nil {
				list = append(list, a)
			}
		}
	}
	return list
}
