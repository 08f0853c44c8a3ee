// Command cluster starts, on loopback, a Galera cluster of three nodes from Debian's packages, two services
// that share it behind a balancer, and five agents; has them measure by all kinds while one of each is
// killed in turn, stopped, or cut off, and targets fall silent and come back; and prints how long each
// take-over took, and what was lost or doubled: runs, readings, episodes, and what somebody was told.
//
//	script/cluster           ten minutes
//	script/cluster -for 1h
package main

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"
)

func main() {
	lasts := flag.Duration("for", 10*time.Minute, "how long it measures")
	seed := flag.Uint64("seed", uint64(time.Now().UnixNano()), "of what is killed when")
	paths := flag.Int("paths", 500, "continuous paths, a probe a second each")
	keep := flag.Bool("keep", false, "leave the folder with all logs")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	dir, err := os.MkdirTemp("", "wlc")
	if err == nil {
		err = os.Chmod(dir, 0o711) // nodes may run as somebody else
	}
	if err == nil {
		err = try(ctx, dir, *lasts, *seed, *paths)
	}
	if *keep {
		fmt.Println("logs are in", dir)
	} else {
		_ = os.RemoveAll(dir)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "cluster:", err)
		os.Exit(1)
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	return l.Addr().(*net.TCPAddr).Port, l.Close()
}

func try(ctx context.Context, dir string, lasts time.Duration, seed uint64, paths int) error {
	fmt.Printf("seed %d\n", seed)
	nodes, peers, err := cluster(ctx, filepath.Join(dir, "db"), 3)
	defer func() {
		for _, n := range nodes {
			n.signal(syscall.SIGCONT)
			n.signal(syscall.SIGKILL)
		}
	}()
	if err != nil {
		return err
	}
	fmt.Println("three nodes are synced")
	x := &trial{dir: dir, nodes: nodes, peers: peers, random: rand.New(rand.NewPCG(seed, 1)), kinds: map[string][]time.Duration{}}
	for i := range max(1, paths/others) {
		x.targets = append(x.targets, netip.AddrFrom4([4]byte{127, 1, byte(i / 200), byte(i%200 + 1)}))
	}
	defer x.end()
	if err := x.begin(ctx); err != nil {
		return err
	}
	fmt.Printf("two services and the agents measure %d paths\n", len(x.targets)*others)
	over := time.Now().Add(lasts)
	stop := x.goOn(ctx, over)
	for time.Now().Before(over) && ctx.Err() == nil {
		if err := x.fault(ctx); err != nil {
			stop()
			return err
		}
	}
	stop()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return x.judge(ctx)
}
