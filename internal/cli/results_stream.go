package cli

import (
	"bufio"
	"encoding/json"
	"net/url"
	"strconv"
	"time"

	"woodlark.example/core/guard"
	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/replay"
)

// heldReadings is how many readings are held in memory at a time, over all paths.
const heldReadings = 200_000

// source gives the readings of one path, page by page.
type source struct {
	key  guard.Key
	id   string
	page []apitype.Reading
	next *time.Time
}

// fill gets the next page when the one before is used up; it reports whether there is a
// reading.
func (s *source) fill(c *call, from *client.Client, limit int) (bool, error) {
	for len(s.page) == 0 && s.next != nil {
		var page api.ReadingList
		query := url.Values{"from_at": {s.next.UTC().Format(time.RFC3339Nano)}, "limit": {strconv.Itoa(limit)}}
		if err := from.Get(c.ctx, "/paths/"+s.id+"/readings", query, &page); err != nil {
			return false, err
		}
		s.page, s.next = page.Readings, page.NextFrom
	}
	return len(s.page) > 0, nil
}

// watched are the watched paths that are meant; there is one at the least.
func (o pathOptions) watched(c *call, from *client.Client) (list []apitype.Path, err error) {
	query := url.Values{"limit": {"20000"}}
	if o.from != "" {
		query.Set("agent", o.from)
	}
	var all api.PathList
	if err := from.Get(c.ctx, "/paths", query, &all); err != nil {
		return nil, err
	}
	for _, p := range all.Paths {
		if (o.to == "" || p.To == o.to) && o.means(p) {
			list = append(list, p)
		}
	}
	if len(list) == 0 {
		return nil, wrongCall("no watched path is meant by -from %q -to %q -family %q -via %q; the console shows the paths there are", short(o.from), short(o.to), o.family, short(o.via))
	}
	return list, nil
}

// streamReadings writes the readings of the paths that are meant, in the order of time.
func (c *call) streamReadings(from *client.Client, o pathOptions, last time.Duration) error {
	paths, err := o.watched(c, from)
	if err != nil {
		return err
	}
	var sources []*source
	begin := time.Now().Add(-last)
	for _, p := range paths {
		sources = append(sources, &source{key: guard.Key{From: p.From, To: p.To, Family: strconv.Itoa(p.Family), Via: p.Via}, id: p.ID, next: &begin})
	}
	limit := min(5000, max(50, heldReadings/len(sources)))
	w := bufio.NewWriter(c.out)
	lines := json.NewEncoder(w)
	lines.SetEscapeHTML(false)
	for {
		var first *source
		kept := sources[:0]
		for _, s := range sources {
			ok, err := s.fill(c, from, limit)
			if err != nil {
				return err
			}
			if !ok {
				continue
			}
			kept = append(kept, s)
			if first == nil || s.page[0].StartedAt.Before(first.page[0].StartedAt) {
				first = s
			}
		}
		if sources = kept; first == nil {
			return w.Flush()
		}
		r := first.page[0]
		first.page = first.page[1:]
		if err := lines.Encode(replay.LineOf(first.key, r.Figures, r.Notes)); err != nil {
			return err
		}
	}
}
