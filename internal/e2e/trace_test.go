package e2e

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/busy"
)

const desk = "desk.northquay.example"

func reportOf(t *testing.T, out string) finding.TraceReport {
	t.Helper()
	var r finding.TraceReport
	require.NoError(t, json.Unmarshal([]byte(out), &r), out)
	return r
}

func codesOf(r finding.TraceReport) (list []string) {
	for _, f := range r.Findings {
		list = append(list, string(f.Code))
	}
	return list
}

func TestTraceOnTheCommandLine(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	in := func(world string, more ...string) []string {
		return append([]string{"trace", "-world", "learn:" + world, "-from", desk, "-probes", "3", "-every", "20ms"}, append(more, "terminal.holm.example")...)
	}
	out := m.good(in("a-gap-in-the-list", "-format", "json")...)
	r := reportOf(t, out)
	assert.Equal(t, "terminal.holm.example", r.Target)
	assert.Equal(t, "203.0.113.26", r.Address)
	assert.True(t, r.Reached)
	require.Len(t, r.Hops, 5)
	assert.Empty(t, r.Hops[2].Address, "silent, and no fault")
	assert.Empty(t, r.Findings)
	var keys map[string]any
	require.NoError(t, json.Unmarshal([]byte(out), &keys))
	for _, k := range []string{"target", "address", "reached", "via", "hops", "branches", "path_mtu", "findings"} {
		assert.Contains(t, keys, k)
	}
	hop := keys["hops"].([]any)[0].(map[string]any)
	for _, k := range []string{"ttl", "address", "name", "owner", "probes", "answered", "loss_ratio", "carried_loss_ratio", "rtt_median_ms", "added_ms", "labels"} {
		assert.Contains(t, hop, k)
	}
	kept := filepath.Join(t.TempDir(), "before.json")
	require.NoError(t, os.WriteFile(kept, []byte(out), 0o600))
	assert.Contains(t, m.good(in("a-gap-in-the-list", "-compare", "last")...), "Compared with the last trace", "each is kept for the next")
	out, _, status := m.cli(in("slower-since-yesterday", "-compare", kept)...)
	assert.Equal(t, 1, status, "another route than in the file")
	assert.Contains(t, out, "+ hop 3   island.transit.example")

	owners := filepath.Join(t.TempDir(), "owners.csv")
	require.NoError(t, os.WriteFile(owners, []byte("prefix,owner,kind\n192.0.2.0/24,Skerry Line,ours\n198.51.100.0/24,Kelpnet,transit\n203.0.113.0/24,Skerry Line,far end\n"), 0o600))
	out = m.good(in("a-gap-in-the-list", "-owners", owners)...)
	assert.Contains(t, out, "Kelpnet (transit)")
	assert.Contains(t, out, "nobody answers here")
	assert.NotContains(t, out, "*", "no stars")

	rows, err := csv.NewReader(strings.NewReader(m.good(in("hops-trade-places", "-format", "csv")...))).ReadAll()
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(rows), 7, "a row for each who answers")
	busy.Again(t, func() string { // six flows take one of two ways all together once in 32 times
		dot, _, _ := m.cli(in("two-kinds-of-slow", "-format", "dot", "-probes", "0")...) // it may find the slow branch already
		if !strings.Contains(dot, `"198.51.100.81" -> "198.51.100.66"`) {
			return dot
		}
		text, _, _ := m.cli(in("two-kinds-of-slow", "-format", "graphml", "-probes", "0")...)
		var graph struct {
			Nodes []struct{} `xml:"graph>node"`
			Edges []struct{} `xml:"graph>edge"`
		}
		require.NoError(t, xml.Unmarshal([]byte(text), &graph))
		if len(graph.Nodes) != 8 || len(graph.Edges) != 8 { // here, six hops, and one more where they part
			return text
		}
		return ""
	})

	out, _, status = m.cli(in("ping-says-dead")...)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "by tcp:443 it does")
	assert.Contains(t, m.good(in("ping-says-dead", "-via", "tcp:443")...), "Reached over 5 hops")
	out, _, status = m.cli(in("round-and-round")...)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "turns in a circle between")
	out, _, status = m.cli(in("there-and-back-again", "-both-ways")...)
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "only the way back passes island.transit.example")
	assert.Contains(t, out, "And back:")
	out, _, _ = m.cli(in("small-mails-only", "-path-mtu", "-probes", "0")...)
	assert.Contains(t, out, "Packets of more than 1400 bytes vanish with no word behind hop 3, core2.transit.example")
}

func TestTraceOfWhatCannotBe(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	bad := filepath.Join(t.TempDir(), "owners.csv")
	require.NoError(t, os.WriteFile(bad, []byte("192.0.2.0/24,Skerry Line,ours\n192.0.2.0/24,Kelpnet,transit\n198.51.100.1/24,x,transit\n203.0.113.0/24,y,sea\nfive\n"), 0o600))
	for _, c := range []struct {
		status int
		says   string
		args   []string
	}{
		{2, "at least one target", []string{}},
		{2, "-ttl 256 is not between 1 and 255", []string{"-ttl", "256", "127.0.0.1"}},
		{2, "-ttl 0 is not between", []string{"-ttl", "0", "127.0.0.1"}},
		{2, "-first 9 is not between 1 and the largest, 3", []string{"-ttl", "3", "-first", "9", "127.0.0.1"}},
		{2, "-via stamp", []string{"-via", "stamp", "127.0.0.1"}},
		{2, "port", []string{"-via", "tcp:70000", "127.0.0.1"}},
		{2, "line 2: prefix 192.0.2.0/24 is in line 1 already", []string{"-owners", bad, "127.0.0.1"}},
		{2, "line 3: 198.51.100.1/24 has bits behind its length; 198.51.100.0/24 is meant", []string{"-owners", bad, "127.0.0.1"}},
		{2, "line 4: kind \"sea\" is none of ours, access, transit, far end", []string{"-owners", bad, "127.0.0.1"}},
		{2, "line 5: 1 fields instead of three", []string{"-owners", bad, "127.0.0.1"}},
		{2, "no trace that -format json wrote", []string{"-compare", bad, "127.0.0.1"}},
		{2, "is there already", []string{"-capture", bad, "127.0.0.1"}},
		{2, "a baseline is kept by a service", []string{"-compare", "baseline", "127.0.0.1"}},
		{2, "-both-ways needs somebody at the target", []string{"-both-ways", "127.0.0.1"}},
		{2, "is a prefix", []string{"192.0.2.0/24"}},
		{3, "nowhere.example", []string{"-world", skerry, "-from", "ops.northquay.example", "nowhere.example"}},
		{3, "does not resolve", []string{"-world", skerry, "-from", "ops.northquay.example", "-family", "6", "bridge.puffin.example"}},
	} {
		_, errs, status := m.cli(append([]string{"trace"}, c.args...)...)
		assert.Equal(t, c.status, status, "%v: %s", c.args, errs)
		assert.Contains(t, errs, c.says, "%v", c.args)
	}
	out := m.good("trace", "-probes", "1", "-every", "1ms", "127.0.0.1")
	assert.Contains(t, out, "this host itself")
	out = m.good("trace", "-probes", "1", "-every", "20ms", "-world", skerry, "-from", "ops.northquay.example", "192.0.2.1")
	assert.Contains(t, out, "on this host's own link")
}

// TestTraceThroughRealSockets crosses a lab by the kernel's sockets, and has the
// packets read back by another program.
func TestTraceThroughRealSockets(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.good("lab", "up", "-world", "../../demo/faults/every-other-call-is-bad.yaml", "-name", "calls")
	_, process := labRecord(t, m, "calls")
	t.Cleanup(func() { _ = syscall.Kill(process, syscall.SIGKILL) })
	folder, err := os.MkdirTemp("", "wl-trace")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	require.NoError(t, os.Chmod(folder, 0o755))
	all := filepath.Join(folder, "woodlark")
	binary, err := os.ReadFile(program)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(all, binary, 0o755))

	at := func(args ...string) finding.TraceReport {
		t.Helper()
		out, errs, status := m.cli(append([]string{"lab", "run", "-at", desk, "--"}, args...)...)
		require.Less(t, status, 2, "%s%s", out, errs)
		return reportOf(t, out)
	}
	twoWays := func(t *testing.T, r finding.TraceReport, probes int) {
		t.Helper()
		require.True(t, r.Reached, "%+v", r)
		assert.Len(t, r.Hops, 6)
		var at3 []string
		for _, n := range r.Hops[2].Nodes {
			at3 = append(at3, n.Name)
		}
		slices.Sort(at3)
		assert.Equal(t, []string{"north.transit.example", "south.transit.example"}, at3)
		assert.Len(t, r.Branches, 2)
		assert.Equal(t, "kernel", r.Timestamps)
		assert.Zero(t, r.Dropped)
		assert.Greater(t, *r.RTTMs, 22.0)
		if probes >= 200 {
			assert.Contains(t, codesOf(r), "branch_lossy")
			assert.Contains(t, r.Findings[0].Sentence, "south.transit.example")
		}
	}
	for _, c := range []struct {
		via    string
		family string
		probes int
		group  string // what tells the flows apart, for the program that reads packets
		sum    string
		only   string // the probes, and not the answers that quote them
	}{
		{"icmp", "4", 300, "ip.src", "icmp.checksum", "icmp.type == 8 && !(icmp.type == 11)"},
		{"udp", "4", 3, "udp.srcport", "udp.checksum", "udp && ip.src == 192.0.2.20 && !icmp"},
		{"tcp:443", "4", 3, "tcp.srcport", "tcp.checksum", "tcp.flags.syn == 1 && ip.src == 192.0.2.20 && !icmp"},
		{"icmp", "6", 3, "ipv6.flow", "icmpv6.checksum", "icmpv6.type == 128 && !(icmpv6.type == 3)"},
		{"udp", "6", 3, "udp.srcport", "udp.checksum", "udp && ipv6.src == 2001:db8:1::20 && !icmpv6"},
	} {
		t.Run(c.via+" over IPv"+c.family, func(t *testing.T) {
			var file string
			var r finding.TraceReport
			// Six flows take one of two ways all together once in 32 times: that is what a
			// confidence of 95 % leaves.
			for try := range 4 {
				file = filepath.Join(folder, fmt.Sprintf("%s-%s-%d.pcapng", strings.ReplaceAll(c.via, ":", "-"), c.family, try))
				r = at(program, "trace", "-via", c.via, "-family", c.family, "-probes", fmt.Sprint(c.probes), "-every", "20ms", "-format", "json", "-capture", file, "terminal.holm.example")
				if len(r.Branches) > 1 {
					break
				}
			}
			twoWays(t, r, c.probes)
			assert.Empty(t, tshark(t, file, "_ws.malformed || _ws.expert.severity == error", "frame.number"), "no malformed packet")
			sums, packets := map[string]map[string]bool{}, 0
			for _, row := range tshark(t, file, c.only, c.group, c.sum) {
				fields := strings.Split(row, "\t")
				require.Len(t, fields, 2, row)
				if sums[fields[0]] == nil {
					sums[fields[0]] = map[string]bool{}
				}
				sums[fields[0]][fields[1]] = true
				packets++
			}
			if c.group == "ip.src" { // the checksum itself is what tells the flows apart
				assert.Len(t, sums["192.0.2.20"], r.Flows, "one checksum a flow")
				assert.Greater(t, packets, 10*r.Flows, "many probes of each")
			} else {
				assert.Len(t, sums, r.Flows)
				assert.Greater(t, packets, 2*r.Flows)
				for flow, list := range sums {
					assert.Len(t, list, 1, "one checksum in flow %s", flow)
				}
			}
			assert.NotEmpty(t, tshark(t, file, "icmp.type == 11 || icmpv6.type == 3", "frame.number"), "and the answers")
		})
	}
	t.Run("without privileges", func(t *testing.T) {
		state := "XDG_STATE_HOME=" + folder
		r := at("setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups", "env", state, all, "trace", "-via", "udp", "-probes", "3", "-every", "20ms", "-format", "json", "terminal.holm.example")
		require.True(t, r.Reached)
		assert.Len(t, r.Hops, 6)
		assert.Equal(t, "core2.transit.example", r.Hops[3].Name)
		assert.GreaterOrEqual(t, r.Flows, 6)
		_, errs, status := m.cli("lab", "run", "-at", desk, "--", "setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups", "env", state, all, "trace", "terminal.holm.example")
		assert.Equal(t, 3, status)
		assert.Contains(t, errs, "setcap cap_net_raw+ep")
		assert.Contains(t, errs, "-via udp")
	})
	m.good("lab", "down", "-name", "calls")
}

// TestLabelsWithoutPrivileges: what routers add to their errors is read from the
// kernel's error queue too.
func TestLabelsWithoutPrivileges(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	folder, err := os.MkdirTemp("", "wl-labels")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	require.NoError(t, os.Chmod(folder, 0o755))
	binary, err := os.ReadFile(program)
	require.NoError(t, err)
	all, world := filepath.Join(folder, "woodlark"), filepath.Join(folder, "labels.yaml")
	require.NoError(t, os.WriteFile(all, binary, 0o755))
	require.NoError(t, os.WriteFile(world, []byte(`world: labels
nodes:
  - {name: here.example, addresses: [192.0.2.2, "2001:db8:1::2"]}
  - {name: first.example, router: true, addresses: [198.51.100.1, "2001:db8:2::1"]}
  - {name: second.example, router: true, addresses: [198.51.100.2, "2001:db8:2::2"], labels: [16004, 24001]}
  - {name: there.example, addresses: [203.0.113.2, "2001:db8:3::2"]}
links:
  - {between: [here.example, first.example], delay: 1ms}
  - {between: [first.example, second.example], delay: 1ms}
  - {between: [second.example, there.example], delay: 1ms}
`), 0o600))
	m.good("lab", "up", "-world", world, "-name", "labels")
	_, process := labRecord(t, m, "labels")
	t.Cleanup(func() { _ = syscall.Kill(process, syscall.SIGKILL) })
	for _, family := range []string{"4", "6"} {
		out := m.good("lab", "run", "-at", "here.example", "--", "setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups", "env", "XDG_STATE_HOME="+folder,
			all, "trace", "-family", family, "-via", "udp", "-probes", "1", "-format", "json", "there.example")
		r := reportOf(t, out)
		require.Len(t, r.Hops, 3)
		assert.Equal(t, []string{"16004 TTL 1", "24001 TTL 1"}, r.Hops[1].Labels, "IPv%s", family)
		assert.Empty(t, r.Hops[0].Labels)
		assert.Nil(t, r.LossRatio, "the target limits its answers")
	}
	m.good("lab", "down", "-name", "labels")
}

// TestRouteFaultsThroughRealSockets: what is true of these worlds is found across a
// lab too, and what is not is not. Delays are the machine's there, and it is shared:
// only what does not hang on a millisecond is asked for.
func TestRouteFaultsThroughRealSockets(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		world    string
		more     []string
		must     string
		says     string
		mustNots []string
	}{
		{"holm-bookings-stall", []string{"-probes", "300", "-every", "10ms"}, "loss_carried", "core2.transit.example", []string{"loss_sparing", "route_loop"}},
		{"half-missing-in-the-middle", []string{"-probes", "60", "-every", "50ms"}, "loss_sparing", "core1.transit.example", []string{"loss_carried", "route_ends"}},
		{"clear-there-noisy-back", []string{"-probes", "400", "-every", "10ms"}, "loss_carried", "gw.holm.example", []string{"branch_lossy", "route_ends"}},
		{"clicks-in-the-line", []string{"-probes", "1500", "-every", "10ms"}, "loss_carried", "gw.holm.example", []string{"branch_lossy", "route_ends", "route_changed"}},
		{"every-fourth", []string{"-probes", "100", "-every", "20ms"}, "loss_carried", "gw.holm.example", []string{"route_ends", "branch_lossy"}},
		{"everything-a-bit-slow", []string{"-probes", "400", "-every", "10ms"}, "loss_carried", "gw.northquay.example", []string{"branch_lossy"}},
		{"voice-is-poor", []string{"-probes", "800", "-every", "10ms"}, "loss_carried", "gw.holm.example", []string{"route_changed"}},
		{"worse-since-the-storm", []string{"-probes", "1000", "-every", "10ms"}, "loss_carried", "gw.holm.example", nil},
		{"three-islands-at-once", []string{"-probes", "400", "-every", "10ms"}, "loss_carried", "core2.transit.example", nil},
		{"two-kinds-of-slow", []string{"-probes", "100", "-every", "30ms"}, "branch_slow", "south.transit.example", []string{"branch_lossy", "route_changed"}},
		{"hops-trade-places", []string{"-probes", "20", "-every", "30ms"}, "", "", []string{"route_loop", "branch_lossy"}},
		{"never-the-same-trace", []string{"-probes", "20", "-every", "30ms"}, "", "", []string{"route_loop", "branch_lossy"}},
		{"ping-says-dead", []string{"-probes", "0"}, "icmp_filtered", "by tcp:443 it does", []string{"route_ends", "loss_carried"}},
		{"longer-than-the-map", []string{"-probes", "20", "-every", "50ms"}, "delay_carried", "core2.transit.example", []string{"delay_sparing", "loss_carried"}},
		{"the-slow-router", []string{"-probes", "20", "-every", "50ms"}, "delay_sparing", "core1.transit.example", []string{"delay_carried"}},
		{"round-and-round", []string{"-probes", "0"}, "route_loop", "core1.transit.example", []string{"route_changed"}},
		{"the-road-stops", []string{"-probes", "0"}, "route_ends", "core1.transit.example", []string{"route_loop", "icmp_filtered"}},
		{"turned-away", []string{"-probes", "0"}, "route_ends", "administratively prohibited", []string{"route_loop"}},
		{"tunnel-on-the-way", []string{"-probes", "0", "-path-mtu"}, "mtu_reduced", "core2.transit.example", []string{"mtu_black_hole"}},
		{"small-mails-only", []string{"-probes", "0", "-path-mtu"}, "mtu_black_hole", "core2.transit.example", []string{"mtu_reduced"}},
		{"a-gap-in-the-list", []string{"-probes", "10", "-every", "50ms"}, "", "", []string{"route_ends", "loss_carried", "loss_sparing"}},
		{"slower-since-yesterday", []string{"-probes", "5", "-every", "50ms", "-compare", keptRoute(t)}, "route_changed", "island.transit.example", []string{"route_loop", "branch_lossy"}},
		{"stranger-in-the-trace", []string{"-probes", "10", "-every", "50ms"}, "", "", []string{"route_loop", "loss_carried"}},
	} {
		t.Run(c.world, func(t *testing.T) {
			t.Parallel()
			m := newMachine(t)
			m.good("lab", "up", "-world", "../../demo/faults/"+c.world+".yaml", "-name", "route-"+c.world)
			_, process := labRecord(t, m, "route-"+c.world)
			t.Cleanup(func() { _ = syscall.Kill(process, syscall.SIGKILL) })
			args := append([]string{"lab", "run", "-at", desk, "--", program, "trace", "-format", "json"}, append(c.more, "terminal.holm.example")...)
			busy.Again(t, func() string {
				out, errs, status := m.cli(args...)
				require.Less(t, status, 2, "%s%s", out, errs)
				return amiss(reportOf(t, out), c.must, c.says, c.mustNots)
			})
			m.good("lab", "down", "-name", "route-"+c.world)
		})
	}
}

// keptRoute is a file with the route before anything happened to it.
func keptRoute(t *testing.T) string {
	t.Helper()
	m := newMachine(t)
	out := m.good("trace", "-world", "learn:new-fast-line", "-from", desk, "-probes", "3", "-every", "20ms", "-format", "json", "terminal.holm.example")
	file := filepath.Join(t.TempDir(), "before.json")
	require.NoError(t, os.WriteFile(file, []byte(out), 0o600))
	return file
}

// TestTheWayBackThroughRealSockets: the service stands at one host of a lab and an agent
// at another; both trace, and the way back is another one.
func TestTheWayBackThroughRealSockets(t *testing.T) {
	m := newMachine(t)
	m.good("lab", "up", "-world", "../../demo/faults/there-and-back-again.yaml", "-name", "back")
	_, process := labRecord(t, m, "back")
	t.Cleanup(func() { _ = syscall.Kill(process, syscall.SIGKILL) })
	at := func(host string, args ...string) []string {
		return append([]string{"lab", "run", "-name", "back", "-at", host, "--", program}, args...)
	}
	state := filepath.Join(filepath.Dir(m.state), "service")
	m.background("msg=ready", at(desk, "serve", "-listen", "0.0.0.0:7373", "-plain-http", "-state", state)...)
	token, err := os.ReadFile(filepath.Join(state, "token"))
	require.NoError(t, err)
	t.Setenv("WOODLARK_TOKEN", strings.TrimSpace(string(token)))
	service := []string{"-service", "http://127.0.0.1:7373"}
	invite := jsonOf[apitype.Invite](t, m.good(at(desk, append([]string{"agents", "invite", "-name", "holm", "-format", "json"}, service...)...)...))
	m.background("msg=ready", at("terminal.holm.example", "agent", "-join", "http://desk.northquay.example:7373", "-invite", invite.Code, "-state", filepath.Join(filepath.Dir(m.state), "holm"))...)
	busy.Again(t, func() string {
		args := append([]string{"trace", "-from", "local", "-probes", "5", "-every", "50ms", "-both-ways", "-format", "json"}, service...)
		out, errs, status := m.cli(at(desk, append(args, "203.0.113.26")...)...)
		if status > 1 {
			return errs
		}
		r := reportOf(t, out)
		if r.Back == nil {
			return "nobody traced back"
		}
		return amiss(r, "route_asymmetric", "island", []string{"route_changed", "route_ends"})
	})
	m.good("lab", "down", "-name", "back")
}

// amiss is what a trace concluded wrongly; empty when nothing.
func amiss(r finding.TraceReport, must, says string, mustNots []string) string {
	found := codesOf(r)
	if i := slices.Index(found, must); must != "" && (i < 0 || !strings.Contains(r.Findings[i].Sentence, says)) {
		return fmt.Sprintf("%s that says %q must be among %v", must, says, r.Findings)
	}
	for _, code := range mustNots {
		if slices.Contains(found, code) {
			return fmt.Sprintf("%s must not be among %v", code, r.Findings)
		}
	}
	return ""
}

// tshark reads fields of the packets that a filter lets through, with their
// checksums checked.
func tshark(t *testing.T, file, filter string, fields ...string) []string {
	t.Helper()
	args := []string{"-r", file, "-Y", filter, "-T", "fields", "-o", "ip.check_checksum:TRUE", "-o", "udp.check_checksum:TRUE", "-o", "tcp.check_checksum:TRUE", "-E", "occurrence=f"}
	for _, f := range fields {
		args = append(args, "-e", f)
	}
	cmd := exec.Command("tshark", args...)
	var problems strings.Builder
	cmd.Stderr = &problems
	out, err := cmd.Output()
	require.NoError(t, err, problems.String())
	return strings.FieldsFunc(string(out), func(r rune) bool { return r == '\n' })
}
