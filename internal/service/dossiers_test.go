package service_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/route"
	"woodlark.example/internal/dossier"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/dossiers"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// anEcho is an ICMP echo request from 192.0.2.250 to 192.0.2.1.
var anEcho = []byte{0x45, 0, 0, 28, 0, 1, 0, 0, 64, 1, 0xf5, 0xe4, 192, 0, 2, 250, 192, 0, 2, 1, 8, 0, 0xf7, 0xfd, 0, 1, 0, 1}

// unpacked are the files of a dossier that is whole.
func unpacked(t *testing.T, b []byte) (files map[string][]byte, v dossier.Verdict) {
	t.Helper()
	v, err := dossier.Check(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	assert.Empty(t, v.Wrong)
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	files = map[string][]byte{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		files[f.Name], err = io.ReadAll(r)
		require.NoError(t, err)
	}
	return files, v
}

// TestADossier has all that was measured of a path in a time and nothing of others; its capture
// opens; masked, it has no address of one's own.
func TestADossier(t *testing.T) {
	owners, err := route.ParseOwners(strings.NewReader("192.0.2.0/24,Skerry Line,ours\n203.0.113.0/24,Kelpnet,access\n"))
	require.NoError(t, err)
	c, err := service.New(t.Context(), service.Options{Store: storetest.New(t), Zone: time.UTC, Owners: owners})
	require.NoError(t, err)
	require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: "quay", Site: "Northquay", Kind: "simulated", Address: "198.51.100.7"}, nil))
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "203.0.113.9"}, Tags: []string{"islands"}}, false)
	require.NoError(t, err)
	end := time.Now().Truncate(time.Minute).UTC()
	u := protocol.Upload{Agent: quay(c)}
	for ago := 60; ago > 0; ago-- {
		for i, id := range w.Paths {
			u.Readings = append(u.Readings, minute(id, end.Add(-time.Duration(ago)*time.Minute), time.Duration(10+i)*time.Millisecond, 0))
		}
	}
	require.NoError(t, c.Upload(t.Context(), u))
	k := kind.In("traces")
	body, err := json.Marshal(map[string]any{"target": "192.0.2.1", "hops": []any{map[string]any{"ttl": 1, "address": "203.0.113.9", "nodes": []any{map[string]any{"address": "203.0.113.9"}}}, map[string]any{"ttl": 2, "address": "192.0.2.1", "nodes": []any{map[string]any{"address": "192.0.2.1"}}}},
		"packets": []any{map[string]any{"at": end.Add(-10 * time.Minute), "data": anEcho}}})
	require.NoError(t, err)
	run := ident.New()
	made := protocol.Made{Run: run, Kind: k.Name, Version: k.Version, Lane: kind.Lane{Target: "192.0.2.1", Family: 4}, Started: end.Add(-10 * time.Minute), Ended: end.Add(-9 * time.Minute), Outcome: protocol.Done, OnDemand: true, Body: body}
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay(c), Made: []protocol.Made{made}}))
	_, err = c.Annotations.Add(t.Context(), store.Annotation{PathID: &w.Paths[0], At: end.Add(-20 * time.Minute), Text: "gw 192.0.2.1 was restarted"})
	require.NoError(t, err)

	spec := dossiers.Spec{From: end.Add(-30 * time.Minute), To: end, Paths: w.Paths[:1], Version: "0.1.0"}
	write := func(s dossiers.Spec) []byte {
		var b bytes.Buffer
		require.NoError(t, c.Dossiers.Write(t.Context(), &b, s))
		return b.Bytes()
	}
	files, v := unpacked(t, write(spec))
	for _, name := range []string{"report.html", "report.pdf", "report.json", "readings.ndjson", "routes.json", "runs.json", "conditions.json", "README.txt", "manifest.json", "manifest.sig"} {
		assert.NotEmpty(t, files[name], name)
	}
	lines := strings.Split(strings.TrimSpace(string(files["readings.ndjson"])), "\n")
	require.Len(t, lines, 30)
	for _, l := range lines {
		assert.Contains(t, l, `"to":"192.0.2.1"`, "nothing of others")
	}
	assert.Contains(t, string(files["routes.json"]), "203.0.113.9")
	assert.Contains(t, string(files["report.html"]), "was restarted")
	assert.Contains(t, string(files["conditions.json"]), "Kelpnet")
	assert.Contains(t, string(files["README.txt"]), v.Fingerprint)
	var runs []struct{ ID, Capture string }
	require.NoError(t, json.Unmarshal(files["runs.json"], &runs))
	require.Len(t, runs, 1)
	name := filepath.Join(t.TempDir(), "x.pcapng")
	require.NoError(t, os.WriteFile(name, files[runs[0].Capture], 0o600))
	read, err := exec.Command("tshark", "-r", name, "-T", "fields", "-e", "ip.src", "-e", "ip.dst", "-e", "icmp.type", "-o", "ip.check_checksum:TRUE").Output()
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.250\t192.0.2.1\t8\n", string(read))
	assert.NotContains(t, string(files["runs.json"]), `"packets"`)

	spec.Mask = true
	masked, _ := unpacked(t, write(spec))
	assert.Len(t, masked, len(files)-1, "without the capture")
	for name, data := range masked {
		if name == "report.pdf" {
			continue
		}
		for _, own := range []string{"192.0.2.", "198.51.100.7"} {
			assert.NotContains(t, string(data), own, name)
		}
	}
	var there string
	for _, l := range strings.Split(string(masked["readings.ndjson"]), "\n")[:1] {
		var x struct{ To string }
		require.NoError(t, json.Unmarshal([]byte(l), &x))
		there = x.To
	}
	assert.True(t, strings.HasPrefix(there, "240.0.0."))
	for _, name := range []string{"routes.json", "report.html", "conditions.json", "runs.json"} {
		assert.Contains(t, string(masked[name]), there, "the same in %s", name)
	}
	assert.Contains(t, string(masked["routes.json"]), "203.0.113.9", "who is not ours stays")
	assert.Contains(t, string(masked["README.txt"]), "the captures of 1 runs")
	assert.NotContains(t, string(masked["runs.json"]), `"packets"`)

	again, err := service.New(t.Context(), service.Options{Store: c.Store, Zone: time.UTC})
	require.NoError(t, err)
	one, err := c.Dossiers.Key(t.Context())
	require.NoError(t, err)
	same, err := again.Dossiers.Key(t.Context())
	require.NoError(t, err)
	assert.Equal(t, one, same, "a key stays")

	for says, bad := range map[string]dossiers.Spec{
		"say of which paths": {From: spec.From, To: end}, "no path is meant": {From: spec.From, To: end, Selection: selection.Selection{Tags: []string{"gulls"}}}, "is not before": {From: end, To: end, Paths: w.Paths}, "of one path": {From: end.AddDate(-5, 0, 0), To: end, Paths: w.Paths},
	} {
		err := c.Dossiers.Write(t.Context(), io.Discard, bad)
		assert.ErrorIs(t, err, kind.ErrInvalid, says)
		assert.ErrorContains(t, err, says)
	}
	assert.ErrorIs(t, c.Dossiers.Write(t.Context(), io.Discard, dossiers.Spec{From: spec.From, To: end, Paths: []ident.ID{ident.New()}}), store.ErrNotFound)
}
