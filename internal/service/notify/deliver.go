package notify

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"woodlark.example/core/guard"
	"woodlark.example/internal/channel"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
)

const (
	every     = time.Second
	handOver  = 45 * time.Second // for one message
	atOnce    = 500
	retryTime = 5 * time.Second // after the first try; doubled each time
	retryMost = 10 * time.Minute
	givesUp   = 24 * time.Hour
	// gathered is for how long what comes in a storm is put together.
	gathered = time.Minute
	listed   = 50 // of what a summary is of
)

// Run tells people until ctx ends.
func (x *Notify) Run(ctx context.Context) {
	var wg sync.WaitGroup
	defer x.Close()
	defer wg.Wait()
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		now := time.Now()
		for _, step := range []struct {
			what string
			do   func(context.Context, time.Time) error
		}{{"make messages", x.route}, {"tell what was held back", x.release}, {"remind", x.remind}, {"order reports", x.orderReports}} {
			if err := step.do(ctx, now); err != nil && ctx.Err() == nil {
				x.Log.Error("could not "+step.what, "error", err)
			}
		}
		if err := x.deliver(ctx, now, &wg); err != nil && ctx.Err() == nil {
			x.Log.Error("messages could not be looked up", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// release tells what was held back, as one message a rule, once its hours allow it and there is
// no storm.
func (x *Notify) release(ctx context.Context, now time.Time) error {
	list, err := x.Store.Messages(ctx, store.MessageFilter{State: store.Held, Oldest: true, Page: store.Page{Limit: 5000}})
	if err != nil || len(list) == 0 {
		return err
	}
	by := map[ident.ID][]store.Message{}
	for _, m := range list {
		by[m.RuleID] = append(by[m.RuleID], m)
	}
	for _, r := range x.Rules() {
		some := by[r.ID]
		if len(some) == 0 || x.quiet(r, now) || now.Sub(some[0].At) < gathered {
			continue
		}
		if err := x.Store.SaveMessages(ctx, x.summed(r, some, now)...); err != nil {
			return err
		}
	}
	return nil
}

// summed are messages that were held back, marked, and the one that tells of all.
func (x *Notify) summed(r Rule, list []store.Message, now time.Time) []store.Message {
	first, last := list[0].At.In(x.Zone), list[len(list)-1].At.In(x.Zone)
	t := told{title: fmt.Sprintf("%d messages were held back from %s to %s", len(list), first.Format("Mon 15:04"), last.Format("Mon 15:04"))}
	if len(list) == 1 {
		t.title = "Held back since " + first.Format("Mon 15:04") + ": " + list[0].Title
	}
	t.body = Body{What: "summary", Kind: "summary", BeganAt: list[0].At.UTC(), ToldAt: now.UTC(), Sentence: t.title}
	var text []string
	out := make([]store.Message, 0, len(list)+1)
	parts := []ident.ID{r.ID}
	ended := now.UTC()
	for n, m := range list {
		if n < listed {
			text = append(text, m.At.In(x.Zone).Format("Mon 15:04 ")+m.Title)
			t.body.Messages = append(t.body.Messages, m.ID.String())
		}
		parts = append(parts, m.ID)
		m.State, m.EndedAt = store.Summed, &ended
		out = append(out, m)
	}
	if n := len(list); n > listed {
		text = append(text, fmt.Sprintf("and %d more", n-listed))
	}
	t.text = strings.Join(text, "\n")
	body, _ := t.letter()
	id := idOf(parts...)
	return append(out, store.Message{ID: id, RuleID: r.ID, ChannelID: list[0].ChannelID, Subject: id, What: "summary", At: ended, DueAt: ended, State: store.Waiting, Title: t.title, Body: body})
}

const remindEvery = time.Minute

// remind tells again of what goes on.
func (x *Notify) remind(ctx context.Context, now time.Time) error {
	if now.Sub(x.reminded) < remindEvery {
		return nil
	}
	x.reminded = now
	for _, r := range x.Rules() {
		if r.Remind == 0 || x.quiet(r, now) {
			continue
		}
		if err := x.remindOf(ctx, r, now); err != nil {
			return err
		}
	}
	return nil
}

func (x *Notify) remindOf(ctx context.Context, r Rule, now time.Time) error {
	list, err := x.Store.Messages(ctx, store.MessageFilter{Rule: r.ID, Since: now.Add(-longestReminded), Page: store.Page{Limit: 5000}})
	if err != nil {
		return err
	}
	last := map[ident.ID]store.Message{}
	for _, m := range list { // newest first
		if _, is := last[m.Subject]; !is {
			last[m.Subject] = m
		}
	}
	goesOn := x.goesOn()
	for subject, m := range last {
		if !goesOn[subject] || m.What == string(guard.Closed) || now.Sub(m.At) < r.Remind || m.State == store.Waiting || m.State == store.Held {
			continue
		}
		var l letter
		if err := json.Unmarshal([]byte(m.Body), &l); err != nil {
			continue
		}
		var b Body
		if err := json.Unmarshal(l.Data, &b); err != nil {
			continue
		}
		b.What, b.ToldAt = "reminder", now.UTC()
		name := "Incident "
		if b.Kind != "incident" {
			name = b.From + " → " + b.To + " "
		}
		t := told{title: fmt.Sprintf("%sgoes on since %s: %s", name, b.BeganAt.In(x.Zone).Format("Mon 15:04"), b.Sentence), text: l.Text, body: b}
		body, err := t.letter()
		if err != nil {
			return err
		}
		again := store.Message{ID: idOf(m.ID, r.ID), RuleID: r.ID, ChannelID: m.ChannelID, Subject: subject, Turn: m.Turn + 1, What: "reminder", At: now.UTC(), DueAt: now.UTC(), State: store.Waiting, Title: t.title, Body: body}
		if err := x.Store.Route(ctx, []store.Message{again}, nil); err != nil {
			return err
		}
	}
	return nil
}

// longestReminded is how long ago something may have been told last for a reminder.
const longestReminded = 7 * 24 * time.Hour

// goesOn are the episodes and incidents that are open.
func (x *Notify) goesOn() map[ident.ID]bool {
	open := map[ident.ID]bool{}
	for _, i := range x.Incidents.Open() {
		open[i.ID] = true
	}
	for _, p := range x.Paths.All() {
		for _, id := range p.OpenEpisodes() {
			open[id] = true
		}
	}
	return open
}

// deliver hands over what is due: each channel by itself, and what is of one subject in its
// order.
func (x *Notify) deliver(ctx context.Context, now time.Time, wg *sync.WaitGroup) error {
	list, err := x.Store.Messages(ctx, store.MessageFilter{State: store.Waiting, Oldest: true, Page: store.Page{Limit: 5000}})
	if err != nil {
		return err
	}
	by := map[ident.ID][]store.Message{}
	for _, m := range list {
		by[m.ChannelID] = append(by[m.ChannelID], m)
	}
	for _, c := range x.Channels() {
		some := by[c.ID]
		x.mu.Lock()
		begin := len(some) > 0 && !x.busy[c.ID]
		if begin {
			x.busy[c.ID] = true
		}
		x.mu.Unlock()
		if !begin {
			continue
		}
		wg.Go(func() {
			defer func() {
				x.mu.Lock()
				delete(x.busy, c.ID)
				x.mu.Unlock()
			}()
			x.handOver(ctx, c, some)
		})
	}
	return nil
}

// handOver hands messages over by a channel, one after the other.
func (x *Notify) handOver(ctx context.Context, c Channel, list []store.Message) {
	type line struct{ rule, subject ident.ID }
	waits := map[line]bool{}
	for n, m := range list {
		of := line{m.RuleID, m.Subject}
		if n >= atOnce || ctx.Err() != nil {
			return
		}
		if waits[of] || m.DueAt.After(time.Now()) {
			waits[of] = true
			continue
		}
		err := x.one(ctx, c, m)
		if err != nil && ctx.Err() != nil {
			return // it is handed over once more at the next start
		}
		now := time.Now().UTC()
		m.Tries++
		switch {
		case err == nil:
			m.State, m.EndedAt, m.Error = store.Delivered, &now, ""
		case errors.Is(err, channel.ErrRefused) || now.Sub(m.At) >= givesUp:
			m.State, m.EndedAt, m.Error = store.GaveUp, &now, err.Error()
			x.Notices.Notify(ctx, "message_given_up", fmt.Sprintf("A message could not be handed over by the channel %s: %v. It said: %s", c.Name, err, m.Title))
		default:
			m.Error = err.Error()
			m.DueAt = now.Add(min(retryMost, x.Retry<<min(m.Tries-1, 10)))
			waits[of] = true
		}
		if err := x.keep(ctx, m); err != nil {
			x.Log.Error("it could not be kept that a message was handed over; it is once more, with its identifier", "message", m.ID, "error", err)
			return
		}
	}
}

const keeping = 5 * time.Second

// keep keeps how a message stands, also when the service is being stopped.
func (x *Notify) keep(ctx context.Context, m store.Message) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), keeping)
	defer cancel()
	return x.Store.SaveMessages(ctx, m)
}

func (x *Notify) one(ctx context.Context, c Channel, m store.Message) error {
	by, err := x.opened(c)
	if err != nil {
		return err
	}
	var l letter
	if err := json.Unmarshal([]byte(m.Body), &l); err != nil {
		return fmt.Errorf("%w: it cannot be read: %w", channel.ErrRefused, err)
	}
	out := channel.Message{ID: m.ID, At: m.At.UTC(), What: m.What, Subject: m.Subject.String(), Order: m.Turn, Title: m.Title, Text: l.Text, Body: l.Data}
	if err := x.enclose(ctx, c, l, &out); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, handOver)
	defer cancel()
	return by.Deliver(ctx, out)
}
