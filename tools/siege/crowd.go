package main

import (
	"bufio"
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// mostGrowth is how many MB a crowd may take.
const mostGrowth = 200

// idle opens connections that say nothing.
func idle(ctx context.Context, t *table) error {
	return withService(ctx, func(s *service) error {
		before := s.memory()
		var all []net.Conn
		defer func() {
			for _, c := range all {
				_ = c.Close()
			}
		}()
		for range 2000 {
			c, err := net.DialTimeout("tcp", s.at, 5*time.Second)
			if err != nil {
				break // it takes no more
			}
			all = append(all, c)
		}
		worst, failed := s.worst(ctx, 5*time.Second)
		grown := s.memory() - before
		t.saw("2,000 idle connections", fmt.Sprintf("others are answered within 1 s, under %d MB", mostGrowth), failed == 0 && worst < time.Second && grown < mostGrowth, "%d were taken; %d calls failed, the slowest took %s; %d MB", len(all), failed, worst.Round(time.Millisecond), grown)
		return nil
	})
}

// streams has many listen to what happens.
func streams(ctx context.Context, t *table) error {
	return withService(ctx, func(s *service) error {
		before := s.memory()
		ctx, cancel := context.WithTimeout(ctx, 90*time.Second)
		defer cancel()
		many := &http.Client{Transport: &http.Transport{MaxConnsPerHost: 0}}
		var heard, open atomic.Int64
		var all sync.WaitGroup
		for range 500 {
			all.Go(func() {
				r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+s.at+"/api/v1/events", nil)
				if err != nil {
					return
				}
				r.Header.Set("Authorization", "Bearer "+token)
				answer, err := many.Do(r)
				if err != nil {
					return
				}
				defer answer.Body.Close()
				if answer.StatusCode != http.StatusOK {
					return
				}
				open.Add(1)
				lines := bufio.NewScanner(answer.Body)
				for lines.Scan() {
					if strings.HasPrefix(lines.Text(), "event: reading") {
						heard.Add(1)
						return
					}
				}
			})
		}
		worst, failed := s.worst(ctx, 20*time.Second)
		grown := s.memory() - before
		all.Wait()
		t.saw("500 event streams", fmt.Sprintf("each hears of a reading; calls within 1 s, under %d MB", mostGrowth), heard.Load() == 500 && failed == 0 && worst < time.Second && grown < mostGrowth, "%d open, %d heard; the slowest call took %s; %d MB", open.Load(), heard.Load(), worst.Round(time.Millisecond), grown)
		return nil
	})
}

// slow has many say their requests a byte at a time.
func slow(ctx context.Context, t *table) error {
	return withService(ctx, func(s *service) error {
		before := s.memory()
		ctx, cancel := context.WithTimeout(ctx, 40*time.Second)
		defer cancel()
		var ended atomic.Int64
		var all sync.WaitGroup
		for i := range 400 {
			all.Go(func() {
				c, err := net.Dial("tcp", s.at)
				if err != nil {
					ended.Add(1)
					return
				}
				defer c.Close()
				text := "GET /api/v1/paths HTTP/1.1\r\nHost: localhost\r\nX: " + strings.Repeat("x", 4000)
				if i%2 == 1 {
					text = "POST /api/v1/session HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: 4000\r\n\r\n" + strings.Repeat("x", 3999)
				}
				for j := range len(text) {
					_ = c.SetWriteDeadline(time.Now().Add(5 * time.Second))
					if _, err := c.Write([]byte{text[j]}); err != nil {
						ended.Add(1)
						return
					}
					select {
					case <-ctx.Done():
						return
					case <-time.After(250 * time.Millisecond):
					}
				}
			})
		}
		worst, failed := s.worst(ctx, 35*time.Second)
		grown := s.memory() - before
		cancel()
		all.Wait()
		t.saw("400 callers who say a byte at a time", fmt.Sprintf("hung up on within 35 s; others within 1 s, under %d MB", mostGrowth), ended.Load() == 400 && failed == 0 && worst < time.Second && grown < mostGrowth, "%d were hung up on; %d calls failed, the slowest took %s; %d MB", ended.Load(), failed, worst.Round(time.Millisecond), grown)
		return nil
	})
}

// endless gives zeros for ever, and counts how many were taken.
type endless struct{ n atomic.Int64 }

func (e *endless) Read(p []byte) (int, error) {
	n := min(len(p), 1<<16)
	for i := range n {
		p[i] = ' '
	}
	e.n.Add(int64(n))
	return n, nil
}

// huge sends what is larger than anything that is taken: headers, bodies, addresses.
func huge(ctx context.Context, t *table) error {
	return withService(ctx, func(s *service) error {
		before := s.memory()
		ctx, cancel := context.WithTimeout(ctx, time.Minute)
		defer cancel()
		var most int64
		status := map[int]int{}
		for _, path := range []string{"/api/v1/session", "/api/v1/welcome", "/api/v1/session/passkey", "/api/v1/agent/join", "/api/v1/agent/uploads", "/api/v1/watches", "/api/v1/import/readings", "/guest/x", "/guest/x/visit/offer"} {
			for _, key := range []string{"", token} {
				body := &endless{}
				r, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+s.at+path, io.LimitReader(body, 1<<30))
				if err != nil {
					return err
				}
				r.ContentLength = -1
				r.Header.Set("Content-Type", "application/json")
				if key != "" {
					r.Header.Set("Authorization", "Bearer "+key)
				}
				answer, err := quick.Do(r)
				if err == nil {
					status[answer.StatusCode]++
					_ = answer.Body.Close()
				}
				most = max(most, body.n.Load())
			}
		}
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+s.at+"/api/v1/paths?q="+strings.Repeat("x", 8<<20), nil)
		if err != nil {
			return err
		}
		if answer, err := quick.Do(r); err == nil {
			status[answer.StatusCode]++
			_ = answer.Body.Close()
		}
		worst, failed := s.worst(ctx, 3*time.Second)
		grown := s.memory() - before
		ok := status[http.StatusOK]+status[http.StatusNoContent]+status[http.StatusInternalServerError] == 0
		t.saw("bodies of 1 GB, addresses of 8 MB", "refused, no more than 32 MB of each read, under 200 MB", ok && failed == 0 && most < 32<<20 && grown < mostGrowth, "answers %v; at most %.1f MB were taken; %d MB; the slowest call after took %s", status, float64(most)/1e6, grown, worst.Round(time.Millisecond))
		return nil
	})
}

// floods sends nonsense to every port, by TCP and UDP, for ten seconds each.
func floods(ctx context.Context, t *table) error {
	return withService(ctx, func(s *service) error {
		before := s.memory()
		for _, to := range []struct{ network, at, what string }{{"udp", s.far, "the far end by UDP"}, {"tcp", s.far, "the far end by TCP"}, {"tcp", s.at, "the console's port"}} {
			ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
			var sent atomic.Int64
			var all sync.WaitGroup
			for range 2 {
				all.Go(func() { flood(ctx, to.network, to.at, &sent) })
			}
			worst, failed := s.worst(ctx, 9*time.Second)
			cancel()
			all.Wait()
			grown := s.memory() - before
			t.saw("a flood at "+to.what, "calls within 2 s, under 200 MB", failed == 0 && worst < 2*time.Second && grown < mostGrowth, "%d packets or calls; %d calls failed, the slowest took %s; %d MB", sent.Load(), failed, worst.Round(time.Millisecond), grown)
		}
		return nil
	})
}

func flood(ctx context.Context, network, at string, sent *atomic.Int64) {
	b := make([]byte, 1200)
	for ctx.Err() == nil {
		c, err := net.DialTimeout(network, at, time.Second)
		if err != nil {
			time.Sleep(time.Millisecond)
			continue
		}
		for range 50 {
			_, _ = rand.Read(b)
			_ = c.SetWriteDeadline(time.Now().Add(time.Second))
			if _, err := c.Write(b[:40+int(b[0])*4]); err != nil {
				break
			}
			sent.Add(1)
		}
		_ = c.Close()
	}
}

// spoofed asks the far end from many addresses that never came in, as one does who has answers sent
// to others, and counts what comes back.
func spoofed(ctx context.Context, t *table) error {
	return withService(ctx, func(s *service) error {
		to, err := net.ResolveUDPAddr("udp", s.far)
		if err != nil {
			return err
		}
		var sent, back int64
		b := make([]byte, 1400)
		for i := range 2000 {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			c, err := net.DialUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 9, byte(i>>8), byte(i))}, to)
			if err != nil {
				return err
			}
			_, _ = rand.Read(b)
			copy(b, shapes[i%len(shapes)])
			n, _ := c.Write(b[:32+i%1300])
			sent += int64(n)
			_ = c.SetReadDeadline(time.Now().Add(2 * time.Millisecond))
			for {
				n, err := c.Read(b)
				if err != nil {
					break
				}
				back += int64(n)
			}
			_ = c.Close()
		}
		t.saw("2,000 spoofed askers at the far end", "no more comes back than was sent", back <= sent, "%d bytes for %d (%.2f times)", back, sent, float64(back)/float64(sent))
		return nil
	})
}

// shapes are how datagrams begin that a far end may know: of tests (RFC 8762, RFC 5357), of echoes, of
// nothing.
var shapes = [][]byte{{0, 0, 0, 1}, {0, 0, 0, 1, 0xed, 0, 0, 0, 0, 0, 0, 0, 0x80, 1}, []byte("WLK"), {0xff, 0xff}, {}}
