package main

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"
)

// balancer hands each connection to one of the services that say that they are ready.
type balancer struct {
	bases []string
	at    net.Listener
	mu    sync.Mutex
	open  map[net.Conn]bool
}

func newBalancer(bases []string) (*balancer, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b := &balancer{bases: bases, at: l, open: map[net.Conn]bool{}}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go b.hand(c)
		}
	}()
	return b, nil
}

func (b *balancer) url() string { return "http://" + b.at.Addr().String() }

// ready reports whether a service would take a caller.
func ready(base string) bool {
	answer, err := brisk.Get(base + "/readyz")
	if err != nil {
		return false
	}
	_ = answer.Body.Close()
	return answer.StatusCode == http.StatusOK
}

var brisk = &http.Client{Timeout: time.Second, Transport: &http.Transport{DisableKeepAlives: true}}

func (b *balancer) hand(c net.Conn) {
	defer c.Close()
	list := slices.Clone(b.bases)
	rand.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	for _, base := range list {
		if !ready(base) {
			continue
		}
		to, err := net.DialTimeout("tcp", strings.TrimPrefix(base, "http://"), time.Second)
		if err != nil {
			continue
		}
		defer to.Close()
		b.note(c, true)
		defer b.note(c, false)
		go func() {
			_, _ = io.Copy(to, c)
			_ = to.Close()
		}()
		_, _ = io.Copy(c, to)
		return
	}
}

func (b *balancer) note(c net.Conn, open bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if open {
		b.open[c] = true
	} else {
		delete(b.open, c)
	}
}

// cut ends all connections.
func (b *balancer) cut() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for c := range b.open {
		_ = c.Close()
	}
}

// view is a console that is left open: it connects anew when what it hears ends, or falls silent.
type view struct {
	mu      sync.Mutex
	heard   int
	anew    int
	last    time.Time
	longest time.Duration
}

func (v *view) follow(ctx context.Context, base string) {
	v.last = time.Now()
	for ctx.Err() == nil {
		_ = v.listen(ctx, base)
		v.mu.Lock()
		v.anew++
		v.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-time.After(2 * time.Second): // as it is told to
		}
	}
}

// deaf is how long a console hears nothing, not even that the service is there, before it gives up.
const deaf = 16 * time.Second

func (v *view) listen(ctx context.Context, base string) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	silent := time.AfterFunc(deaf, stop)
	defer silent.Stop()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, base+"/api/v1/events?brief=true", nil)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	for lines := bufio.NewScanner(answer.Body); lines.Scan(); {
		silent.Reset(deaf)
		if strings.TrimSpace(lines.Text()) == "event: path" {
			v.event()
		}
	}
	return nil
}

func (v *view) event() {
	v.mu.Lock()
	defer v.mu.Unlock()
	now := time.Now()
	v.longest = max(v.longest, now.Sub(v.last))
	v.last = now
	v.heard++
}

// told is a message as it was handed over.
type told struct{ id, what, subject string }

// sink is who is told. Now and then it does not take what comes.
type sink struct {
	at      net.Listener
	mu      sync.Mutex
	random  *rand.Rand
	list    []told
	refused int
}

func newSink(random *rand.Rand) (*sink, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &sink{at: l, random: random}
	go func() { _ = http.Serve(l, s) }()
	return s, nil
}

func (s *sink) url() string { return "http://" + s.at.Addr().String() + "/told" }

func (s *sink) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var e struct{ ID, Type, Subject string }
	if err := json.NewDecoder(r.Body).Decode(&e); err != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.random.IntN(5) == 0 {
		s.refused++
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	s.list = append(s.list, told{e.ID, strings.TrimPrefix(e.Type, "example.woodlark."), e.Subject})
}

// hush has addresses of this machine not answer for a while. It works in a network of its own only,
// which script/cluster makes.
type hush struct {
	mu   sync.Mutex
	list []silence
}

// silence is how long an address did not answer.
type silence struct {
	address  netip.Addr
	from, to time.Time
}

const table = "woodlark_cluster"

func nft(text string) error {
	c := exec.Command("nft", "-f", "-")
	c.Stdin = strings.NewReader(text)
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("nft: %w: %s", err, out)
	}
	return nil
}

func newHush() (*hush, error) {
	return &hush{}, nft("table inet " + table + " {\n set silent { type ipv4_addr; }\n chain in { type filter hook input priority 0; icmp type echo-request ip daddr @silent drop; }\n}\n")
}

const (
	silentFor   = 200 * time.Second // two minutes make a path lost
	silentEvery = 60 * time.Second
)

// run makes one address after another silent, as long as each can come back before the end.
func (h *hush) run(ctx context.Context, addresses []netip.Addr, until time.Time) error {
	var wg sync.WaitGroup
	defer wg.Wait()
	for _, a := range addresses {
		if time.Now().Add(silentFor).After(until) || ctx.Err() != nil {
			return nil
		}
		from := time.Now()
		if err := nft(fmt.Sprintf("add element inet %s silent { %s }\n", table, a)); err != nil {
			return err
		}
		wg.Go(func() {
			wait(ctx, silentFor)
			_ = nft(fmt.Sprintf("delete element inet %s silent { %s }\n", table, a))
			h.mu.Lock()
			defer h.mu.Unlock()
			h.list = append(h.list, silence{a, from, time.Now()})
		})
		wait(ctx, silentEvery)
	}
	return nil
}

func wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
