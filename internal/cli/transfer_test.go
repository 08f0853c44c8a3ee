package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// foreign is a reading of elsewhere, without its probes.
const foreign = `{"from":"%s","to":"192.0.2.7","family":4,"via":"icmp","started_at":"%s","span_s":60,"expected":60,"sent":60,"answered":57,"lost":3,"late":0,"refused":0,"unsent":0,"duplicates":0,"late_sent":0,"reordered":null,"damaged":null,` +
	`"loss_ratio":0.05,"loss_low_ratio":0.017,"loss_high_ratio":0.137,"loss_settles_at":null,"rtt_min_ms":9.5,"rtt_mean_ms":10.25,"rtt_median_ms":10.125001,"rtt_p95_ms":12,"rtt_p99_ms":13,"rtt_max_ms":14,"rtt_sd_ms":0.5,"jitter_ms":0.25,"jitter_rfc3550_ms":0.2,"pdv_ms":3.5,"spread_ms":0.75,"timestamps":"kernel","cause":"","answered_as":"","other_address":""}`

// TestReadingsOutAndIn by both forms: what comes in goes out as it came.
func TestReadingsOutAndIn(t *testing.T) {
	h := newHarbour(t)
	dir := t.TempDir()
	write := func(name, text string) string {
		name = filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		return name
	}
	lines := func(name string) []string {
		b, err := os.ReadFile(name)
		require.NoError(t, err)
		return strings.Split(strings.TrimSpace(string(b)), "\n")
	}
	var text strings.Builder
	begin := time.Now().Add(-3 * time.Hour).UTC().Truncate(time.Minute)
	for i := range 120 {
		fmt.Fprintf(&text, foreign+"\n", "elsewhere", begin.Add(time.Duration(i)*time.Minute).Format(time.RFC3339))
	}
	assert.Contains(t, h.there("import "+write("in.ndjson", text.String())), "120 readings, 120 of them new.")
	assert.Contains(t, h.there("import "+filepath.Join(dir, "in.ndjson")), "120 readings, 0 of them new.")
	out := filepath.Join(dir, "out.ndjson")
	assert.Contains(t, h.there("export -agents elsewhere -out "+out), "120 readings")
	got := lines(out)
	require.Len(t, got, 121)
	assert.Equal(t, `{"end":true,"readings":120}`, got[120])
	assert.Contains(t, got[0], `"rtt_median_ms":10.125001`)
	sheet := filepath.Join(dir, "out.csv")
	h.there("export -agents elsewhere -format csv -out " + sheet)
	rows := lines(sheet)
	require.Len(t, rows, 121)
	assert.True(t, strings.HasPrefix(rows[0], "from,to,family,via,started_at,span_s,"))

	moved := write("moved.csv", strings.ReplaceAll(strings.Join(rows, "\n"), "elsewhere,", "pier,"))
	assert.Contains(t, h.there("import "+moved), "120 of them new.")
	again := filepath.Join(dir, "again.ndjson")
	h.there("export -agents pier -out " + again)
	renamed := lines(again)
	for i := range renamed {
		renamed[i] = strings.ReplaceAll(renamed[i], `"from":"pier"`, `"from":"elsewhere"`)
	}
	slices.Sort(renamed)
	slices.Sort(got)
	assert.Equal(t, got, renamed, "by way of CSV, too")
	assert.Contains(t, h.there("agents"), "pier")

	one := fmt.Sprintf(foreign, "elsewhere", begin.Format(time.RFC3339))
	h.wrong(t, map[string]string{
		"export": "-out FILE", "export x": "nothing to do with", "export -out " + out: "is there already", "export -format json -out x": "ndjson or csv", "export -last soon -out x": "span of time",
		"import": "needs one file", "import a b": "needs one file", "import /nowhere": "no such file", "import " + write("empty", ""): "is empty", "import " + write("no.json", "{x\n"): "line 1 is no JSON",
		"import " + write("cut", one+"\n"+`{"end":true,"readings":2}`): "the file was cut", "import " + write("sheet", "from,colour\na,red\n"): `no column "colour"`, "import " + write("figures", "from,family\na,four\n"): `line 2: family "four" is no number`, "import " + write("lost", strings.Replace(one, `"lost":3`, `"lost":30`, 1)): "lines 1 to 1",
	})
	status, _, errs := h.call("import", write("noend", one), "-service", h.url)
	assert.Equal(t, 0, status, errs)
	assert.Contains(t, errs, "the file has no end")
}

// TestDefinitionsOutAndIn: out of one service and into an empty one they are the same, by both
// forms; what is there stays as it is; what cannot be is told, and keeps none of the others out.
func TestDefinitionsOutAndIn(t *testing.T) {
	h, empty := newHarbour(t), newHarbour(t)
	dir := t.TempDir()
	for _, line := range []string{"sites set Holm -at 58.84,-2.9 -targets holm.example", "owners set 198.51.100.0/24 Kelpnet transit", "objective add counter -loss 0.5% -mos 3.8", "watch add -name islands -from quay -to holm.example -tags islands -repeat 5m",
		"maintenance add -name mast -site Holm -cron 0_1_*_*_SUN -lasts 2h", "notify channel desk -by syslog -set address=127.0.0.1:5514", "notify rule night -to desk -labels fibre -severity 3 -hours 18:00-08:00",
		"notify channel letters -by mail -set server=127.0.0.1:2525 -set from=a@northquay.example -set to=b@northquay.example -set user=u -set password=s3cret"} {
		var args []string
		for _, w := range strings.Fields(line) {
			args = append(args, strings.ReplaceAll(w, "_", " "))
		}
		status, _, errs := h.call(append(args, "-service", h.url)...)
		require.Equal(t, 0, status, "%s: %s", line, errs)
	}
	out := filepath.Join(dir, "all.ndjson")
	status, said, errs := h.call("export", "-definitions", "-out", out, "-service", h.url)
	require.Equal(t, 0, status, errs)
	assert.Contains(t, said, "9 definitions") // two boards are ready-made
	assert.Contains(t, errs, `channel "letters" has secrets (password)`)
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "s3cret")
	assert.Equal(t, 9, strings.Count(h.there("import "+out), "as it was"))

	got := empty.there("import " + out)
	assert.Equal(t, 7, strings.Count(got, "added"), got)
	assert.Equal(t, 2, strings.Count(got, "as it was"), "the boards")
	again := filepath.Join(dir, "again.ndjson")
	empty.there("export -definitions -out " + again)
	same, err := os.ReadFile(again)
	require.NoError(t, err)
	assert.Equal(t, string(text), string(same))
	sheet := filepath.Join(dir, "all.csv")
	empty.there("export -definitions -format csv -out " + sheet)
	assert.Equal(t, 9, strings.Count(h.there("import "+sheet), "as it was"))

	// What is other there becomes what the file says; a rule to a channel that is not there cannot be.
	empty.there("notify remove-rule night")
	empty.there("notify remove-channel desk")
	changed := strings.ReplaceAll(string(text), `"lat_deg":58.84`, `"lat_deg":59.5`)
	var kept []string
	for _, line := range strings.Split(changed, "\n") {
		if !strings.Contains(line, `"definition":"channel"`) {
			kept = append(kept, line)
		}
	}
	require.NoError(t, os.WriteFile(out, []byte(strings.Replace(strings.Join(kept, "\n"), `"definitions":9`, `"definitions":8`, 1)), 0o600))
	status, said, errs = empty.call("import", out, "-service", empty.url)
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "1 definition could not be taken in; all others are there")
	assert.Regexp(t, `rule +night +refused +.*desk`, said)
	assert.Regexp(t, `site +Holm +changed`, said)
	assert.Contains(t, empty.there("sites"), "59.5,-2.9")

	for says, content := range map[string]string{
		"the file was cut":            string(text[:len(text)/2]),
		"it has no end":               strings.Join(kept[:2], "\n"),
		"and there were 1":            kept[0] + "\n" + `{"end":true,"definitions":7}`,
		"is none that is known":       `{"definition":"person","name":"Mara","body":{}}` + "\n" + `{"end":true,"definitions":1}`,
		"line 2: its body is no JSON": "definition,name,body\nsite,Holm,x\n",
	} {
		require.NoError(t, os.WriteFile(out, []byte(content), 0o600))
		status, _, errs := empty.call("import", out, "-service", empty.url)
		assert.Equal(t, 2, status, says)
		assert.Contains(t, errs, "nothing was taken in", says)
		if says != "the file was cut" {
			assert.Contains(t, errs, says)
		}
	}
}
