package cli

import (
	"bufio"
	"encoding/json"
	"net/url"
	"slices"
	"strconv"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/replay"
)

// streamRoutes writes the routes that traces found on the paths that are meant, in the order
// of time, as a replay reads them. Of many traces that found the same route some are left out.
func (c *call) streamRoutes(from *client.Client, o pathOptions, last time.Duration) error {
	paths, err := o.watched(c, from)
	if err != nil {
		return err
	}
	var list []replay.RouteLine
	seen := map[[3]string]bool{} // ways of asking share the routes of their ends
	for _, p := range paths {
		ends := [3]string{p.From, p.To, strconv.Itoa(p.Family)}
		if seen[ends] {
			continue
		}
		seen[ends] = true
		var lanes apitype.Lanes
		if err := from.Get(c.ctx, "/paths/"+p.ID+"/lanes", url.Values{"from_at": {time.Now().Add(-last).UTC().Format(time.RFC3339)}}, &lanes); err != nil {
			return err
		}
		for _, column := range lanes.Columns {
			line := replay.RouteLine{From: p.From, To: p.To, At: column.At}
			line.SetFamily(ends[2])
			for _, h := range column.Hops {
				for len(line.Hops) < h.TTL-1 {
					line.Hops = append(line.Hops, nil)
				}
				var hop *string
				if len(h.Addresses) == 1 {
					hop = &h.Addresses[0]
				}
				line.Hops = append(line.Hops, hop)
			}
			list = append(list, line)
		}
	}
	slices.SortStableFunc(list, func(a, b replay.RouteLine) int { return a.At.Compare(b.At) })
	w := bufio.NewWriter(c.out)
	lines := json.NewEncoder(w)
	lines.SetEscapeHTML(false)
	for _, l := range list {
		if err := lines.Encode(l); err != nil {
			return err
		}
	}
	return w.Flush()
}
