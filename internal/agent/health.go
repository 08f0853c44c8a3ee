package agent

import (
	"errors"
	"net"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/internal/host"
	"woodlark.example/internal/network"
	"woodlark.example/internal/protocol"
	"woodlark.example/wire"
)

// health is what an agent keeps to tell of itself.
type health struct {
	once  sync.Once
	meter *host.Meter
	began time.Time
	may   []string
}

// Health is what the agent says of itself.
func (a *Agent) Health() protocol.Health {
	a.health.once.Do(func() {
		a.health.meter, a.health.began, a.health.may = host.NewMeter(), time.Now(), a.whatItMay()
	})
	e := a.end()
	h := protocol.Health{Version: e.Version, System: e.System, Clock: e.Clock, Load: a.health.meter.Since(), May: a.health.may, HeldBack: a.HeldBack(), Dropped: a.Dropped(), Responder: a.FarEnd(),
		Limits: a.options.Limits, StartedAt: a.health.began.UTC()}
	h.SetAside, h.AsideReason = a.aside.says()
	if a.options.Ground != nil {
		h.Addresses = ownAddresses()
	}
	if late, ok := a.lateness(); ok {
		h.LateMs = &late
	}
	return h
}

// ownAddresses are those of this machine, but for loopback and links.
func ownAddresses() []string {
	list, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	var out []string
	for _, x := range list {
		if p, err := netip.ParsePrefix(x.String()); err == nil && !p.Addr().IsLoopback() && !p.Addr().IsLinkLocalUnicast() {
			out = append(out, p.Addr().String())
		}
	}
	return out
}

// whatItMay tries what the host lets it open.
func (a *Agent) whatItMay() []string {
	var may []string
	for _, x := range []struct {
		kind network.Kind
		says string
	}{{network.Whole, "whole packets"}, {network.ICMP, "ICMP"}, {network.UDP, "UDP"}, {network.TCP, "TCP"}} {
		c, err := a.options.Network.Open(x.kind, wire.IPv4, network.SocketOptions{})
		if err == nil {
			may = append(may, x.says)
			_ = c.Close()
		} else if errors.Is(err, network.ErrNotPermitted) {
			may = append(may, "no "+x.says)
		}
	}
	return may
}

// lateness is how late the probes of the last minutes left, in the mean, in
// milliseconds; false when none did.
func (a *Agent) lateness() (float64, bool) {
	a.spool.mu.Lock()
	defer a.spool.mu.Unlock()
	if a.spool.timed == 0 {
		return 0, false
	}
	mean := float64(a.spool.late) / float64(a.spool.timed) / 1e6
	a.spool.late, a.spool.timed = 0, 0
	return mean, true
}
