package main

import (
	"context"
	"fmt"
	"syscall"
	"time"
)

// fault does one thing, and waits until all is there again.
func (x *trial) fault(ctx context.Context) error {
	faults := []struct {
		name string
		do   func() (back func() error)
	}{
		{"the service that works, killed", func() func() error {
			p := x.services[max(0, x.works(ctx))]
			p.signal(syscall.SIGKILL)
			return p.begin
		}},
		{"a node of the database, killed", func() func() error {
			n := x.nodes[x.random.IntN(len(x.nodes))]
			n.signal(syscall.SIGKILL)
			return func() error { return n.begin(ctx, x.peers, false) }
		}},
		{"an agent, killed", func() func() error {
			p := x.agents[x.random.IntN(len(x.agents))]
			p.signal(syscall.SIGKILL)
			return p.begin
		}},
		{"the service that works, stopped for a minute", func() func() error {
			p := x.services[max(0, x.works(ctx))]
			p.signal(syscall.SIGSTOP)
			began := time.Now()
			return func() error {
				time.Sleep(max(0, time.Minute-time.Since(began)))
				p.signal(syscall.SIGCONT)
				return nil
			}
		}},
		{"the balancer's connections, cut", func() func() error {
			x.balancer.cut()
			return func() error { return nil }
		}},
		{"the service that stands by, killed", func() func() error {
			p := x.services[1-max(0, x.works(ctx))]
			p.signal(syscall.SIGKILL)
			return p.begin
		}},
		{"a node of the database, stopped for 20 s", func() func() error {
			n := x.nodes[x.random.IntN(len(x.nodes))]
			n.signal(syscall.SIGSTOP)
			began := time.Now()
			return func() error {
				time.Sleep(max(0, 20*time.Second-time.Since(began)))
				n.signal(syscall.SIGCONT)
				for time.Since(began) < 2*time.Minute && !n.synced(ctx) {
					time.Sleep(200 * time.Millisecond)
				}
				return nil
			}
		}},
	}
	f := faults[x.turn%len(faults)]
	x.turn++
	time.Sleep(time.Duration(x.random.IntN(5000)) * time.Millisecond)
	began := time.Now()
	back := f.do()
	took, err := x.answers(ctx, began)
	if err != nil {
		return fmt.Errorf("%s: %w", f.name, err)
	}
	fmt.Printf("  %-45s answered again after %v\n", f.name, took.Round(100*time.Millisecond))
	x.kinds[f.name] = append(x.kinds[f.name], took)
	if err := back(); err != nil {
		return fmt.Errorf("%s: %w", f.name, err)
	}
	time.Sleep(settle)
	return nil
}
