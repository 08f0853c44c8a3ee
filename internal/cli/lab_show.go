package cli

import (
	"fmt"
	"strconv"
	"time"

	"woodlark.example/internal/lab"
	"woodlark.example/internal/network/world/link"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var labShowCommand = command{
	name: "lab show", summary: "what crosses each link now",
	usage: "[options]", example: "woodlark lab show -for 10s",
	more: "At a terminal it goes on until Ctrl-C. Rates count the bytes of whole IP packets that\ncame to the link since the line before.",
	run:  runLabShow,
}

func runLabShow(c *call) error {
	var name string
	var duration, every time.Duration
	c.withFormat()
	c.withLabName(&name)
	c.flags.DurationVar(&duration, "for", 0, "how long; until Ctrl-C at a terminal, else once, when left out")
	c.flags.DurationVar(&every, "every", time.Second, "time between two looks")
	if err := c.parse(); err != nil {
		return err
	}
	switch {
	case len(c.args) > 0:
		return wrongCall("%q is one argument too many", short(c.args[0]))
	case every < 100*time.Millisecond || every > time.Hour:
		return wrongCall("-every %v is not between 100ms and 1h", every)
	}
	r, err := aliveLab(name)
	if err != nil {
		return err
	}
	watching := isTerminal(c.out) && c.format == "text"
	last, err := r.Show()
	if err != nil {
		return err
	}
	for began := time.Now(); ; {
		select {
		case <-c.ctx.Done():
			return nil
		case <-time.After(every):
		}
		now, err := r.Show()
		if err != nil {
			return err
		}
		if watching {
			fmt.Fprint(c.out, "\x1b[H\x1b[2J")
		}
		if err := c.writeShowing(r, last, now); err != nil {
			return err
		}
		last = now
		if duration == 0 && !watching || duration > 0 && time.Since(began) >= duration {
			return nil
		}
	}
}

// shownLink is a link with its rates between two looks.
type shownLink struct {
	lab.Link
	ArrivedBPS float64 `json:"arrived_bps"`
	PacketsPS  float64 `json:"packets_per_second"`
}

func (c *call) writeShowing(r lab.Record, last, now lab.Showing) error {
	seconds := now.At.Sub(last.At).Seconds()
	links := make([]shownLink, len(now.Links))
	for i, l := range now.Links {
		links[i].Link = l
		if seconds > 0 && i < len(last.Links) {
			links[i].ArrivedBPS = float64(l.Bytes-last.Links[i].Bytes) * 8 / seconds
			links[i].PacketsPS = float64(l.Packets-last.Links[i].Packets) / seconds
		}
	}
	var raw [][]string
	columns := []string{"lab", "at", "from", "to", "linked", "packet_count", "arrived_bps", "lost_count", "queue_full_count", "policed_count", "too_big_count", "down_count", "queue_ms", "overflow_count"}
	for _, l := range links {
		raw = append(raw, []string{r.Name, now.At.UTC().Format(time.RFC3339Nano), l.From, l.To, strconv.FormatBool(l.Linked), fmt.Sprint(l.Packets), report.Cell(&l.ArrivedBPS), fmt.Sprint(l.Lost), fmt.Sprint(l.Full),
			fmt.Sprint(l.Policed), fmt.Sprint(l.TooBig), fmt.Sprint(l.Down), report.Cell(&l.Backlog), fmt.Sprint(now.Overflow)})
	}
	rows := make([][]string, len(links))
	for i, l := range links {
		rows[i] = []string{l.From + " → " + l.To, count(l.Packets), rateOf(l.ArrivedBPS), count(l.Lost), count(l.Full + l.Policed), count(l.TooBig + l.Down), strconv.FormatFloat(l.Backlog, 'f', 1, 64)}
		if !l.Linked {
			rows[i][0] += " (cut)"
		}
	}
	doc := document.Document{Records: document.RecordsOf(columns, raw)}
	doc.Say("Lab %s, up since %s", document.Strong(r.Name), report.When(r.StartedAt, zone()))
	doc.Gap()
	if now.Overflow > 0 {
		doc.Say("The lab itself dropped %d packets, because more were under way than it holds: what was measured meanwhile does not count.", now.Overflow)
		doc.Gap()
	}
	doc.Add(document.Table{Columns: []document.Column{{Name: "Direction"}, {Name: "Packets", Right: true}, {Name: "Now", Right: true},
		{Name: "Lost", Right: true}, {Name: "Dropped", Right: true}, {Name: "Refused", Right: true}, {Name: "Queue ms", Right: true}}, Rows: rows})
	return c.write(map[string]any{"lab": r.Name, "at": now.At, "links": links, "overflow": now.Overflow}, doc)
}

func count(n uint64) string {
	if n == 0 {
		return "–"
	}
	return strconv.FormatUint(n, 10)
}

func rateOf(bps float64) string {
	if bps == 0 {
		return "–"
	}
	return link.RateText(bps)
}

var labDownCommand = command{
	name: "lab down", summary: "take a lab down, with all that runs in it",
	usage: "[options]", example: "woodlark lab down -name skerry",
	run: runLabDown,
}

func runLabDown(c *call) error {
	var name string
	var all bool
	c.withLabName(&name)
	c.flags.BoolVar(&all, "all", false, "all labs of this user")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) > 0 {
		return wrongCall("%q is one argument too many", short(c.args[0]))
	}
	records, err := lab.List(labFolder())
	if err != nil {
		return err
	}
	if !all {
		r, err := findLab(name)
		if err != nil {
			return err
		}
		records = []lab.Record{r}
	}
	for _, r := range records {
		programs, err := r.Down()
		if err != nil {
			return err
		}
		text := "Lab " + c.strong(r.Name) + " is down"
		if programs > 0 {
			text += fmt.Sprintf("; %d programs at its hosts were ended", programs)
		}
		fmt.Fprintln(c.out, text+".")
	}
	return nil
}
