package bulk

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
)

// Loopback is how many bits of payload a second this machine moves within itself, over
// as many connections as asked for.
func Loopback(ctx context.Context, streams int, d time.Duration) (float64, error) {
	inside := kernel.Host().(network.Streams)
	l, err := inside.ListenTCP(netip.MustParseAddrPort("127.0.0.1:0"))
	if err != nil {
		return 0, err
	}
	defer l.Close()
	to, err := netip.ParseAddrPort(l.Addr().String())
	if err != nil {
		return 0, err
	}
	send, receive := &Transfer{Streams: inside, Sends: true, For: d}, &Transfer{Streams: inside, For: d}
	defer func() {
		for _, c := range append(append([]net.Conn{}, send.Conns...), receive.Conns...) {
			_ = c.Close()
		}
	}()
	for range streams {
		c, err := inside.DialTCP(ctx, to, network.StreamOptions{})
		if err != nil {
			return 0, err
		}
		send.Conns = append(send.Conns, c)
		a, err := l.Accept()
		if err != nil {
			return 0, fmt.Errorf("measure this machine by itself: %w", err)
		}
		receive.Conns = append(receive.Conns, a)
	}
	ctx, cancel := context.WithTimeout(ctx, d+5*time.Second)
	defer cancel()
	var both sync.WaitGroup
	var came Report
	both.Go(func() { send.Run(ctx) })
	both.Go(func() { came = receive.Run(ctx) })
	both.Wait()
	if came.Seconds <= 0 {
		return 0, fmt.Errorf("measure this machine by itself: nothing moved")
	}
	return float64(came.Bytes) * 8 / came.Seconds, nil
}
