// Package maintenance knows when work is done on what is measured: then paths are measured, but
// neither judged nor learnt from.
//
//	w, err := m.Save(ctx, maintenance.Window{Name: "mast", Site: "Holm", From: from, Until: until})
package maintenance

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/schedule"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

// Window is when work is done, and on what: once, again and again, or by a calendar.
type Window struct {
	ID   ident.ID `json:"-"`
	Name string   `json:"-"`
	// Site, Agent, Target and Tag say of which paths it is; all that are given must fit, and
	// it is of all paths when none is.
	Site   string `json:"site,omitempty"`
	Agent  string `json:"agent,omitempty"`
	Target string `json:"target,omitempty"`
	Tag    string `json:"tag,omitempty"`
	// From and Until are a stretch of time.
	From  time.Time `json:"from,omitzero"`
	Until time.Time `json:"until,omitzero"`
	// Times with a cron expression are when it begins again and again, and Lasts how long it is
	// then.
	Times schedule.Times `json:"times,omitzero"`
	Lasts time.Duration  `json:"lasts,omitempty"`
	// Calendar is a calendar's text, and Address where it is fetched anew.
	Calendar string `json:"calendar,omitempty"`
	Address  string `json:"address,omitempty"`
}

const (
	mostWindows  = 1000
	mostName     = 100
	longestLasts = 7 * 24 * time.Hour
	fetchEvery   = time.Hour
	fetchTime    = 20 * time.Second
	mostFetched  = 1<<20 + 1
	ahead        = 8 * 24 * time.Hour
)

// Options of Windows; all are needed.
type Options struct {
	Store   *store.Store
	Log     *slog.Logger
	Events  *events.Stream
	Notices *notices.Notices
	Fleet   *fleet.Fleet
	Paths   *paths.Paths
	Watches *watches.Watches
	Zone    *time.Location // of calendars that name none
	// Training is how far back windows matter.
	Training time.Duration
}

// Windows are all windows of maintenance. It is safe for concurrent use.
type Windows struct {
	Options
	mu      sync.Mutex
	list    []Window
	applied time.Time
	paths   int // that they were applied to
	fetched map[ident.ID]fetched
}

// fetched is when a calendar was asked for, and whether that failed.
type fetched struct {
	at   time.Time
	fail string
}

// New is without a window.
func New(o Options) *Windows { return &Windows{Options: o, fetched: map[ident.ID]fetched{}} }

// Load takes up what the database knows.
func (x *Windows) Load(ctx context.Context) error {
	rows, err := x.Store.Maintenances(ctx)
	if err != nil {
		return err
	}
	list := make([]Window, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal([]byte(r.Body), &list[i]); err != nil {
			return fmt.Errorf("read maintenance %q: %w", r.Name, err)
		}
		list[i].ID, list[i].Name = r.ID, r.Name
	}
	x.mu.Lock()
	x.list = list
	x.mu.Unlock()
	x.apply(time.Now())
	return nil
}

// All are the windows, by name.
func (x *Windows) All() []Window {
	x.mu.Lock()
	defer x.mu.Unlock()
	return slices.Clone(x.list)
}

// Save keeps a window; one whose identifier is known is replaced.
func (x *Windows) Save(ctx context.Context, w Window) (Window, error) {
	if w.Name = strings.TrimSpace(w.Name); w.Name == "" || len(w.Name) > mostName {
		return w, fmt.Errorf("%w: maintenance needs a name of 1 to %d characters", kind.ErrInvalid, mostName)
	}
	if w.Address != "" {
		text, err := fetch(ctx, w.Address)
		if err != nil {
			return w, fmt.Errorf("%w: %w", kind.ErrInvalid, err)
		}
		w.Calendar = text
	}
	if err := x.check(w); err != nil {
		return w, fmt.Errorf("%w: %w", kind.ErrInvalid, err)
	}
	what := "maintenance_changed"
	if w.ID.IsZero() {
		what, w.ID = "maintenance_added", ident.New()
	}
	if err := x.keep(ctx, w); err != nil {
		return w, err
	}
	x.Notices.Changed(ctx, what, w.Name, nil, w.short())
	return w, nil
}

// short is a window without the text of its calendar.
func (w Window) short() Window {
	if w.Calendar != "" {
		w.Calendar = fmt.Sprintf("%d bytes", len(w.Calendar))
	}
	return w
}

// keep writes a window down and applies it.
func (x *Windows) keep(ctx context.Context, w Window) error {
	body, err := json.Marshal(w)
	if err != nil {
		return err
	}
	if err := x.Store.SaveMaintenance(ctx, store.Maintenance{ID: w.ID, Name: w.Name, Body: string(body), CreatedAt: time.Now().UTC()}); err != nil {
		return err
	}
	x.mu.Lock()
	x.list = slices.DeleteFunc(slices.Clone(x.list), func(o Window) bool { return o.ID == w.ID })
	x.list = append(x.list, w)
	slices.SortFunc(x.list, func(a, b Window) int { return strings.Compare(a.Name, b.Name) })
	x.mu.Unlock()
	x.apply(time.Now())
	x.Events.Publish(events.Event{Kind: events.WatchChanged})
	return nil
}

// Remove removes a window by its name or identifier; the error wraps store.ErrNotFound.
func (x *Windows) Remove(ctx context.Context, what string) error {
	for _, w := range x.All() {
		if w.ID.String() != what && w.Name != what {
			continue
		}
		if err := x.Store.DeleteMaintenance(ctx, w.ID); err != nil {
			return err
		}
		x.mu.Lock()
		x.list = slices.DeleteFunc(slices.Clone(x.list), func(o Window) bool { return o.ID == w.ID })
		x.mu.Unlock()
		x.apply(time.Now())
		x.Events.Publish(events.Event{Kind: events.WatchChanged})
		x.Notices.Changed(ctx, "maintenance_removed", w.Name, w.short(), nil)
		return nil
	}
	return fmt.Errorf("maintenance %q: %w", kind.Shorten(what), store.ErrNotFound)
}

// check says what of a window cannot be.
func (x *Windows) check(w Window) error {
	once, again, by := !w.From.IsZero() || !w.Until.IsZero(), w.Times.Cron != "" || w.Lasts != 0, w.Calendar != ""
	n := 0
	for _, is := range []bool{once, again, by} {
		if is {
			n++
		}
	}
	switch {
	case n == 0:
		return errors.New("say when: from and until, cron and lasts, or a calendar")
	case n > 1:
		return errors.New("from and until, cron and lasts, and a calendar exclude each other")
	case once && (w.From.IsZero() || w.Until.IsZero()):
		return errors.New("a stretch of time has a begin and an end: from and until")
	case once && !w.Until.After(w.From):
		return fmt.Errorf("it ends at %s, before it begins at %s", w.Until.Format(time.RFC3339), w.From.Format(time.RFC3339))
	case again && (w.Times.Cron == "" || w.Lasts <= 0 || w.Lasts > longestLasts):
		return fmt.Errorf("maintenance that comes back has a cron expression, and lasts up to %v each time", longestLasts)
	case len(x.All()) >= mostWindows && w.ID.IsZero():
		return fmt.Errorf("there are %d windows of maintenance, as many as may be; remove those that are over", mostWindows)
	}
	if w.Agent != "" {
		if _, err := x.Fleet.Named(w.Agent); err != nil {
			return errors.New(strings.TrimPrefix(err.Error(), kind.ErrInvalid.Error()+": "))
		}
	}
	_, err := x.spans(w, time.Now(), time.Now().Add(ahead))
	return err
}

// spans are when a window is, between two times.
func (x *Windows) spans(w Window, from, until time.Time) (list []schedule.Span, err error) {
	switch {
	case w.Calendar != "":
		c, err := schedule.ReadCalendar(w.Calendar, x.Zone)
		return c.Between(from, until), err
	case w.Times.Cron != "":
		s, err := w.Times.With(0, 0, 0)
		if err != nil {
			return nil, err
		}
		for at := s.Next(from.Add(-w.Lasts)); !at.IsZero() && at.Before(until); at = s.Next(at) {
			list = append(list, schedule.Span{Name: w.Name, From: at.UTC(), Until: at.Add(w.Lasts).UTC()})
		}
		return list, nil
	case w.From.Before(until) && w.Until.After(from):
		list = append(list, schedule.Span{Name: w.Name, From: w.From.UTC(), Until: w.Until.UTC()})
	}
	return list, nil
}

// Next is the stretch of a window that goes on or comes next; false when there is none within
// a year.
func (x *Windows) Next(w Window, now time.Time) (schedule.Span, bool) {
	for _, far := range []time.Duration{ahead, 366 * 24 * time.Hour} {
		if list, err := x.spans(w, now, now.Add(far)); err == nil && len(list) > 0 {
			return list[0], true
		}
	}
	return schedule.Span{}, false
}

// fits reports whether a window is of a path.
func (x *Windows) fits(w Window, p *paths.Path, tags []string) bool {
	a := x.Fleet.ByID(p.AgentID)
	site, name := "", ""
	if a != nil {
		site, name = a.Site, a.Name
	}
	return (w.Site == "" || w.Site == p.SiteNow() || w.Site == site) && (w.Agent == "" || w.Agent == name) &&
		(w.Target == "" || w.Target == p.Target) && (w.Tag == "" || slices.Contains(tags, w.Tag))
}

// apply tells all paths when work is done on them.
func (x *Windows) apply(now time.Time) {
	from, until := now.Add(-x.Training-24*time.Hour), now.Add(ahead)
	type one struct {
		Window
		spans []baseline.Interval
	}
	var all []one
	for _, w := range x.All() {
		spans, err := x.spans(w, from, until)
		if err != nil {
			x.Log.Error("a window of maintenance cannot be read", "name", w.Name, "error", err)
			continue
		}
		o := one{Window: w}
		for _, s := range spans {
			o.spans = append(o.spans, baseline.Interval{From: s.From, To: s.Until})
		}
		all = append(all, o)
	}
	by := x.Watches.OfPaths()
	list := x.Paths.All()
	for _, p := range list {
		var tags []string
		for _, w := range by[p.ID] {
			tags = append(tags, w.Spec.Tags...)
		}
		var own []baseline.Interval
		for _, o := range all {
			if x.fits(o.Window, p, tags) {
				own = append(own, o.spans...)
			}
		}
		p.SetMaintenance(own)
	}
	x.mu.Lock()
	x.applied, x.paths = now, len(list)
	x.mu.Unlock()
}

// Tick fetches calendars whose time has come, and applies windows to paths that are new, and as
// time goes on.
func (x *Windows) Tick(ctx context.Context, now time.Time) error {
	for _, w := range x.All() {
		if w.Address != "" {
			if err := x.refetch(ctx, w, now); err != nil {
				return err
			}
		}
	}
	x.mu.Lock()
	due := now.Sub(x.applied) >= time.Hour || len(x.Paths.All()) != x.paths
	x.mu.Unlock()
	if due {
		x.apply(now)
	}
	return nil
}

// refetch fetches a calendar when it is time. While it cannot be had the last one counts, which
// is told once.
func (x *Windows) refetch(ctx context.Context, w Window, now time.Time) error {
	x.mu.Lock()
	last := x.fetched[w.ID]
	if now.Sub(last.at) < fetchEvery {
		x.mu.Unlock()
		return nil
	}
	x.fetched[w.ID] = fetched{now, last.fail}
	x.mu.Unlock()
	text, err := fetch(ctx, w.Address)
	if err == nil {
		_, err = schedule.ReadCalendar(text, x.Zone)
	}
	fail := ""
	if err != nil {
		fail = err.Error()
	}
	x.mu.Lock()
	x.fetched[w.ID] = fetched{now, fail}
	x.mu.Unlock()
	switch {
	case err != nil && last.fail == "":
		x.Notices.Notify(ctx, "calendar_lost", fmt.Sprintf("The calendar of maintenance %q cannot be had: %v. What it said last counts.", w.Name, err))
	case err == nil && text != w.Calendar:
		w.Calendar = text
		return x.keep(ctx, w)
	}
	return nil
}

// fetch gets the text of a calendar.
func fetch(ctx context.Context, address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return "", fmt.Errorf("%q is no address of a calendar; it begins with https:// or http://", kind.Shorten(address))
	}
	ctx, cancel := context.WithTimeout(ctx, fetchTime)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", err
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return "", fmt.Errorf("fetch the calendar: %w", err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return "", fmt.Errorf("fetch the calendar: %s answers %s", u.Host, answer.Status)
	}
	text, err := io.ReadAll(io.LimitReader(answer.Body, mostFetched))
	if err != nil {
		return "", fmt.Errorf("fetch the calendar: %w", err)
	}
	return string(text), nil
}
