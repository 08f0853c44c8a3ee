package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"golang.org/x/term"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report/document"
	"woodlark.example/wire"
)

const (
	pollEvery = 150 * time.Millisecond
	// stopTime is how long it is waited for what was measured until it was stopped.
	stopTime = 15 * time.Second
)

// there measures at an agent, through the service.
func (m *measuring) there() error {
	api, err := m.client()
	if err != nil {
		return err
	}
	if m.capture != "" {
		if err := m.bringPackets(); err != nil {
			return err
		}
	}
	order := apitype.Measurement{Kind: m.kind.Name, From: m.from, To: m.targets}
	if order.How, err = m.kind.Give(m.spec); err != nil {
		return err
	}
	if m.kind.TwoEnds && !m.noFar() {
		if order.Key, err = sharedKey(m.key, m.keyFile); err != nil {
			return err
		}
	}
	m.announce()
	var runs []apitype.Run
	if err := api.Do(m.ctx, http.MethodPost, "/runs", order, &runs); err != nil {
		return err
	}
	if m.apart {
		return m.leftRunning(runs)
	}
	return m.follow(api, runs)
}

// bringPackets asks for the packets, too.
func (m *measuring) bringPackets() error {
	for _, f := range kind.FieldsOf(m.spec) {
		if f.Name == "with_packets" {
			return f.Set("true")
		}
	}
	return wrongCall("-capture is not for a %s at an agent", m.kind.Name)
}

// leftRunning says what goes on at the agent.
func (c *call) leftRunning(runs []apitype.Run) error {
	if c.format == "json" {
		return document.JSON(c.out, runs)
	}
	for _, r := range runs {
		by := ""
		if r.Via != "" {
			by = " by " + r.Via
		}
		to := ""
		if r.To != "" {
			to = " to " + r.To
		}
		fmt.Fprintf(c.out, "%s  the %s%s%s goes on at %s; 'woodlark runs show %s' shows it\n", r.ID, r.Kind, to, by, r.From, r.ID)
	}
	return nil
}

// follow shows runs until they are over, and then what they found. Ctrl-C asks whether to stop
// them, or to leave them running.
func (m *measuring) follow(api *client.Client, runs []apitype.Run) error {
	lanes := make([]kind.Lane, len(runs))
	for i, r := range runs {
		lanes[i] = laneOf(r)
	}
	show := m.showing(m.from, lanes)
	stopped := false
	ctx := show.ctx
	list := make([]result, len(runs))
	after := make([]int, len(runs))
	for i := range runs {
		for {
			err := m.look(ctx, api, &runs[i], i, &after[i], show.heard)
			if ctx.Err() != nil && !stopped {
				show.close()
				if err := m.stopOrLeave(api, runs); err != nil {
					return err
				}
				stopped = true
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(context.WithoutCancel(ctx), stopTime)
				defer cancel()
				continue
			}
			if err != nil {
				show.close()
				return err
			}
			if runs[i].Outcome != string(kind.Running) {
				break
			}
			select {
			case <-ctx.Done():
			case <-time.After(pollEvery):
			}
		}
		list[i] = result{laneOf(runs[i]), kind.State(runs[i].Outcome), runs[i].Reason, nil}
		if raw := runs[i].Result; raw != nil {
			var err error
			if list[i].outcome, err = m.kind.ReadResult(m.kind.Version, raw); err != nil {
				show.close()
				return err
			}
		}
	}
	if !stopped {
		show.close()
	}
	if err := m.keepPackets(list); err != nil {
		return err
	}
	return m.finish(list)
}

func laneOf(r apitype.Run) kind.Lane {
	l := kind.Lane{Target: r.To, Family: wire.Family(r.Family), Via: r.Via}
	_ = l.Address.UnmarshalText([]byte(r.Address))
	return l
}

// look asks how far a run is, and tells of what was heard since the last time.
func (m *measuring) look(ctx context.Context, api *client.Client, r *apitype.Run, lane int, after *int, heard func(kind.Progress)) error {
	query, at := url.Values{}, "/runs/"+r.ID
	if m.compare == "last" || m.compare == "baseline" {
		query.Set("with", m.compare)
		at += "/compared"
	}
	draws := heard != nil && m.kind.More != nil && (m.format == "ndjson" || m.kind.Draw != kind.DrawNothing && isTerminal(m.out))
	if draws {
		var more apitype.Heard
		if err := api.Get(ctx, "/runs/"+r.ID+"/heard", url.Values{"after": {fmt.Sprint(*after)}}, &more); err != nil {
			return err
		}
		for _, raw := range more.More {
			if x, err := m.kind.ReadMore(json.RawMessage(raw)); err == nil {
				heard(kind.Progress{Lane: lane, Address: more.Address, More: x})
			}
		}
		*after = more.Next
	}
	if err := api.Get(ctx, at, query, r); err != nil {
		return err
	}
	if heard != nil && !draws && r.Outcome == string(kind.Running) {
		heard(kind.Progress{Lane: lane, Done: int64(r.Heard), Of: int64(r.Of), Says: r.Says})
	}
	return nil
}

// stopOrLeave asks at a terminal what is to become of runs that nobody waits for any more: nil
// when they were stopped.
func (m *measuring) stopOrLeave(api *client.Client, runs []apitype.Run) error {
	left := exit{exitUnmeasured, fmt.Errorf("no longer waiting; it goes on at %s and is kept: 'woodlark runs show %s' shows it, 'woodlark runs stop %s' stops it", m.from, runs[0].ID, runs[0].ID)}
	in, ok := m.in.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return left
	}
	fmt.Fprintf(m.err, "\nIt goes on at %s. Stop it and keep what was measured (s), or leave it running (l)? ", m.from)
	answer, _ := bufio.NewReader(in).ReadString('\n')
	if !strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "s") {
		return left
	}
	ctx, cancel := context.WithTimeout(context.Background(), stopTime)
	defer cancel()
	if err := api.Do(ctx, http.MethodDelete, "/runs/"+runs[0].ID, nil, nil); err != nil {
		var p *client.Problem
		if !errors.As(err, &p) || p.Status != http.StatusConflict { // it is over by now
			return err
		}
	}
	return nil
}

// keepPackets writes the packets that came with results into the file that -capture names.
func (m *measuring) keepPackets(list []result) error {
	file, err := m.captured()
	if err != nil || file == nil {
		return err
	}
	for _, r := range list {
		x, is := r.outcome.(interface {
			EachPacket(func(time.Time, []byte)) (more int)
		})
		if !is {
			continue
		}
		if more := x.EachPacket(file.Packet); more > 0 {
			fmt.Fprintf(m.err, "note: %d packets more than a result holds are not in %s\n", more, m.capture)
		}
	}
	return file.Close()
}
