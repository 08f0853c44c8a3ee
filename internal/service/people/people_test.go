package people_test

import (
	"context"
	"log/slog"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/people"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

func TestMain(m *testing.M) { os.Exit(storetest.Main(m)) }

const phrase = "a gull over grey water"

// clock is a time that stands still until it is moved.
type clock struct {
	mu sync.Mutex
	at time.Time
}

func (c *clock) now() time.Time { c.mu.Lock(); defer c.mu.Unlock(); return c.at }

func (c *clock) pass(d time.Duration) { c.mu.Lock(); defer c.mu.Unlock(); c.at = c.at.Add(d) }

func open(t *testing.T, s *store.Store, c *clock) *people.People {
	t.Helper()
	n := notices.New(notices.Options{Store: s, Log: slog.New(slog.DiscardHandler), Events: &events.Stream{}, Zone: time.UTC, Disk: func() string { return "" }})
	x := people.New(people.Options{Store: s, Notices: n, Log: slog.New(slog.DiscardHandler), Now: c.now})
	require.NoError(t, x.Load(t.Context()))
	return x
}

func letIn(t *testing.T, x *people.People, name string, role people.Role) people.Person {
	t.Helper()
	p, err := x.Add(t.Context(), name, "", role, people.Scope{})
	require.NoError(t, err)
	key, _, err := x.Welcome(t.Context(), p.ID)
	require.NoError(t, err)
	_, err = x.Accept(t.Context(), key, "", "", phrase)
	require.NoError(t, err)
	return p
}

func TestRoles(t *testing.T) {
	for _, c := range []struct {
		is, needs people.Role
		may       bool
	}{
		{people.Viewer, people.Viewer, true}, {people.Viewer, people.Engineer, false}, {people.Viewer, people.Administrator, false},
		{people.Engineer, people.Viewer, true}, {people.Engineer, people.Engineer, true}, {people.Engineer, people.Administrator, false},
		{people.Administrator, people.Viewer, true}, {people.Administrator, people.Administrator, true},
		{"", people.Viewer, false}, {"owner", people.Viewer, false},
	} {
		assert.Equal(t, c.may, people.Who{Role: c.is}.May(c.needs), "%q for %q", c.is, c.needs)
	}
	assert.False(t, people.Of(context.Background()).May(people.Viewer), "nobody may nothing")
	_, err := people.ParseRole("root")
	assert.ErrorContains(t, err, "viewer, engineer and administrator")
}

// TestWaysInEndInTime: links after a week, sessions after twelve hours, tokens at their time, and a
// name that was tried too often is let try again.
func TestWaysInEndInTime(t *testing.T) {
	ctx, c := t.Context(), &clock{at: time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)}
	x := open(t, storetest.New(t), c)
	p, err := x.Add(ctx, "marit", "Marit Vold", people.Engineer, people.Scope{})
	require.NoError(t, err)
	key, until, err := x.Welcome(ctx, p.ID)
	require.NoError(t, err)
	assert.Equal(t, c.at.Add(7*24*time.Hour), until)
	c.pass(7 * 24 * time.Hour)
	_, err = x.Accept(ctx, key, "", "", phrase)
	assert.ErrorIs(t, err, people.ErrWelcome)
	key, _, err = x.Welcome(ctx, p.ID)
	require.NoError(t, err)
	_, err = x.Accept(ctx, key, "", "", "marit-marit")
	assert.ErrorContains(t, err, "little more than the name")
	_, err = x.Accept(ctx, key, "", "", phrase)
	require.NoError(t, err)

	cookie, who, err := x.SignIn(ctx, "Marit", phrase, "192.0.2.7", "a browser")
	require.NoError(t, err)
	assert.Equal(t, "marit from 192.0.2.7", who.Actor())
	c.pass(people.SignInFor - time.Second)
	_, is := x.BySession(ctx, cookie, "192.0.2.8")
	assert.True(t, is)
	assert.Equal(t, "192.0.2.8", x.SignIns(nil)[0].Address, "where it was seen last")
	c.pass(time.Second)
	_, is = x.BySession(ctx, cookie, "192.0.2.8")
	assert.False(t, is)
	assert.Empty(t, x.SignIns(nil))

	end := c.now().Add(time.Hour)
	token, secret, err := x.AddToken(ctx, p.ID, "nightly", people.Viewer, people.Scope{}, &end)
	require.NoError(t, err)
	who, is = x.ByToken(ctx, secret, "192.0.2.9")
	assert.True(t, is)
	assert.Equal(t, people.Viewer, who.Role, "less than the person")
	assert.Equal(t, token.ID, who.Token)
	c.pass(time.Hour)
	_, is = x.ByToken(ctx, secret, "192.0.2.9")
	assert.False(t, is)
	assert.Equal(t, "over", x.Tokens(nil)[0].State(c.now()))

	for range 10 {
		_, _, err = x.SignIn(ctx, "marit", "wrong wrong wrong", "192.0.2.7", "")
		require.ErrorIs(t, err, people.ErrNotIn)
	}
	_, _, err = x.SignIn(ctx, "marit", phrase, "192.0.2.7", "")
	assert.ErrorIs(t, err, people.ErrTooOften)
	c.pass(5 * time.Minute)
	_, _, err = x.SignIn(ctx, "marit", phrase, "192.0.2.7", "")
	assert.NoError(t, err)
}

// TestAnotherServiceKnows: what one service was told another one on the same database knows, and
// what was known outlives a restart; but not a session by a token that is another now.
func TestAnotherServiceKnows(t *testing.T) {
	ctx, c := t.Context(), &clock{at: time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)}
	s := storetest.New(t)
	x := open(t, s, c)
	x.Machine("the token of the state folder")
	p := letIn(t, x, "marit", people.Engineer)
	letIn(t, x, "olav", people.Administrator)
	cookie, _, err := x.SignIn(ctx, "marit", phrase, "192.0.2.7", "")
	require.NoError(t, err)
	own, _, err := x.SignInByMachine(ctx, "192.0.2.7", "")
	require.NoError(t, err)
	token, secret, err := x.AddToken(ctx, p.ID, "nightly", people.Engineer, people.Scope{}, nil)
	require.NoError(t, err)

	y := open(t, s, c)
	y.Machine("the token of the state folder")
	for _, k := range []string{cookie, own} {
		_, is := y.BySession(ctx, k, "")
		assert.True(t, is)
	}
	_, is := y.ByToken(ctx, secret, "")
	assert.True(t, is)
	require.NoError(t, x.EndToken(ctx, token.ID))
	require.NoError(t, x.SignOut(ctx, cookie))
	require.NoError(t, y.Load(ctx))
	_, is = y.ByToken(ctx, secret, "")
	assert.False(t, is)
	_, is = y.BySession(ctx, cookie, "")
	assert.False(t, is)
	y.Machine("another token")
	_, is = y.BySession(ctx, own, "")
	assert.False(t, is)
	_, is = y.ByToken(ctx, "the token of the state folder", "")
	assert.False(t, is)
	_, is = y.ByToken(ctx, "", "")
	assert.False(t, is, "no token is none")

	// Two use one link at once: it is good for one of them.
	key, _, err := x.Welcome(ctx, p.ID)
	require.NoError(t, err)
	var wg sync.WaitGroup
	errs := make([]error, 2)
	for i, z := range []*people.People{x, y} {
		wg.Go(func() { _, errs[i] = z.Accept(ctx, key, "", "", phrase+"!") })
	}
	wg.Wait()
	assert.True(t, (errs[0] == nil) != (errs[1] == nil), "%v", errs)
	assert.ErrorIs(t, x.EndSignIn(ctx, ident.New()), store.ErrNotFound)
}

// TestWhileTheDatabaseIsAway: who is in stays in, and who knows the passphrase comes in.
func TestWhileTheDatabaseIsAway(t *testing.T) {
	c := &clock{at: time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)}
	x := open(t, storetest.New(t), c)
	p := letIn(t, x, "marit", people.Engineer)
	cookie, _, err := x.SignIn(t.Context(), "marit", phrase, "", "")
	require.NoError(t, err)
	_, secret, err := x.AddToken(t.Context(), p.ID, "nightly", people.Viewer, people.Scope{}, nil)
	require.NoError(t, err)
	gone, cancel := context.WithCancel(t.Context())
	cancel() // nothing reaches the database by this
	_, is := x.BySession(gone, cookie, "")
	assert.True(t, is)
	_, is = x.ByToken(gone, secret, "")
	assert.True(t, is)
	again, _, err := x.SignIn(gone, "marit", phrase, "", "")
	require.NoError(t, err)
	_, is = x.BySession(gone, again, "")
	assert.True(t, is)
	_, _, err = x.AddToken(gone, p.ID, "another", people.Viewer, people.Scope{}, nil)
	assert.Error(t, err, "what must be kept is not told as kept")
	assert.Len(t, x.Tokens(nil), 1)
}

// TestWhoIsEndedStaysSo, also when they are signing in, and their sessions are seen, at that moment.
func TestWhoIsEndedStaysSo(t *testing.T) {
	s := storetest.New(t)
	c := &clock{at: time.Now()}
	x := open(t, s, c)
	yes := true
	for round := range 2 {
		p := letIn(t, x, "marit"+string(rune('a'+round)), people.Engineer)
		var all sync.WaitGroup
		began := make(chan struct{}, 100)
		for range 3 {
			all.Go(func() {
				for range 3 {
					key, _, err := x.SignIn(t.Context(), p.Name, phrase, "127.0.0.1", "x")
					began <- struct{}{}
					if err != nil {
						continue
					}
					c.pass(2 * time.Minute) // so that its next use is written down
					_, _ = x.BySession(t.Context(), key, "127.0.0.1")
				}
			})
		}
		<-began
		<-began
		_, err := x.Alter(t.Context(), p.ID, people.Change{Ended: &yes})
		require.NoError(t, err)
		all.Wait()
		again := open(t, s, c) // as the database has it
		for _, one := range []*people.People{x, again} {
			found, err := one.Find(p.Name)
			require.NoError(t, err)
			assert.NotNil(t, found.EndedAt)
			assert.Empty(t, one.SignIns(&p.ID))
		}
		rows, err := s.SignIns(t.Context(), c.now())
		require.NoError(t, err)
		for _, r := range rows {
			assert.NotEqual(t, p.ID, *r.PersonID, "no session is left")
		}
	}
}

// TestSessionsWhileAllIsReadAgain: who came in is in until they sign out, and not from then on, also
// when who may come in is read from the database at that moment.
func TestSessionsWhileAllIsReadAgain(t *testing.T) {
	s := storetest.New(t)
	x := open(t, s, &clock{at: time.Now()})
	x.Machine("0123456789abcdef")
	ctx, stop := context.WithCancel(t.Context())
	var reading sync.WaitGroup
	for range 2 {
		reading.Go(func() {
			for ctx.Err() == nil {
				_ = x.Load(ctx)
			}
		})
	}
	var all sync.WaitGroup
	for range 3 {
		all.Go(func() {
			for range 60 {
				key, _, err := x.SignInByMachine(t.Context(), "127.0.0.1", "x")
				assert.NoError(t, err)
				_, is := x.BySession(t.Context(), key, "127.0.0.1")
				assert.True(t, is, "who has just come in is in")
				assert.NoError(t, x.SignOut(t.Context(), key))
				for range 5 {
					_, is = x.BySession(t.Context(), key, "127.0.0.1")
					assert.False(t, is, "who signed out is out")
				}
			}
		})
	}
	all.Wait()
	stop()
	reading.Wait()
}
