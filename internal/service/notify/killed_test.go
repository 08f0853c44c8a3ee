package notify_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/notify"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// toBeKilled names the database of a service in a process of its own.
const toBeKilled = "WOODLARK_TEST_TO_BE_KILLED"

// kills is how often the service is killed; WOODLARK_TEST_KILLS says otherwise.
const kills = 15

// cycle is how long a path is well and then without any answer, in minutes.
const cycle, silent = 45, 5

// beKilled is a service that takes in what comes next of each path, and tells of it, until it is
// killed or all is told.
func beKilled(dsn string) {
	ctx := context.Background()
	must := func(err error) {
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	s, err := store.Open(ctx, store.Options{DSN: dsn})
	must(err)
	c, err := service.New(ctx, service.Options{Store: s, Zone: time.UTC})
	must(err)
	c.Notify.Gather, c.Notify.Patience, c.Notify.Retry = time.Millisecond, time.Millisecond, 10*time.Millisecond
	go c.Notify.Run(ctx)
	end, err := strconv.ParseInt(os.Getenv("WOODLARK_TEST_END"), 10, 64)
	must(err)
	list := c.Paths.All()
	pace, err := time.ParseDuration(os.Getenv("WOODLARK_TEST_PACE"))
	must(err)
	tick := time.NewTicker(pace) // so that it takes as long as it is to be killed
	for minute := 0; ; minute++ {
		at := time.Unix(end, 0).Add(time.Duration(minute-minutes()) * time.Minute)
		if minute >= minutes() {
			break
		}
		u := protocol.Upload{Agent: list[0].AgentID}
		for i, p := range list {
			if !at.Before(p.Judged()) {
				lost := 0
				if (minute+i)%cycle >= cycle-silent {
					lost = 60
				}
				u.Readings = append(u.Readings, minuteOf(p.ID, at, lost))
			}
		}
		if len(u.Readings) > 0 {
			must(c.Upload(ctx, u))
			<-tick.C
		}
	}
	for { // until all is told
		matters, err := s.Matters(ctx, 1)
		must(err)
		left, err := s.Messages(ctx, store.MessageFilter{State: store.Waiting, Page: store.Page{Limit: 1}})
		must(err)
		if len(matters)+len(left) == 0 {
			return
		}
		<-tick.C
	}
}

func minutes() int {
	n, _ := strconv.Atoi(os.Getenv("WOODLARK_TEST_MINUTES"))
	return n
}

func minuteOf(path ident.ID, at time.Time, lost int) protocol.Record {
	var probes []reading.Probe
	for i := range 60 {
		p := reading.Probe{DueAt: at.Add(time.Duration(i) * time.Second)}
		if i >= lost {
			p.Outcome, p.RTT = reading.Answered, 10*time.Millisecond+time.Duration(i%5)*10*time.Microsecond
		}
		probes = append(probes, p)
	}
	return protocol.Record{Path: path, Reading: reading.Of(at, time.Minute, 60, time.Second, probes), Packed: reading.Pack(at, probes)}
}

type heard struct{ id, subject, what, order string }

// TestNothingIsLostByKilling: the service is killed at random moments around openings and
// closings. All that happened is told, each at least once and with one identifier, in its order.
func TestNothingIsLostByKilling(t *testing.T) {
	times := kills
	if n, err := strconv.Atoi(os.Getenv("WOODLARK_TEST_KILLS")); err == nil {
		times = n
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	var mu sync.Mutex
	var list []heard
	desk := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var e struct {
			ID, Sequence, Subject string
			Data                  notify.Body
		}
		body, _ := io.ReadAll(r.Body)
		if json.Unmarshal(body, &e) != nil {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		mu.Lock()
		defer mu.Unlock()
		list = append(list, heard{e.ID, e.Subject, e.Data.What, e.Sequence})
	}))
	defer desk.Close()

	dsn := storetest.DSN()
	s, err := store.Open(t.Context(), store.Options{DSN: dsn})
	require.NoError(t, err)
	defer s.Close()
	const whole = 1300 // minutes: all of it is news still
	o := newOfficeOn(t, s, 2, time.Duration(whole)*time.Minute)
	_, err = o.Notify.SaveChannel(t.Context(), "desk", "webhook", json.RawMessage(fmt.Sprintf(`{"url": %q}`, desk.URL)))
	require.NoError(t, err)
	o.rule(notify.Rule{Most: 1 << 20})
	life := []string{toBeKilled + "=" + dsn, fmt.Sprintf("WOODLARK_TEST_END=%d", o.end.Unix()+int64(60*whole)), fmt.Sprintf("WOODLARK_TEST_MINUTES=%d", whole), fmt.Sprintf("WOODLARK_TEST_PACE=%dus", 1000+times*120)}
	killed := 0
	for n := range times + 1 {
		c := exec.Command(os.Args[0])
		c.Env = append(os.Environ(), life...)
		var out strings.Builder
		c.Stderr = &out
		require.NoError(t, c.Start())
		if n < times {
			after := time.AfterFunc(time.Duration(80+random.IntN(300))*time.Millisecond, func() { _ = c.Process.Signal(syscall.SIGKILL) })
			if err := c.Wait(); err != nil {
				killed++
			}
			after.Stop()
			continue
		}
		require.NoError(t, c.Wait(), out.String())
	}

	mu.Lock()
	defer mu.Unlock()
	rows, err := s.Episodes(t.Context(), ident.ID{}, o.end.Add(-2*time.Hour), o.end.Add(365*24*time.Hour))
	require.NoError(t, err)
	require.Greater(t, len(rows), 2, "things happened")
	told := map[string][]heard{} // by episode
	by := map[string]heard{}
	repeats := 0
	for _, h := range list {
		if was, again := by[h.id]; again {
			assert.Equal(t, was, h, "a repeat is the same")
			repeats++
			continue
		}
		by[h.id] = h
		told[h.subject] = append(told[h.subject], h)
	}
	for _, row := range rows {
		got := told[row.ID.String()]
		if !assert.NotEmpty(t, got, "episode from %s was not told", row.FromAt) {
			continue
		}
		assert.Equal(t, "opened", got[0].what)
		for i, h := range got {
			assert.Equal(t, strconv.Itoa(i), h.order, "in its order")
		}
		if row.ToAt != nil {
			assert.Equal(t, "closed", got[len(got)-1].what, "%v", got)
		}
	}
	assert.Positive(t, killed)
	t.Logf("killed %d times; %d episodes, %d messages, %d of them more than once", killed, len(rows), len(by), repeats)
}
