package serve

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/api"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/store"
)

const (
	// turnEvery is how often a service looks whether it is its turn.
	turnEvery = 500 * time.Millisecond
	// showEvery is how often it shows that it is there.
	showEvery = 5 * time.Second
)

// together is what a service does that shares its database with others: one works on it, and the others
// hand their callers on to that one, until it is gone.
type together struct {
	p       *Process
	mu      sync.Mutex // of look
	look    *store.Lookout
	began   time.Time
	shown   time.Time
	to      store.Holding      // whom callers are handed on to
	seen    store.Holding      // at the last look
	since   time.Time          // when that was first seen as it is
	leave   context.CancelFunc // ends the calls that are handed on
	welcome bool               // Ready was called
	alone   string             // who works on the database, and does not share it
}

// takeTurns works on the database when it is the turn of this service, and else hands callers on, until
// ctx ends.
func (s *Process) takeTurns(ctx context.Context) error {
	look, err := store.OpenLookout(s.options.Settings.Database)
	if err != nil {
		return err
	}
	defer look.Close()
	x := &together{p: s, look: look, began: time.Now(), leave: func() {}}
	defer func() { x.leave() }()
	tick := time.NewTicker(turnEvery)
	defer tick.Stop()
	for ctx.Err() == nil {
		if err := x.turn(ctx); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
	return nil
}

// turn looks whose turn it is, and takes it if it is ours: then it returns when that is over.
func (x *together) turn(ctx context.Context) error {
	x.show(ctx)
	x.mu.Lock()
	holding, err := x.look.Look(ctx)
	x.mu.Unlock()
	switch {
	case ctx.Err() != nil:
		return nil
	case err != nil: // whoever works on it may be reached all the same
		x.p.face.because(err)
		return nil
	case holding.Over(x.unchanged(holding)) || holding.Owner == x.p.owner:
		return x.lead(ctx, holding)
	}
	return x.follow(ctx, holding)
}

// unchanged is for how long a hold was seen as it is.
func (x *together) unchanged(now store.Holding) time.Duration {
	if x.since.IsZero() || !now.Same(x.seen) {
		x.seen, x.since = now, time.Now()
	}
	return time.Since(x.since)
}

// errAlone is that the service that works on the database hands nobody on.
var errAlone = errors.New("another service works on the database, and does not share it")

// show has others know that this service is there.
func (x *together) show(ctx context.Context) {
	if time.Since(x.shown) < showEvery {
		return
	}
	x.shown = time.Now()
	s := x.p
	m := store.Member{Owner: s.owner, Says: s.says(), Address: s.reach(), Pin: s.ownPin(), Version: s.options.Version, TokenMark: keys.Mark(s.options.Token), BeganAt: x.began}
	x.mu.Lock()
	defer x.mu.Unlock()
	if err := x.look.Show(ctx, m); err != nil && ctx.Err() == nil {
		s.log.Debug("the others could not be shown that this service is there", "error", err)
	}
}

// follow hands callers on.
func (x *together) follow(ctx context.Context, to store.Holding) error {
	if x.to.Address == to.Address && x.to.Pin == to.Pin && bytes.Equal(x.to.Secret, to.Secret) {
		return nil
	}
	if to.Address == "" {
		if x.alone != to.Says {
			x.p.log.Warn("the service that works on the database does not share it: begin it with -together, too; until then callers are not handed on", "says", to.Says)
		}
		x.alone = to.Says
		if x.to.Address != "" {
			x.leave()
			x.to = store.Holding{}
			x.p.face.set(api.Starting(x.p.options.Console, x.p.whyNotReady))
		}
		x.p.face.because(errAlone)
		return nil
	}
	h, err := handsOn(to, x.p.log)
	if err != nil {
		x.p.face.because(err)
		x.p.log.Warn("callers cannot be handed on", "error", err)
		return nil
	}
	x.leave()
	var during context.Context
	during, x.leave = context.WithCancel(ctx)
	x.to = to
	x.p.face.set(while(during, h))
	x.p.log.Info("another service works on the database; callers are handed on to it", "to", to.Address, "says", to.Says)
	x.ready()
	return nil
}

func (x *together) ready() {
	if ready := x.p.options.Ready; ready != nil && !x.welcome {
		ready()
	}
	x.welcome = true
}

// lead works on the database until ctx ends or another has taken it over.
func (x *together) lead(ctx context.Context, over store.Holding) error {
	s := x.p
	x.leave() // who was handed on to who is gone comes again
	x.to = store.Holding{}
	s.face.set(api.Starting(s.options.Console, s.whyNotReady))
	work, end := context.WithCancel(ctx)
	defer end()
	s.over = &over
	err := s.openFor(work)
	if err == nil {
		s.log.Info("this service works on the database")
		x.ready()
		x.serve(work, end)
		if work.Err() == nil {
			end()
		}
	}
	s.stopLeading()
	switch {
	case err == nil, errors.Is(err, store.ErrHeld), ctx.Err() != nil: // another was faster
		return nil
	case errors.Is(err, store.ErrAway):
		s.face.because(err)
		s.log.Error("the database cannot be opened; it is tried again", "error", err)
		return nil
	}
	return err
}

// serve does what the service does until ctx ends or the database is another's.
func (x *together) serve(ctx context.Context, end context.CancelFunc) {
	s := x.p
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.duty(ctx)
	}()
	s.service.SetSeek(x.seek)
	tick := time.NewTicker(showEvery)
	defer tick.Stop()
	for {
		x.show(ctx)
		x.seek(ctx)
		select {
		case <-ctx.Done():
		case err := <-s.lost:
			s.log.Error("another service works on the database by now", "error", err)
			end()
		case <-tick.C:
			continue
		}
		<-done
		return
	}
}

// seek has the service know which others there are.
func (x *together) seek(ctx context.Context) {
	x.mu.Lock()
	list, err := x.look.Members(ctx)
	x.mu.Unlock()
	if c := x.p.door.at.Load(); err == nil && c != nil {
		c.SetMembers(list, x.p.owner)
		x.p.pins.Store(pinsOf(list))
	}
}

// pinsOf are what agents trust services by that show certificates of their own making.
func pinsOf(list []store.Member) *string {
	var pins []string
	for _, m := range list {
		if m.Pin != "" && !slices.Contains(pins, m.Pin) {
			pins = append(pins, m.Pin)
		}
	}
	all := strings.Join(pins, ",")
	return &all
}

// openFor is open for a service that works on the database as long as ctx goes on.
func (s *Process) openFor(ctx context.Context) error {
	s.during = ctx
	return s.open(ctx)
}

// says is who this service is, in words.
func (s *Process) says() string {
	name, _ := os.Hostname()
	return fmt.Sprintf("the one at %s, process %d of %s, state %s", s.URL(), os.Getpid(), name, s.options.Settings.State)
}

// reach is where other services reach this one.
func (s *Process) reach() string {
	if s.options.Settings.Reach != "" {
		return s.options.Settings.Reach
	}
	return s.URL()
}

// stopLeading gives up what is held, so that another may take it at once.
func (s *Process) stopLeading() {
	s.face.set(api.Starting(s.options.Console, s.whyNotReady))
	s.door.at.Store(nil)
	if s.store != nil {
		_ = s.store.Close()
	}
	s.store, s.service, s.metrics = nil, nil, nil
	select { // what was told of the hold that is over
	case <-s.lost:
	default:
	}
}
