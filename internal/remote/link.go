package remote

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/ed25519"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/signed"
)

// Link is an agent's side: it holds the connection to the service.
type Link struct {
	// Base is where the service is, such as https://woodlark.northquay.example; several, with commas between,
	// where services share a database: the next one is called when one is not there.
	Base string
	Key  string // that it shows; not needed where it signs
	// ID and Signs are whom it signs as, and by what; it shows Key when Signs is nil.
	ID    ident.ID
	Signs ed25519.PrivateKey
	// Former is the key that it showed before it signed, if it ever did: a service that was restored
	// from a backup of that time knows it by that one only, and has it sign anew.
	Former string
	Log    *slog.Logger
	Health func() protocol.Health
	// Trust are the authorities whose certificates are taken; those of this machine when nil.
	Trust *x509.CertPool
	// Pin is the one key that the service may show; see keys.Pin. Trust is not looked at then.
	Pin string

	at    atomic.Int32 // which of several is called
	ahead atomic.Int64 // how far the service's clock is ahead of this one, in seconds
	http  *http.Client // made by the first call
	// spoken is the version of the protocol that the service speaks; 0 as long as none is known.
	spoken atomic.Int32
	make   sync.Once
	etag   string
	mu     sync.Mutex
	going  map[ident.ID]context.CancelFunc
	out    chan protocol.Reply
	calls  map[*call]bool // that are not over
}

// ErrLockedOut is wrapped when the service does not know the agent's key any more.
var ErrLockedOut = errors.New("the service does not know this agent any more")

const (
	callTime    = 60 * time.Second
	healthEvery = 15 * time.Second
	leastAgain  = time.Second
	// stood is how long a connection has to stand to be none that is refused each time.
	stood     = 3 * time.Second
	mostAgain = 30 * time.Second
	// quiet is how long the held connection may say nothing: the service speaks each
	// twenty seconds at least.
	quiet = 50 * time.Second
	// answers is how long a service may take to answer at all where there is another: what it is
	// sent it takes, or refuses, sooner.
	answers    = 20 * time.Second
	replyEvery = 100 * time.Millisecond
)

// request is one call of the service.
func (l *Link) request(ctx context.Context, method, path string, body any) (*http.Response, error) {
	answer, again, err := l.once(ctx, method, path, body)
	if again { // it was signed by a clock that is off
		answer, _, err = l.once(ctx, method, path, body)
	}
	return answer, err
}

// once makes a call. again is that it may do when it is signed anew.
func (l *Link) once(ctx context.Context, method, path string, body any) (_ *http.Response, again bool, _ error) {
	var packed []byte
	if body != nil {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		if err := json.NewEncoder(w).Encode(body); err != nil {
			return nil, false, err
		}
		if err := w.Close(); err != nil {
			return nil, false, err
		}
		packed = b.Bytes()
	}
	base, next := l.base()
	ctx, came := l.whileThere(ctx, base, path)
	defer came()
	r, err := http.NewRequestWithContext(ctx, method, base+"/api/v1/agent"+path, bytes.NewReader(packed))
	if err != nil {
		return nil, false, fmt.Errorf("call the service at %s: %w", base, err)
	}
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Content-Encoding", "gzip")
	}
	if l.Signs != nil {
		at := time.Now().Add(time.Duration(l.ahead.Load()) * time.Second)
		if err := signed.Sign(r, packed, signed.As{ID: l.ID.String(), Key: l.Signs, At: at}); err != nil {
			return nil, false, err
		}
	} else if l.Key != "" {
		r.Header.Set("Authorization", "Bearer "+l.Key)
	}
	r.Header.Set(protocol.VersionHeader, strconv.Itoa(protocol.Version))
	if path == "/plan" && l.etag != "" {
		r.Header.Set("If-None-Match", l.etag)
	}
	l.make.Do(func() {
		own := http.DefaultTransport.(*http.Transport).Clone()
		if len(Places(l.Base)) > 1 { // a slow line is not to be taken for a service that is stopped
			own.ResponseHeaderTimeout = answers
		}
		own.TLSClientConfig = &tls.Config{RootCAs: l.Trust, MinVersion: tls.VersionTLS12}
		if l.Pin != "" {
			own.TLSClientConfig = keys.Pinned(l.Pin)
		}
		l.http = &http.Client{Transport: own}
	})
	answer, err := l.http.Do(r)
	if err != nil {
		next()
		if why := context.Cause(ctx); errors.Is(why, errSilent) {
			err = why
		}
		return nil, false, fmt.Errorf("the service at %s was not reached: %w", base, err)
	}
	moved := l.noteClock(answer.Header.Get("Date"))
	if answer.StatusCode < 300 {
		l.noteProtocol(protocol.ParseVersion(answer.Header.Get(protocol.VersionHeader)))
	}
	switch {
	case answer.StatusCode == http.StatusUnauthorized:
		answer.Body.Close()
		return nil, false, ErrLockedOut
	case answer.StatusCode >= 400:
		defer answer.Body.Close()
		var p struct{ Detail, Title string }
		_ = json.NewDecoder(io.LimitReader(answer.Body, 1<<16)).Decode(&p)
		if p.Detail == "" {
			p.Detail = p.Title
		}
		err := fmt.Errorf("the service at %s says %s: %s", base, answer.Status, p.Detail)
		switch answer.StatusCode {
		case http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
			next()
		case http.StatusRequestTimeout, http.StatusTooManyRequests, http.StatusForbidden: // of the moment
		default:
			if answer.StatusCode < 500 {
				err = fmt.Errorf("%w: %w", protocol.ErrRefused, err)
			}
		}
		return nil, answer.StatusCode == http.StatusForbidden && moved, err
	}
	return answer, false, nil
}

// noteClock notes how far the service's clock is ahead, by the date of an answer of it, and reports
// whether that is much other than was known.
func (l *Link) noteClock(date string) (moved bool) {
	at, err := http.ParseTime(date)
	if err != nil {
		return false
	}
	ahead := int64(time.Until(at).Round(time.Second) / time.Second)
	d := ahead - l.ahead.Swap(ahead)
	return d > 5 || d < -5
}

func (l *Link) call(ctx context.Context, method, path string, body, into any) error {
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	answer, err := l.request(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if into == nil || answer.StatusCode == http.StatusNoContent {
		return nil
	}
	if err := json.NewDecoder(answer.Body).Decode(into); err != nil {
		return fmt.Errorf("read what the service at %s says: %w", l.Base, err)
	}
	return nil
}

// noteProtocol notes which version the service speaks, and says what does not work with an
// older one.
func (l *Link) noteProtocol(version int) {
	if int(l.spoken.Swap(int32(version))) == version || l.Log == nil {
		return
	}
	switch {
	case version < protocol.Version:
		l.Log.Warn("the service is of an older release than this agent: it gets readings without what it does not know of a probe (TTL, cause, order), and what was made of other kinds waits here until it is updated", "service", version, "agent", protocol.Version)
	case version > protocol.Version:
		l.Log.Warn("the service is of a newer release than this agent, which refuses by name what it does not know: update it", "service", version, "agent", protocol.Version)
	}
}

// errOlder is why something waits for a service that is updated.
var errOlder = errors.New("the service is of an older release and does not take what was made of this kind: it waits here until the service is updated")

// first packs the probes of readings as a service of the first version reads them.
func first(u protocol.Upload) (protocol.Upload, error) {
	u.Readings = slices.Clone(u.Readings)
	for i := range u.Readings {
		r := &u.Readings[i]
		probes, err := reading.Unpack(r.Reading.At, r.Packed)
		if err != nil {
			return u, err
		}
		r.Packed = reading.PackFirst(r.Reading.At, probes)
	}
	return u, nil
}

// Upload hands over what was measured; see protocol.Service.
func (l *Link) Upload(ctx context.Context, u protocol.Upload) error {
	if l.spoken.Load() == 1 { // it would refuse for good what it does not know
		if len(u.Made) > 0 {
			return errOlder
		}
		var err error
		if u, err = first(u); err != nil {
			return err
		}
	}
	return l.call(ctx, http.MethodPost, "/uploads", u, nil)
}

// fetch brings the plan if it is another.
func (l *Link) fetch(ctx context.Context, worker protocol.Worker) error {
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	answer, err := l.request(ctx, http.MethodGet, "/plan", nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode == http.StatusNotModified {
		return nil
	}
	var p protocol.Plan
	if err := json.NewDecoder(answer.Body).Decode(&p); err != nil {
		return fmt.Errorf("read the plan: %w", err)
	}
	l.etag = answer.Header.Get("ETag")
	worker.SetPlan(p)
	return nil
}

// Run holds the connection until ctx ends or the agent is locked out, which is the
// error then. While the service is away the agent goes on by the plan that it has.
func (l *Link) Run(ctx context.Context, worker protocol.Worker) error {
	l.going, l.out = map[ident.ID]context.CancelFunc{}, make(chan protocol.Reply, 4096)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var beside sync.WaitGroup
	defer beside.Wait()
	defer cancel()
	beside.Go(func() { l.sayReplies(ctx) })
	beside.Go(func() { l.sayHealth(ctx) })
	again := leastAgain
	away := false
	for ctx.Err() == nil {
		began := time.Now()
		held, err := l.hold(ctx, worker, &away)
		if errors.Is(err, ErrLockedOut) {
			if !l.signsAnew(ctx) {
				return err
			}
			l.Log.Warn("the service is as it was before this agent signed; it goes by the signature again")
		}
		if ctx.Err() != nil {
			break
		}
		if !away {
			away = true
			tellAway(worker, true)
			l.Log.Warn("the service is away; measuring goes on by the plan that is here", "error", err)
		}
		if held || time.Since(began) > time.Minute {
			again = leastAgain
		}
		select {
		case <-time.After(again):
		case <-ctx.Done():
		}
		again = min(2*again, l.mostAgain())
	}
	return nil
}

// tellAway tells an agent that wants to know whether the service is away.
func tellAway(worker protocol.Worker, is bool) {
	if w, ok := worker.(interface{ ServiceAway(bool) }); ok {
		w.ServiceAway(is)
	}
}

// hold fetches the plan and takes commands as long as the connection stands. held is that it did for
// a while.
func (l *Link) hold(ctx context.Context, worker protocol.Worker, away *bool) (held bool, _ error) {
	if err := l.fetch(ctx, worker); err != nil {
		return held, err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	answer, err := l.request(ctx, http.MethodGet, "/commands", nil)
	if err != nil {
		return held, err
	}
	defer answer.Body.Close()
	stands := time.Now()
	defer func() { held = time.Since(stands) > stood }()
	tellAway(worker, false)
	if *away {
		*away = false
		l.Log.Info("the service is there again")
	}
	may := l.mayBeSilent(answer.Header.Get(protocol.SpeaksHeader))
	watchdog := time.AfterFunc(may, func() {
		l.leave(strings.TrimSuffix(answer.Request.URL.String(), "/api/v1/agent/commands"))
		cancel()
	})
	defer watchdog.Stop()
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		watchdog.Reset(may)
		var c protocol.Command
		if err := json.Unmarshal(lines.Bytes(), &c); err != nil {
			return held, fmt.Errorf("read a command: %w", err)
		}
		switch c.Kind {
		case protocol.StillThere:
		case protocol.FetchPlan:
			if err := l.fetch(ctx, worker); err != nil {
				return held, err
			}
		case protocol.StopCommand:
			var id ident.ID
			if json.Unmarshal(c.Body, &id) == nil {
				l.mu.Lock()
				if stop := l.going[id]; stop != nil {
					stop()
				}
				l.mu.Unlock()
			}
		default:
			l.begin(c, worker)
		}
	}
	if err := errors.Join(lines.Err(), ctx.Err()); err != nil {
		return held, fmt.Errorf("the connection to the service broke: %w", err)
	}
	return held, errors.New("the service ended the connection")
}

// begin carries out a command beside others. It outlives the connection: what it
// measures is uploaded all the same.
func (l *Link) begin(c protocol.Command, worker protocol.Worker) {
	ctx, cancel := context.WithTimeout(context.Background(), max(c.Limit, time.Second))
	l.mu.Lock()
	l.going[c.ID] = cancel
	l.mu.Unlock()
	go func() {
		defer cancel()
		body, err := l.carryOut(ctx, c, worker)
		r := protocol.Reply{Command: c.ID, Last: true}
		if err != nil {
			r.Error = err.Error()
		} else if r.Body, err = json.Marshal(body); err != nil {
			r.Error = err.Error()
		}
		l.out <- r
		l.mu.Lock()
		delete(l.going, c.ID)
		l.mu.Unlock()
	}()
}

// tell says how far a command is; what nobody waits for may be left out.
func (l *Link) tell(id ident.ID, body any) {
	b, err := json.Marshal(body)
	if err != nil {
		return
	}
	select {
	case l.out <- protocol.Reply{Command: id, Body: b}:
	default:
	}
}

func (l *Link) carryOut(ctx context.Context, c protocol.Command, worker protocol.Worker) (any, error) {
	read := func(into any) error {
		if err := json.Unmarshal(c.Body, into); err != nil {
			return fmt.Errorf("this agent (an older one?) does not understand the order: %w", err)
		}
		return nil
	}
	switch c.Kind {
	case protocol.DoRun:
		var o protocol.RunOrder
		if err := read(&o); err != nil {
			return nil, err
		}
		return worker.Do(ctx, o, func(p kind.Progress) {
			more, err := json.Marshal(p.More)
			if err != nil || p.More == nil {
				more = nil
			}
			partial, err := json.Marshal(p.Partial)
			if err != nil || p.Partial == nil {
				partial = nil
			}
			l.tell(c.ID, []protocol.HeardRun{{Lane: p.Lane, Done: p.Done, Of: p.Of, Says: p.Says, Address: p.Address, More: more, Partial: partial}})
		})
	case protocol.DoLocate:
		var o protocol.LocateOrder
		if err := read(&o); err != nil {
			return nil, err
		}
		return worker.Locate(ctx, o)
	case protocol.TellState:
		return worker.Standing()
	case protocol.ExpectGuest:
		var t protocol.Ticket
		if err := read(&t); err != nil {
			return nil, err
		}
		return worker.Expect(t)
	}
	return nil, fmt.Errorf("this agent is of another release than its service, and does not know the command %q: update the older of both", c.Kind)
}

// sayReplies sends what was said to commands, some at once.
func (l *Link) sayReplies(ctx context.Context) {
	for {
		var list []protocol.Reply
		select {
		case r := <-l.out:
			list = append(list, r)
		case <-ctx.Done():
			return
		}
		select {
		case <-time.After(replyEvery):
		case <-ctx.Done():
		}
	gathering:
		for len(list) < 2000 {
			select {
			case r := <-l.out:
				list = append(list, r)
			default:
				break gathering
			}
		}
		l.say(ctx, list)
	}
}

// say sends replies; while the service is away for a moment it tries again.
func (l *Link) say(ctx context.Context, list []protocol.Reply) {
	var err error
	for range 5 {
		if err = l.call(ctx, http.MethodPost, "/replies", list, nil); err == nil || ctx.Err() != nil {
			return
		}
		select {
		case <-time.After(2 * time.Second):
		case <-ctx.Done():
			return
		}
	}
	l.Log.Warn("what was said to commands did not come over", "error", err)
}

func (l *Link) sayHealth(ctx context.Context) {
	tick := time.NewTicker(healthEvery)
	defer tick.Stop()
	for {
		if l.Health != nil {
			_ = l.call(ctx, http.MethodPost, "/health", l.Health(), nil) // the held connection tells when the service is away
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}
