package dossiers

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/route"
	"woodlark.example/internal/capture"
	"woodlark.example/internal/dossier"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/replay"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/store"
)

// report writes the report, as a page and as PDF.
func (m *making) report(r *reports.Period) error {
	if m.mask != nil { // through its words, so that each printer gets the same
		b, err := json.Marshal(r)
		if err != nil {
			return err
		}
		var masked reports.Period
		if err := json.Unmarshal(m.mask.bytes(b), &masked); err != nil {
			return fmt.Errorf("mask the report: %w", err)
		}
		r = &masked
	}
	for _, format := range []string{"html", "pdf", "json"} {
		var b bytes.Buffer
		if err := r.Print(&b, format, m.Zone); err != nil {
			return err
		}
		if err := m.file("report."+format, b.Bytes()); err != nil {
			return err
		}
	}
	return nil
}

// readings writes each reading on a line, path after path, in the order of time within one.
func (m *making) readings(ctx context.Context) error {
	f, err := m.to.Create("readings.ndjson")
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	keys := m.Dossiers.Paths.Keys()
	for _, p := range m.paths {
		// By the day, so that little is held at a time.
		for from := m.From; from.Before(m.To); from = from.Add(24 * time.Hour) {
			to := from.Add(24 * time.Hour)
			if to.After(m.To) {
				to = m.To
			}
			list, err := m.Store.Readings(ctx, p.ID, from, to, 0, false)
			if err != nil {
				return err
			}
			for _, r := range list {
				b, err := json.Marshal(replay.LineOf(keys[p.ID], r.Reading.Figures(), r.Notes()))
				if err != nil {
					return err
				}
				if _, err := w.Write(append(m.mask.bytes(b), '\n')); err != nil {
					return err
				}
			}
		}
	}
	return w.Flush()
}

// routed is the route of a path, one way, at a time.
type routed struct {
	From    string               `json:"from"`
	To      string               `json:"to"`
	Family  int                  `json:"family"`
	Via     string               `json:"via,omitempty"`
	Way     string               `json:"way"` // there, or back: measured from the far end
	At      time.Time            `json:"at"`
	Outcome string               `json:"outcome"`
	Found   *finding.TraceReport `json:"found,omitempty"`
}

// findRoutes finds the traces of the time, there and, where an agent stands at the far end,
// back; and the last of before.
func (m *making) findRoutes(ctx context.Context) error {
	out := []routed{}
	for _, p := range m.paths {
		if err := m.lane(ctx, &out, "there", p.AgentID, p.Target, p); err != nil {
			return err
		}
		far, err := m.Fleet.Named(p.Target)
		if err != nil {
			continue
		}
		near := m.Fleet.ByID(p.AgentID)
		if near == nil {
			continue
		}
		for _, target := range slices.Compact([]string{near.Name, near.Address}) {
			if target == "" {
				continue
			}
			if err := m.lane(ctx, &out, "back", far.ID, target, p); err != nil {
				return err
			}
		}
	}
	m.routes = out
	seen := map[string]bool{}
	for _, r := range out {
		if r.Found == nil {
			continue
		}
		for _, h := range r.Found.Hops {
			for _, n := range h.Nodes {
				if n.Segment == string(route.Ours) && m.mask != nil {
					m.mask.take(n.Address)
				}
				if n.Owner != "" && !seen[n.Address] {
					seen[n.Address] = true
					m.owners = append(m.owners, owned{n.Address, n.Owner, n.Segment})
				}
			}
		}
	}
	return nil
}

func (m *making) lane(ctx context.Context, out *[]routed, way string, agent ident.ID, target string, p *paths.Path) error {
	page := store.Page{Limit: 500, After: m.To}
	before := false
	for !before {
		list, err := m.Store.Traces(ctx, store.TraceFilter{Agent: agent, Target: target, Family: p.Family, Page: page})
		if err != nil {
			return err
		}
		for _, t := range list {
			if before = t.StartedAt.Before(m.From); before && t.Outcome != protocol.Done {
				before = false // the last before that found something
				continue
			}
			whole, err := m.Store.Trace(ctx, t.ID)
			if err != nil {
				return err
			}
			r, err := whole.Report()
			if err != nil {
				return err
			}
			*out = append(*out, routed{From: m.Fleet.NameOf(agent), To: target, Family: int(p.Family), Via: t.Via, Way: way, At: t.StartedAt.UTC(), Outcome: string(t.Outcome), Found: r})
			if before {
				return nil
			}
		}
		if len(list) < page.Limit {
			return nil
		}
		last := list[len(list)-1]
		page.After, page.AfterID = last.StartedAt, last.ID
	}
	return nil
}

// ran is a run with what it found.
type ran struct {
	ID      string          `json:"id"`
	Kind    string          `json:"kind"`
	Version int             `json:"version"`
	From    string          `json:"from"`
	To      string          `json:"to"`
	Family  int             `json:"family,omitempty"`
	Via     string          `json:"via,omitempty"`
	Address string          `json:"address,omitempty"`
	StartAt time.Time       `json:"started_at"`
	EndedAt *time.Time      `json:"ended_at,omitempty"`
	Outcome string          `json:"outcome"`
	Reason  string          `json:"reason,omitempty"`
	Capture string          `json:"capture,omitempty"`
	Result  json.RawMessage `json:"result,omitempty"`
}

// runs writes the runs between the ends of the paths, and what they captured.
func (m *making) runs(ctx context.Context) error {
	seen := map[ident.ID]bool{}
	var all []store.Run
	for _, p := range m.paths {
		page := store.Page{Limit: 1000}
		for {
			list, err := m.Store.Runs(ctx, store.RunFilter{Agent: p.AgentID, Target: p.Target, From: m.From, To: m.To, Page: page})
			if err != nil {
				return err
			}
			for _, r := range list {
				if !seen[r.ID] {
					seen[r.ID] = true
					all = append(all, r)
				}
			}
			if len(list) < page.Limit {
				break
			}
			last := list[len(list)-1]
			page.After, page.AfterID = last.StartedAt, last.ID
		}
	}
	slices.SortFunc(all, func(a, b store.Run) int { return a.StartedAt.Compare(b.StartedAt) })
	if n := len(all) - mostRuns; n > 0 {
		m.left = append(m.left, fmt.Sprintf("%d runs of the begin: the newest %d are in it", n, mostRuns))
		all = all[n:]
	}
	out := []ran{}
	type captured struct {
		name string
		data []byte
	}
	var captures []captured
	masked := 0
	for _, r := range all {
		x := ran{ID: r.ID.String(), Kind: r.Kind, Version: r.Version, From: m.Fleet.NameOf(r.AgentID), To: r.Target, Family: int(r.Family), Via: r.Via, Address: r.Address, StartAt: r.StartedAt.UTC(), Outcome: string(r.Outcome), Reason: r.Reason}
		if r.EndedAt != nil {
			ended := r.EndedAt.UTC()
			x.EndedAt = &ended
		}
		whole, err := m.Store.Run(ctx, r.ID)
		if errors.Is(err, store.ErrNotFound) {
			continue // it went as it grew too old
		}
		if err != nil {
			return err
		}
		body, err := m.Store.ResultOf(ctx, whole)
		if err != nil {
			return err
		}
		if len(body) > 0 {
			x.Result = body
			data, err := packetsOf(r, body)
			switch {
			case err != nil:
				return err
			case len(data) > 0 && m.mask != nil:
				masked++
			case len(data) > 0:
				x.Capture = "captures/" + x.ID + ".pcapng"
				captures = append(captures, captured{x.Capture, data})
			}
			if len(data) > 0 { // they stand in the capture, or are left out
				if x.Result, err = withoutPackets(body); err != nil {
					return err
				}
			}
		}
		out = append(out, x)
	}
	if masked > 0 {
		m.left = append(m.left, fmt.Sprintf("the captures of %d runs: they hold addresses that are masked elsewhere", masked))
	}
	if err := m.json("runs.json", out); err != nil {
		return err
	}
	for _, c := range captures {
		if err := m.file(c.name, c.data); err != nil {
			return err
		}
	}
	return nil
}

// packetsOf is what a run captured, as pcapng; nothing when it did not.
func packetsOf(r store.Run, body json.RawMessage) ([]byte, error) {
	k, err := kind.Find(r.Kind)
	if err != nil {
		return nil, nil // of another release: its result stands in the list of runs
	}
	result, err := k.ReadResult(r.Version, body)
	if err != nil {
		return nil, nil
	}
	x, is := result.(interface {
		EachPacket(func(time.Time, []byte)) (more int)
		Whole() bool
	})
	if !is || !x.Whole() {
		return nil, nil
	}
	var b bytes.Buffer
	f, err := capture.New(&b)
	if err != nil {
		return nil, err
	}
	x.EachPacket(f.Packet)
	err = f.Close()
	return b.Bytes(), err
}

// withoutPackets is a result without the packets in it.
func withoutPackets(body json.RawMessage) (json.RawMessage, error) {
	var v map[string]json.RawMessage
	if json.Unmarshal(body, &v) != nil {
		return body, nil
	}
	if _, has := v["packets"]; !has {
		return body, nil
	}
	delete(v, "packets")
	delete(v, "more_packets")
	return json.Marshal(v)
}

// conditions are under which it was measured and made.
type conditions struct {
	Program   string            `json:"program"`
	MadeAt    time.Time         `json:"made_at"`
	FromAt    time.Time         `json:"from_at"`
	ToAt      time.Time         `json:"to_at"`
	Zone      string            `json:"zone"`
	Key       string            `json:"key"`
	Masked    bool              `json:"masked"`
	Left      []string          `json:"left_out"`
	Objective string            `json:"objective,omitempty"`
	Settings  map[string]string `json:"settings"`
	Paths     []reports.Ends    `json:"paths"`
	Agents    []agentThen       `json:"agents"`
	Owners    []owned           `json:"owners"`
}

type agentThen struct {
	Name    string           `json:"name"`
	Site    string           `json:"site,omitempty"`
	Kind    string           `json:"kind"`
	Version string           `json:"version,omitempty"`
	Address string           `json:"address,omitempty"`
	Health  *protocol.Health `json:"health,omitempty"` // as it said last: clock, load, rights, limits
}

type owned struct {
	Address string `json:"address"`
	Owner   string `json:"owner"`
	Part    string `json:"part"`
}

func (m *making) conditions(key ed25519.PrivateKey, r *reports.Period) error {
	public, _ := key.Public().(ed25519.PublicKey)
	c := conditions{Program: "woodlark " + m.Version, MadeAt: m.now.UTC(), FromAt: m.From.UTC(), ToAt: m.To.UTC(), Zone: m.Zone.String(), Key: dossier.Fingerprint(public), Masked: m.mask != nil, Left: m.left, Objective: r.Objective, Settings: m.Settings, Paths: []reports.Ends{}, Agents: []agentThen{}, Owners: m.owners}
	agents := map[ident.ID]bool{}
	for _, p := range m.paths {
		c.Paths = append(c.Paths, reports.Ends{Path: p.ID.String(), From: m.Fleet.NameOf(p.AgentID), To: p.Target, Family: int(p.Family), Via: p.Via})
		agents[p.AgentID] = true
		if far, err := m.Fleet.Named(p.Target); err == nil {
			agents[far.ID] = true
		}
	}
	for _, a := range m.Fleet.Agents() {
		if !agents[a.ID] {
			continue
		}
		x := agentThen{Name: a.Name, Site: a.Site, Kind: a.Kind, Version: a.Version, Address: a.Address}
		var h protocol.Health
		if a.Health != nil && json.Unmarshal([]byte(*a.Health), &h) == nil {
			x.Health = &h
		}
		c.Agents = append(c.Agents, x)
	}
	return m.json("conditions.json", c)
}

const readmeText = `%s
%s

What is in this file, and how to read it

  report.html, report.pdf, report.json   what was concluded, for people and for programs
  readings.ndjson    each reading on a line, path after path: JSON, the unit is in each key;
                     a figure that is not known is absent. 'woodlark degraded -replay' judges
                     them anew when they are put in the order of time.
  routes.json        the routes that traces found, there and back where an agent stands at the
                     far end, hop by hop; the last of before is among them
  runs.json          measurements beyond readings, each with all that it found
  captures/          probes and their answers as packets (pcapng), of the runs that captured
  conditions.json    program and versions, agents and their clocks, settings, and what is left out
  manifest.json      the SHA-256 of each file; manifest.sig signs that list with Ed25519

All times are UTC (RFC 3339) but those in the report, which names its zone.
%s
To check that nothing was changed:  woodlark dossier check FILE
It needs no service. It names the key that signed; compare that with what the sender tells you:
  %s
`

func (m *making) readme(r *reports.Period) error {
	key, err := m.Key(context.Background())
	if err != nil {
		return err
	}
	public, _ := key.Public().(ed25519.PublicKey)
	var more strings.Builder
	if m.mask != nil {
		more.WriteString("\nAddresses of the sender's own are replaced, each by another everywhere alike: by ones of\n240.0.0.0/4 and of 100::/64, which nobody has.\n")
	}
	if len(m.left) > 0 {
		more.WriteString("\nLeft out: " + strings.Join(m.left, "; ") + ".\n")
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, readmeText, r.Title, strings.Repeat("=", len([]rune(r.Title))), more.String(), dossier.Fingerprint(public))
	return m.file("README.txt", m.mask.bytes(b.Bytes()))
}
