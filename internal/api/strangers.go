package api

import (
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/signed"
)

const (
	wrongMost    = 20 // keys that were wrong, from one address within wrongWithin
	wrongMostAll = 300
	wrongWithin  = time.Minute

	mostWaiting   = 64 // calls without a key, with a body, at once
	mostWaitingOf = 8  // of one address
	strangersTime = 10 * time.Second
	knownTime     = 2 * time.Minute // for a body of who has a key
)

// throttle counts what was wrong lately, by address. Its zero value is ready.
type throttle struct {
	mu    sync.Mutex
	times map[string][]time.Time
	all   []time.Time
}

func recent(list []time.Time, now time.Time) []time.Time {
	return slices.DeleteFunc(list, func(t time.Time) bool { return now.Sub(t) >= wrongWithin })
}

func (t *throttle) add(address string, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.times == nil || len(t.times) > 10_000 {
		t.times = map[string][]time.Time{}
	}
	if list := recent(t.times[address], now); len(list) <= wrongMost {
		t.times[address] = append(list, now)
	}
	if t.all = recent(t.all, now); len(t.all) <= wrongMostAll {
		t.all = append(t.all, now)
	}
}

// full reports whether an address was wrong too often, or all addresses together were.
func (t *throttle) full(address string, now time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	list := recent(t.times[address], now)
	if t.times != nil {
		t.times[address] = list
	}
	if len(list) == 0 {
		delete(t.times, address)
	}
	t.all = recent(t.all, now)
	// Who was not wrong itself is let in while others are.
	return len(list) >= wrongMost || len(t.all) >= wrongMostAll && len(list) > 0
}

// doors counts who waits. Its zero value is ready.
type doors struct {
	mu  sync.Mutex
	all int
	of  map[string]int
}

func (d *doors) enter(address string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.of == nil {
		d.of = map[string]int{}
	}
	if d.all >= mostWaiting || d.of[address] >= mostWaitingOf {
		return false
	}
	d.all++
	d.of[address]++
	return true
}

func (d *doors) leave(address string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.all--
	if d.of[address]--; d.of[address] == 0 {
		delete(d.of, address)
	}
}

func addressOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

// strangers bounds what callers without a key may have: time for a body, and places.
func (s *server) strangers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.ContentLength == 0 {
			next.ServeHTTP(w, r)
			return
		}
		control := http.NewResponseController(w)
		if s.hasKey(r) {
			_ = control.SetReadDeadline(time.Now().Add(knownTime))
			next.ServeHTTP(w, r)
			return
		}
		_ = control.SetReadDeadline(time.Now().Add(strangersTime))
		address := addressOf(r)
		if !s.waiting.enter(address) {
			w.Header().Set("Retry-After", "10")
			refuse(w, r, http.StatusTooManyRequests, "Too many calls without a key at once; try again in a moment.")
			return
		}
		defer s.waiting.leave(address)
		next.ServeHTTP(w, r)
	})
}

// hasKey reports whether a call comes with a key that is known.
func (s *server) hasKey(r *http.Request) bool {
	if token, isBearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); isBearer {
		if _, is := s.c.People.ByToken(r.Context(), token, addressOf(r)); is {
			return true
		}
		_, _, known := s.c.Fleet.ByKey(token)
		return known
	}
	if signed.Is(r) {
		return s.signsNow(r)
	}
	_, is := s.c.People.BySession(r.Context(), cookieOf(r), addressOf(r))
	return is
}

// fromOurPage says why a call by cookie cannot come from our own console; "" when it can.
// A browser sends the cookie with what other pages make it call.
func (s *server) fromOurPage(r *http.Request) string {
	if !s.ownHost(r.Host) {
		return "This service is not known as " + cut(r.Host) + ". Name it with -host-names, if that is one of its names."
	}
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		return ""
	}
	if from := r.Header.Get("Sec-Fetch-Site"); from != "" && from != "same-origin" && from != "none" {
		return "This call comes from another page than the console's."
	}
	if origin := r.Header.Get("Origin"); origin != "" {
		u, err := url.Parse(origin)
		// A proxy before us may have given the call another Host.
		if err != nil || u.Host != r.Host && !slices.Contains(s.Names, strings.ToLower(u.Hostname())) {
			return "This call comes from the page " + cut(origin) + ", not from the console."
		}
	}
	return ""
}

// ownHost reports whether a name can be this service's: one that leads to another address
// tomorrow (rebinding) is none.
func (s *server) ownHost(hostport string) bool {
	host, _, err := net.SplitHostPort(hostport)
	if err != nil {
		host = hostport
	}
	host = strings.ToLower(strings.Trim(host, "[]"))
	if net.ParseIP(host) != nil || host == "localhost" || slices.Contains(s.Names, host) {
		return true
	}
	own, err := os.Hostname()
	own = strings.ToLower(own)
	return err == nil && (host == own || strings.HasPrefix(host, own+"."))
}

// signsNow reports whether a call is signed by an agent that is known here, whether or not it came
// before.
func (s *server) signsNow(r *http.Request) bool {
	c, err := signed.Read(r)
	if err != nil {
		return false
	}
	id, err := ident.Parse(c.ID)
	if err != nil {
		return false
	}
	key, _, known := s.c.Fleet.Signing(id)
	return known && c.Check(r, key) == nil
}
