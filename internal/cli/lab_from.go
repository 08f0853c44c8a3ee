package cli

import (
	"net/url"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report/document"
)

var labFromCommand = command{
	name: "lab from", summary: "write a network that behaves as a path did",
	usage:   "-path 'FROM → TO' [-at TIME] [-for DURATION]",
	example: "woodlark lab from -path 'northquay → terminal.holm.example' -at 'yesterday 16:00' -for 30m > holm.yaml\nwoodlark lab check holm.yaml\nwoodlark ping -world holm.yaml -from northquay terminal.holm.example",
	more: "The delay's distribution and memory, losses and their runs, order, rate and queue each\nway, route and MTU are those that were measured then: by the path's probes, by streams\nand throughput tests between its ends, and by the newest trace. " +
		"What was not measured\nis named on top of the file, and left neutral. The last -for when -at is left out.",
	run: runLabFrom,
}

// like says which path, and when.
type like struct {
	path, at string
	span     time.Duration
}

func runLabFrom(c *call) error {
	var l like
	c.withService()
	c.flags.StringVar(&l.path, "path", "", "the path: FROM → TO, or FROM to TO; with 4, 6 or a kind of probe behind it where there are several")
	c.flags.StringVar(&l.at, "at", "", "when: a TIME as in 'woodlark help degraded'")
	c.flags.DurationVar(&l.span, "for", 30*time.Minute, "how long a span")
	c.flags.StringVar(&c.format, "format", "text", "text, the file of the network, or json, its figures too")
	if err := c.parse(); err != nil {
		return err
	}
	switch {
	case len(c.args) > 0:
		return wrongCall("%q is one argument too many; the path is -path 'FROM → TO'", short(c.args[0]))
	case l.path == "":
		return wrongCall("say which path: -path 'FROM → TO'")
	case c.format != "text" && c.format != "json":
		return wrongCall("-format %q is neither text nor json", short(c.format))
	}
	m, err := c.likeness(l)
	if err != nil {
		return err
	}
	if c.format == "json" {
		return document.JSON(c.out, m)
	}
	_, err = c.out.Write([]byte(m.World))
	return err
}

// likeness asks the service what a path was like.
func (c *call) likeness(l like) (m apitype.LikeWorld, err error) {
	if l.span <= 0 {
		return m, wrongCall("-for %v is not above zero", l.span)
	}
	by, err := c.client()
	if err != nil {
		return m, err
	}
	id, from, to, err := c.moment(by, l.path, l.at, l.span)
	if err != nil {
		return m, err
	}
	err = by.Get(c.ctx, "/paths/"+id+"/likeness", url.Values{"from": {from.UTC().Format(time.RFC3339Nano)}, "to": {to.UTC().Format(time.RFC3339Nano)}}, &m)
	return m, err
}

// moment is a path that is named in words, and a span: from a time on, or the last.
func (c *call) moment(by *client.Client, path, at string, span time.Duration) (id string, from, to time.Time, err error) {
	one, err := pathNamed(path)
	if err != nil {
		return "", from, to, err
	}
	if id, err = one.id(c, by); err != nil {
		return "", from, to, err
	}
	to = time.Now()
	from = to.Add(-span)
	if strings.TrimSpace(at) != "" {
		if from, err = parseWhen(at, to, zone()); err != nil {
			return "", from, to, wrongCall("%v", err)
		}
		to = from.Add(span)
	}
	return id, from, to, nil
}
