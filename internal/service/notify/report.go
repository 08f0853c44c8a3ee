package notify

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"woodlark.example/internal/channel"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/report/document/raster"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/store"
)

// ReportOrder is a report that is made now and then.
type ReportOrder struct {
	Every     string   `json:"every"`        // daily, weekly (on Mondays) or monthly (on the first)
	At        string   `json:"at,omitempty"` // of the day, such as 07:30; 07:00 when empty
	Objective string   `json:"objective,omitempty"`
	Formats   []string `json:"formats,omitempty"` // pdf when none
}

const usualAt = "07:00"

func (o ReportOrder) check() error {
	if !slices.Contains([]string{"daily", "weekly", "monthly"}, o.Every) {
		return fmt.Errorf("%w: a report comes daily, weekly or monthly, not %q", kind.ErrInvalid, kind.Shorten(o.Every))
	}
	if _, err := time.Parse("15:04", o.at()); err != nil {
		return fmt.Errorf("%w: %q is no time of the day such as 07:30", kind.ErrInvalid, kind.Shorten(o.At))
	}
	for _, f := range o.Formats {
		if reports.Formats()[f] == "" {
			return fmt.Errorf("%w: a report is written as text, html, pdf, csv or json, not as %q", kind.ErrInvalid, kind.Shorten(f))
		}
	}
	return nil
}

func (o ReportOrder) at() string {
	if o.At == "" {
		return usualAt
	}
	return o.At
}

// due is when a report was due last, and the whole days, week or month that it is of, by the
// wall's clock.
func (o ReportOrder) due(now time.Time, zone *time.Location) (due, from, to time.Time) {
	clock, _ := time.Parse("15:04", o.at())
	y, m, d := now.In(zone).Date()
	day := func(y int, m time.Month, d int) time.Time { return time.Date(y, m, d, 0, 0, 0, 0, zone) }
	switch o.Every {
	case "weekly":
		d -= (int(now.In(zone).Weekday()) + 6) % 7
	case "monthly":
		d = 1
	}
	for {
		to = day(y, m, d)
		due = time.Date(y, m, d, clock.Hour(), clock.Minute(), 0, 0, zone)
		switch o.Every {
		case "weekly":
			from = day(y, m, d-7)
		case "monthly":
			from = day(y, m-1, 1)
		default:
			from = day(y, m, d-1)
		}
		if !due.After(now) {
			return due, from, to
		}
		y, m, d = from.Date() // it is due later today: the one before was the last
	}
}

// madeOf says what report is made as a message is handed over.
type madeOf struct {
	From  time.Time           `json:"from_at"`
	To    time.Time           `json:"to_at"`
	Order ReportOrder         `json:"order"`
	Zone  string              `json:"zone"`
	Of    selection.Selection `json:"of"`
}

func (x *Notify) zoneOf(r Rule) *time.Location {
	if z, err := time.LoadLocation(r.Zone); err == nil && r.Zone != "" {
		return z
	}
	return x.Zone
}

// orderReports makes messages of the reports that are due. One that was due while the service
// was not there for longer than a day is left out.
func (x *Notify) orderReports(ctx context.Context, now time.Time) error {
	for _, r := range x.Rules() {
		if r.Report == nil {
			continue
		}
		zone := x.zoneOf(r)
		due, from, to := r.Report.due(now, zone)
		if due.Before(r.SavedAt) || now.Sub(due) > past || x.ordered[r.ID].Equal(due) {
			continue
		}
		c, err := x.Channel(r.Channel)
		if err != nil {
			continue
		}
		l := letter{Data: json.RawMessage("{}"), Report: &madeOf{from, to, *r.Report, zone.String(), r.Selection}}
		body, err := json.Marshal(l)
		if err != nil {
			return err
		}
		subject := idOf(r.ID)
		var moment ident.ID
		copy(moment[:], due.UTC().Format("20060102150405"))
		title := fmt.Sprintf("Report %s: %s to %s", r.Name, from.Format("Mon 2 Jan 2006"), to.AddDate(0, 0, -1).Format("Mon 2 Jan 2006"))
		m := store.Message{ID: idOf(r.ID, moment), RuleID: r.ID, ChannelID: c.ID, Subject: subject, What: "report", At: now.UTC(), DueAt: now.UTC(), State: store.Waiting, Title: title, Body: string(body)}
		if err := x.Store.Route(ctx, []store.Message{m}, nil); err != nil {
			return err
		}
		x.ordered[r.ID] = due
	}
	return nil
}

const makingTime = 10 * time.Minute

// enclose adds what is made as a message is handed over: a report, or a picture of the path.
func (x *Notify) enclose(ctx context.Context, c Channel, l letter, out *channel.Message) error {
	ctx, cancel := context.WithTimeout(ctx, makingTime)
	defer cancel()
	if l.Report == nil {
		if c.Type.Pictures {
			out.Picture = x.picture(ctx, l)
		}
		return nil
	}
	o := l.Report
	zone, err := time.LoadLocation(o.Zone)
	if err != nil {
		zone = x.Zone
	}
	r, err := x.Reports.Make(ctx, reports.Spec{From: o.From, To: o.To, Objective: o.Order.Objective, Selection: o.Of})
	if err != nil {
		if errors.Is(err, kind.ErrInvalid) {
			return fmt.Errorf("%w: the report cannot be made: %w", channel.ErrRefused, err)
		}
		return fmt.Errorf("make the report: %w", err)
	}
	var text, data bytes.Buffer
	if err := r.Print(&text, "text", zone); err != nil {
		return err
	}
	if err := json.NewEncoder(&data).Encode(r); err != nil {
		return err
	}
	out.Text, out.Body = text.String(), data.Bytes()
	if !c.Type.Files {
		return nil
	}
	// Who gets files reads those; the text says what matters.
	out.Text = r.Summary
	formats := o.Order.Formats
	if len(formats) == 0 {
		formats = []string{"pdf"}
	}
	for _, f := range formats {
		var b bytes.Buffer
		if err := r.Print(&b, f, zone); err != nil {
			return err
		}
		ending := f
		if f == "text" {
			ending = "txt"
		}
		out.Files = append(out.Files, channel.File{Name: "report-" + o.To.In(zone).AddDate(0, 0, -1).Format("2006-01-02") + "." + ending, Type: reports.Formats()[f], Data: b.Bytes()})
	}
	return nil
}

const (
	pictured     = 10 * time.Hour // at the most
	picturedBack = 3 * time.Hour  // before it began
)

// picture is the path of an episode from before it began until now; none when there is nothing
// to be shown. A message without it says all that matters.
func (x *Notify) picture(ctx context.Context, l letter) []byte {
	var b Body
	if err := json.Unmarshal(l.Data, &b); err != nil || b.PathID == "" {
		return nil
	}
	path, err := ident.Parse(b.PathID)
	if err != nil {
		return nil
	}
	now := time.Now()
	end := now
	if b.EndedAt != nil {
		end = *b.EndedAt
	}
	from := b.BeganAt.Add(-picturedBack)
	if now.Sub(from) > pictured && end.Sub(b.BeganAt) < pictured-picturedBack {
		now = from.Add(pictured)
	}
	p, err := x.Reports.Plot(ctx, path, from, now, document.PlotSpan{From: b.BeganAt, To: end, Says: b.Sentence})
	var out bytes.Buffer
	if err == nil && len(p.Points) > 0 {
		err = raster.PNG(&out, p)
	}
	if err != nil {
		x.Log.Warn("a message goes without its picture", "error", err)
		return nil
	}
	return out.Bytes()
}
