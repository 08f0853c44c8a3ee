package agent

import (
	"context"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	_ "woodlark.example/internal/kind/all"
	"woodlark.example/internal/kind/namelength"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/protocol"
)

func onLoopback(t *testing.T, name string, d *desk, listen string) *Agent {
	t.Helper()
	o := Options{ID: ident.New(), Name: name, Network: kernel.Host(), Service: d, Dir: t.TempDir()}
	if listen != "" {
		o.Listen = netip.MustParseAddrPort(listen)
	}
	a, err := New(o)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		assert.NoError(t, a.Run(ctx))
	}()
	t.Cleanup(func() { cancel(); <-ended })
	return a
}

// TestBothEndsGoOnWhileTheServiceIsAway: by a ticket that lasts as long as the plan.
func TestBothEndsGoOnWhileTheServiceIsAway(t *testing.T) {
	d := &desk{}
	far := onLoopback(t, "far", d, "127.0.0.1:0")
	near := onLoopback(t, "near", d, "")
	key := []byte("0123456789abcdef0123456789abcdef")
	ticket := protocol.Ticket{Name: "gull", Key: key, Time: time.Minute}
	far.SetPlan(protocol.Plan{Tickets: []protocol.Ticket{ticket}})
	both := protocol.Standing{Every: 300 * time.Millisecond, Key: "both", Away: true, Budget: 1, Order: protocol.RunOrder{Kind: "stream", Version: 1, Watch: ident.New(), Targets: []string{"far"},
		Spec: []byte(`{"for": "200ms", "interval": "10ms"}`), Lanes: []protocol.RunLane{{Lane: kind.Lane{Target: "far"}}}, Far: kind.Far{Address: far.FarEnd(), KeyName: "gull", Key: key}}}
	alone := protocol.Standing{Every: 300 * time.Millisecond, Order: protocol.RunOrder{Kind: namelength.Kind.Name, Version: 1, Watch: ident.New(), Targets: []string{"holm"}, Spec: []byte(`{}`), Lanes: []protocol.RunLane{{Lane: kind.Lane{Target: "holm"}}}}}
	near.SetPlan(protocol.Plan{Standing: []protocol.Standing{both, alone}})
	of := func(name string, o protocol.Outcome) (n int) {
		for _, m := range d.made {
			if m.Kind == name && m.Outcome == o {
				n++
			}
		}
		return n
	}
	require.Eventually(t, d.has(func(d *desk) bool { return of(alone.Order.Kind, protocol.Done) >= 3 }), time.Minute, 20*time.Millisecond)
	d.has(func(d *desk) bool {
		return assert.Zero(t, len(d.made)-of(alone.Order.Kind, protocol.Done), "the service sees to the rest")
	})()

	near.ServiceAway(true)
	require.Eventually(t, d.has(func(d *desk) bool { return of("stream", protocol.Done) >= 1 }), time.Minute, 20*time.Millisecond)
	require.Eventually(t, d.has(func(d *desk) bool {
		for _, m := range d.made {
			if m.Kind == "stream" && m.Outcome == protocol.Failed && assert.Contains(t, m.Reason, "are allowed") {
				return true
			}
		}
		return false
	}), time.Minute, 20*time.Millisecond, "what it may send within a day is used up")
	both.Budget = 0
	far.SetPlan(protocol.Plan{})
	near.SetPlan(protocol.Plan{Standing: []protocol.Standing{both}})
	require.Eventually(t, d.has(func(d *desk) bool {
		for _, m := range d.made {
			if m.Kind == "stream" && m.Outcome == protocol.Failed && !strings.Contains(m.Reason, "are allowed") {
				return true
			}
		}
		return false
	}), time.Minute, 20*time.Millisecond, "the far end does not know it any more")
}
