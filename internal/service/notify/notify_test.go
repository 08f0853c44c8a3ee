package notify_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/core/incident"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/notify"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

func TestMain(m *testing.M) {
	if dsn := os.Getenv(toBeKilled); dsn != "" {
		beKilled(dsn)
		os.Exit(0)
	}
	os.Exit(storetest.Main(m))
}

// desk takes webhooks, unless it is down.
type desk struct {
	*httptest.Server
	mu     sync.Mutex
	down   bool
	tries  int
	got    []notify.Body
	ids    []string
	orders []string
}

func newDesk(t *testing.T) *desk {
	d := &desk{}
	d.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.tries++
		if d.down {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		var e struct {
			ID, Sequence string
			Data         notify.Body
		}
		body, _ := io.ReadAll(r.Body)
		assert.NoError(t, json.Unmarshal(body, &e))
		d.got, d.ids, d.orders = append(d.got, e.Data), append(d.ids, e.ID), append(d.orders, e.Sequence)
	}))
	t.Cleanup(d.Close)
	return d
}

func (d *desk) set(down bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.down = down
}

func (d *desk) whats() (list []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, b := range d.got {
		list = append(list, b.What)
	}
	return list
}

func (d *desk) tried() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.tries
}

// office is a service with an agent and paths that have a baseline, and which tells the desk.
type office struct {
	*service.Service
	t     *testing.T
	d     *desk
	paths []ident.ID
	agent ident.ID
	end   time.Time
}

func newOffice(t *testing.T, paths int) *office { return newOfficeOn(t, storetest.New(t), paths, 0) }

// newOfficeOn is an office whose paths were measured up to so long ago.
func newOfficeOn(t *testing.T, s *store.Store, paths int, ago time.Duration) *office {
	c, err := service.New(t.Context(), service.Options{Store: s, Zone: time.UTC})
	require.NoError(t, err)
	c.Notify.Gather, c.Notify.Retry = time.Millisecond, 20*time.Millisecond
	require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: "quay", Site: "Northquay", Kind: "simulated", Address: "192.0.2.250"}, nil))
	a, err := c.Fleet.Named("quay")
	require.NoError(t, err)
	o := &office{Service: c, t: t, d: newDesk(t), agent: a.ID, end: time.Now().Truncate(time.Minute).Add(-ago)}
	spec := watches.Spec{From: []string{"quay"}, Tags: []string{"islands"}}
	for i := range paths {
		spec.To = append(spec.To, fmt.Sprintf("192.0.%d.%d", 2+i/240, 1+i%240))
	}
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "w", spec, false)
	require.NoError(t, err)
	o.paths = w.Paths
	for ago := 90; ago > 3; ago-- {
		o.upload(ago, 0, o.paths...)
	}
	for _, id := range o.paths {
		_, err := c.Paths.TakeBaseline(t.Context(), id, 2*time.Hour+ago, true)
		require.NoError(t, err)
	}
	_, err = c.Notify.SaveChannel(t.Context(), "desk", "webhook", json.RawMessage(fmt.Sprintf(`{"url": %q}`, o.d.URL)))
	require.NoError(t, err)
	return o
}

func (o *office) upload(ago, lost int, paths ...ident.ID) {
	o.late(ago, lost, 10*time.Millisecond, paths...)
}

// late uploads a minute of another round trip.
func (o *office) late(ago, lost int, rtt time.Duration, paths ...ident.ID) {
	u := protocol.Upload{Agent: o.agent}
	at := o.end.Add(-time.Duration(ago) * time.Minute)
	for _, id := range paths {
		var probes []reading.Probe
		for i := range 60 {
			p := reading.Probe{DueAt: at.Add(time.Duration(i) * time.Second)}
			if i >= lost {
				p.Outcome, p.RTT = reading.Answered, rtt+time.Duration(i%5)*10*time.Microsecond
			}
			probes = append(probes, p)
		}
		u.Readings = append(u.Readings, protocol.Record{Path: id, Reading: reading.Of(at, time.Minute, 60, time.Second, probes), Packed: reading.Pack(at, probes)})
	}
	require.NoError(o.t, o.Upload(o.t.Context(), u))
}

func (o *office) rule(r notify.Rule) notify.Rule {
	r.Channel = "desk"
	if r.Name == "" {
		r.Name = "all"
	}
	saved, err := o.Notify.SaveRule(o.t.Context(), r)
	require.NoError(o.t, err)
	return saved
}

// run has people told until the returned function is called.
func run(n *notify.Notify) func() {
	ctx, stop := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() { n.Run(ctx) })
	return func() { stop(); wg.Wait() }
}

func (o *office) lose(paths ...ident.ID) { o.upload(3, 60, paths...); o.upload(2, 60, paths...) }

const soon = 20 * time.Second

// TestWhatHappensIsToldInItsOrder: through a receiver that fails, and a restart of the service;
// each message has one identifier.
func TestWhatHappensIsToldInItsOrder(t *testing.T) {
	o := newOffice(t, 1)
	o.rule(notify.Rule{})
	o.rule(notify.Rule{Name: "elsewhere", Selection: selection.Selection{Sites: []string{"Holm"}}})
	o.rule(notify.Rule{Name: "incidents", IncidentsOnly: true})
	o.d.set(true)
	stop := run(o.Notify)
	o.lose(o.paths...)
	require.Eventually(t, func() bool { return o.d.tried() >= 3 }, soon, 5*time.Millisecond, "it is tried again and again")
	stop()
	list, err := o.Store.Messages(t.Context(), store.MessageFilter{})
	require.NoError(t, err)
	require.Len(t, list, 1, "one rule is of it")
	assert.Contains(t, list[0].Error, "500")
	for ago := 1; ago > -9; ago-- { // it is over, while nobody is told
		o.upload(ago, 0, o.paths...)
	}

	again, err := service.New(t.Context(), service.Options{Store: o.Store, Zone: time.UTC})
	require.NoError(t, err)
	again.Notify.Gather, again.Notify.Retry = time.Millisecond, 20*time.Millisecond
	stop = run(again.Notify)
	defer stop()
	require.Eventually(t, func() bool { return o.d.tried() >= 4 }, soon, 5*time.Millisecond)
	assert.Empty(t, o.d.whats())
	o.d.set(false)
	require.Eventually(t, func() bool { return len(o.d.whats()) >= 2 }, soon, 5*time.Millisecond)
	o.d.mu.Lock()
	defer o.d.mu.Unlock()
	assert.Equal(t, list[0].ID.String(), o.d.ids[0])
	assert.Equal(t, "opened", o.d.got[0].What)
	assert.Equal(t, "lost", o.d.got[0].Kind)
	assert.Equal(t, "quay", o.d.got[0].From)
	assert.Equal(t, "192.0.2.1", o.d.got[0].To)
	last := len(o.d.got) - 1
	assert.Equal(t, "closed", o.d.got[last].What)
	assert.NotNil(t, o.d.got[last].EndedAt)
	for i, order := range o.d.orders {
		assert.Equal(t, fmt.Sprint(i), order)
	}
}

// TestQuietHoursSayWhatTheyHeld: as one message, when they are over.
func TestQuietHoursSayWhatTheyHeld(t *testing.T) {
	o := newOffice(t, 2)
	now := time.Now().UTC()
	quiet := fmt.Sprintf("%02d:00-%02d:00", (now.Hour()+3)%24, (now.Hour()+4)%24)
	r := o.rule(notify.Rule{Hours: quiet})
	o.lose(o.paths...)
	require.NoError(t, o.Notify.Route(t.Context(), now.Add(time.Minute)))
	held, err := o.Store.Messages(t.Context(), store.MessageFilter{State: store.Held})
	require.NoError(t, err)
	require.Len(t, held, 2)
	require.NoError(t, o.Notify.Release(t.Context(), now.Add(30*time.Minute)))
	waiting, err := o.Store.Messages(t.Context(), store.MessageFilter{State: store.Waiting})
	require.NoError(t, err)
	assert.Empty(t, waiting, "it is quiet still")
	open := now.Truncate(time.Hour).Add(3*time.Hour + time.Minute)
	require.NoError(t, o.Notify.Release(t.Context(), open))
	waiting, err = o.Store.Messages(t.Context(), store.MessageFilter{State: store.Waiting, Rule: r.ID})
	require.NoError(t, err)
	require.Len(t, waiting, 1)
	assert.Contains(t, waiting[0].Title, "2 messages were held back")
	text, data := notify.Read(waiting[0])
	assert.Contains(t, text, "192.0.2.1")
	assert.Contains(t, text, "192.0.2.2")
	assert.Contains(t, string(data), held[0].ID.String())
}

// TestAStormBecomesASummary: so many a minute are told one by one.
func TestAStormBecomesASummary(t *testing.T) {
	o := newOffice(t, 6)
	o.rule(notify.Rule{Most: 2})
	o.lose(o.paths...)
	now := time.Now()
	require.NoError(t, o.Notify.Route(t.Context(), now.Add(30*time.Second)))
	all, err := o.Store.Messages(t.Context(), store.MessageFilter{})
	require.NoError(t, err)
	assert.Empty(t, all, "many open at once: it is waited whether one segment explains them")
	now = now.Add(3 * time.Minute)
	require.NoError(t, o.Notify.Route(t.Context(), now))
	count := func(state string) int {
		list, err := o.Store.Messages(t.Context(), store.MessageFilter{State: state})
		require.NoError(t, err)
		return len(list)
	}
	assert.Equal(t, 2, count(store.Waiting))
	assert.Equal(t, 4, count(store.Held))
	require.NoError(t, o.Notify.Release(t.Context(), now.Add(2*time.Minute)))
	assert.Equal(t, 3, count(store.Waiting), "two, and the summary")
	assert.Equal(t, 4, count(store.Summed))
	matters, err := o.Store.Matters(t.Context(), 10)
	require.NoError(t, err)
	assert.Empty(t, matters)
}

// TestAnIncidentIsOneMessage: of its paths nothing is told one by one, neither as they get worse
// nor as they are over.
func TestAnIncidentIsOneMessage(t *testing.T) {
	o := newOffice(t, 301)
	o.rule(notify.Rule{Selection: selection.Selection{Tags: []string{"islands"}, Sites: []string{"northquay"}}})
	o.lose(o.paths...)
	now := time.Now()
	x := guard.Incident{From: now, ToldAt: now, Measure: baseline.Loss, Sure: 0.99, Segment: incident.Segment{From: "192.0.2.250", To: "203.0.113.81"}}
	for _, id := range o.paths[:300] {
		x.Members = append(x.Members, guard.Member{Path: o.Paths.Key(o.Paths.ByID(id)), Episodes: []int{1}})
	}
	require.NoError(t, o.Incidents.Found(t.Context(), []guard.Incident{x}))
	id := o.Incidents.Open()[0].ID
	body, err := json.Marshal(o.Incidents.Open()[0].Incident)
	require.NoError(t, err)
	require.NoError(t, o.Store.SaveIncidents(t.Context(), []store.Incident{{ID: id, FromAt: now.UTC(), ToldAt: now.UTC(), Body: string(body), Matters: []store.Matter{{ID: ident.New(), Subject: id, What: "opened", At: now.UTC(), MadeAt: now.UTC()}}}}))
	require.NoError(t, o.Notify.Route(t.Context(), now.Add(3*time.Minute)))
	for ago := 1; ago > -9; ago-- {
		o.upload(ago, 0, o.paths[:300]...)
	}
	require.NoError(t, o.Notify.Route(t.Context(), now.Add(4*time.Minute)))
	list, err := o.Store.Messages(t.Context(), store.MessageFilter{Oldest: true})
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Contains(t, list[0].Title, "192.0.3.61", "who is not part of it is told alone")
	assert.Contains(t, list[1].Title, "Incident 300 paths got worse together")
	assert.Contains(t, list[2].Title, "Incident is over: ")
	assert.Equal(t, []ident.ID{id, id}, []ident.ID{list[1].Subject, list[2].Subject})
}

// TestOnlyWhatIsBadEnough is told by a rule with a severity: a path that loses all always is; one
// that is a little late is not, until it gets worse by a step; then its end is told, too.
func TestOnlyWhatIsBadEnough(t *testing.T) {
	o := newOfficeOn(t, storetest.New(t), 2, time.Hour)
	o.rule(notify.Rule{Severity: 30})
	o.rule(notify.Rule{Name: "any"})
	late, lost := o.paths[0], o.paths[1]
	for ago := 3; ago > -12; ago-- {
		o.late(ago, 0, 14*time.Millisecond, late)
		o.late(ago, 60, 0, lost)
	}
	told := func(rule string) (list []string) {
		r, err := o.Notify.Rule(rule)
		require.NoError(t, err)
		require.NoError(t, o.Notify.Route(t.Context(), time.Now().Add(3*time.Minute)))
		messages, err := o.Store.Messages(t.Context(), store.MessageFilter{Rule: r.ID, Oldest: true})
		require.NoError(t, err)
		for _, m := range messages {
			_, data := notify.Read(m)
			var b notify.Body
			require.NoError(t, json.Unmarshal(data, &b))
			list = append(list, b.What+" "+b.To)
		}
		return list
	}
	assert.ElementsMatch(t, []string{"opened 192.0.2.1", "opened 192.0.2.2"}, told("any"))
	assert.Equal(t, []string{"opened 192.0.2.2"}, told("all"))
	for ago := -12; ago > -30; ago-- {
		o.late(ago, 0, 300*time.Millisecond, late)
	}
	assert.Equal(t, []string{"opened 192.0.2.2", "worse 192.0.2.1"}, told("all"))
	list, err := o.Store.Messages(t.Context(), store.MessageFilter{})
	require.NoError(t, err)
	assert.Contains(t, list[0].Title, "got worse: RTT 300 ms instead of 10.0", "it says what it is told for")
	for ago := -30; ago > -50; ago-- {
		o.upload(ago, 0, late)
	}
	got := told("all")
	assert.Equal(t, "closed 192.0.2.1", got[len(got)-1])
	_, err = o.Notify.SaveRule(t.Context(), notify.Rule{Name: "x", Channel: "desk", Severity: -1})
	require.ErrorIs(t, err, kind.ErrInvalid)
}

// TestItIsToldAgainWhileItGoesOn, and not once it is over.
func TestItIsToldAgainWhileItGoesOn(t *testing.T) {
	o := newOffice(t, 1)
	o.rule(notify.Rule{Remind: 4 * time.Hour})
	stop := run(o.Notify)
	o.lose(o.paths...)
	require.Eventually(t, func() bool { // not only there, but known to be: a message is handed over again otherwise
		list, err := o.Store.Messages(t.Context(), store.MessageFilter{State: store.Delivered})
		return err == nil && len(list) == 1
	}, soon, 5*time.Millisecond)
	stop()
	now := time.Now()
	for range 2 {
		require.NoError(t, o.Notify.Remind(t.Context(), now.Add(5*time.Hour)))
	}
	list, err := o.Store.Messages(t.Context(), store.MessageFilter{Oldest: true})
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "reminder", list[1].What)
	assert.Equal(t, 1, list[1].Turn)
	assert.Contains(t, list[1].Title, "goes on since")
	list[1].State = store.Delivered
	require.NoError(t, o.Store.SaveMessages(t.Context(), list[1]))
	require.NoError(t, o.Notify.Remind(t.Context(), now.Add(10*time.Hour)))
	list, err = o.Store.Messages(t.Context(), store.MessageFilter{})
	require.NoError(t, err)
	require.Len(t, list, 3, "and once more, four hours later")
	list[0].State = store.Delivered
	require.NoError(t, o.Store.SaveMessages(t.Context(), list[0]))
	for ago := 1; ago > -9; ago-- {
		o.upload(ago, 0, o.paths...)
	}
	require.NoError(t, o.Notify.Remind(t.Context(), now.Add(15*time.Hour)))
	list, err = o.Store.Messages(t.Context(), store.MessageFilter{})
	require.NoError(t, err)
	assert.Len(t, list, 3)
}

func TestChannelsAndRulesThatCannotBe(t *testing.T) {
	o := newOffice(t, 1)
	for says, r := range map[string]notify.Rule{
		"channel": {Name: "a", Channel: "gull"}, "needs a name": {Channel: "desk"}, "none of degraded, lost": {Name: "a", Channel: "desk", States: []string{"sad"}}, "hours": {Name: "a", Channel: "desk", Hours: "never"}, "Atlantis": {Name: "a", Channel: "desk", Hours: "08:00-09:00", Zone: "Atlantis"}, "sooner than": {Name: "a", Channel: "desk", Remind: time.Second}, "below zero": {Name: "a", Channel: "desk", Most: -1},
	} {
		_, err := o.Notify.SaveRule(t.Context(), r)
		assert.ErrorIs(t, err, kind.ErrInvalid, says)
		assert.ErrorContains(t, err, says)
	}
	_, err := o.Notify.SaveChannel(t.Context(), "a", "pigeon", nil)
	assert.ErrorContains(t, err, "mail, syslog, webhook")
	o.rule(notify.Rule{Name: "kept"})
	assert.ErrorContains(t, o.Notify.RemoveChannel(t.Context(), "desk"), `the rule "kept" leads to`)
	require.NoError(t, o.Notify.Test(t.Context(), "desk"))
	assert.Len(t, o.d.whats(), 1)
	o.d.set(true)
	assert.ErrorContains(t, o.Notify.Test(t.Context(), "desk"), "500")
	again, err := service.New(t.Context(), service.Options{Store: o.Store, Zone: time.UTC})
	require.NoError(t, err)
	assert.Len(t, again.Notify.Rules(), 1)
	assert.Len(t, again.Notify.Channels(), 1)
	require.NoError(t, o.Notify.RemoveRule(t.Context(), "kept"))
	require.NoError(t, o.Notify.RemoveChannel(t.Context(), "desk"))
	assert.ErrorIs(t, o.Notify.RemoveRule(t.Context(), "kept"), store.ErrNotFound)
}
