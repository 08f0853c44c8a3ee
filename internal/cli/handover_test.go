package cli

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/service/reports"
)

// wrong makes calls that cannot be, and looks what is said: the thing, the reason, the way out.
func (h *harbour) wrong(t *testing.T, calls map[string]string) {
	t.Helper()
	for line, says := range calls {
		status, out, errs := h.call(append(strings.Fields(line), "-service", h.url)...)
		assert.Equal(t, exitWrongCall, status, "%s: %s", line, errs)
		assert.Contains(t, errs, says, line)
		assert.Empty(t, out, line)
	}
}

// TestWhoIsToldOnTheCommandLine: channels and rules from nothing to their end.
func TestWhoIsToldOnTheCommandLine(t *testing.T) {
	h := newHarbour(t)
	var posted []string
	hook := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		posted = append(posted, r.Header.Get("webhook-signature")+string(b))
	}))
	defer hook.Close()
	listener, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte("whsec_c2VjcmV0IG9mIHRoZSBkZXNr\n"), 0o600))

	assert.Contains(t, h.there("notify"), "Nobody is told of anything yet")
	assert.Contains(t, h.there("notify messages"), "Nobody was told")
	types := h.there("notify types")
	for _, says := range []string{"mail", "starttls", "syslog", "facility", "webhook", "public_only"} {
		assert.Contains(t, types, says)
	}
	made := h.there("notify channel desk -by webhook", "-set", "url="+hook.URL, "-set", "secret=@"+key)
	assert.Contains(t, made, "secret (not shown)")
	assert.NotContains(t, made, "c2VjcmV0")
	h.there("notify channel logs -by syslog", "-set", "address="+listener.LocalAddr().String(), "-set", "facility=4")
	assert.Contains(t, h.there("notify test desk"), "The receiver has taken it.")
	require.Len(t, posted, 1)
	assert.Contains(t, posted[0], `"test":true`)
	h.there("notify test logs")
	buffer := make([]byte, 2000)
	require.NoError(t, listener.SetReadDeadline(time.Now().Add(10*time.Second)))
	n, _, err := listener.ReadFrom(buffer)
	require.NoError(t, err)
	assert.Regexp(t, `^<3[0-9]>1 `, string(buffer[:n]), "facility 4, RFC 5424")

	h.there("notify rule -to desk -states lost -tags islands,ships -zone Europe/Dublin -remind 4h -most 5 -holidays quiet", "-hours", "mon-fri 18:00-08:00", "night desk")
	h.there("notify rule weekly -to logs -report weekly -report-at 08:15 -objective voice -report-as pdf,csv -sites Holm")
	listed := h.there("notify list")
	for _, says := range []string{"desk", "night desk", "lost; tags islands, ships; days off quiet", "mon-fri 18:00-08:00 Europe/Dublin", "4h", "a report weekly at 08:15"} {
		assert.Contains(t, listed, says)
	}
	var all struct {
		Channels []apitype.Channel
		Rules    []apitype.Rule
	}
	require.NoError(t, json.Unmarshal([]byte(h.there("notify -format json")), &all))
	require.Len(t, all.Rules, 2)
	assert.Equal(t, apitype.RuleSpec{Name: "night desk", Channel: "desk", States: []string{"lost"}, Tags: []string{"islands", "ships"}, Hours: "mon-fri 18:00-08:00", Zone: "Europe/Dublin", Remind: "4h", Holidays: "quiet", Most: 5}, all.Rules[0].RuleSpec, "all of it is carried through")
	assert.Equal(t, &apitype.ReportOrder{Every: "weekly", At: "08:15", Objective: "voice", Formats: []string{"pdf", "csv"}}, all.Rules[1].Report)
	assert.Equal(t, []string{"secret"}, all.Channels[0].Hidden)

	h.wrong(t, map[string]string{
		"notify gull": "is none of", "notify test": "needs a name", "notify test a b": "has no use for", "notify channel x": "say by what", "notify channel x -by webhook": "url", "notify channel x -by pigeon": "mail, syslog, webhook",
		"notify channel x -by webhook -set url": "FIELD=VALUE", "notify channel x -by webhook -set url=@/nowhere": "no such file", "notify channel x -by syslog -set address=127.0.0.1:5 -set facility=many": "no whole number", "notify channel x -by webhook -set public_only=maybe": "neither true nor false",
		"notify channel x -by webhook -set url=ftp://x": "url", "notify rule x": "-to CHANNEL", "notify rule x -to nobody": "not found", "notify rule x -to desk -hours never": "hours", "notify rule x -to desk -remind soon": "span of time", "notify rule x -to desk -report hourly": "daily, weekly",
		"notify rule x -to desk -report-at 08:00": "belong to -report", "notify list -by webhook": "-by is of 'notify channel'", "notify remove-channel desk": `the rule "night desk" leads to`, "notify remove-rule gone": "not found", "notify rule x -to desk -zone Atlantis": "Atlantis", "notify messages -state sad": "state",
		"notify rule x -to desk -holidays never": "quiet",
	})
	h.there("notify remove-rule weekly")
	h.there("notify remove-rule", "night desk")
	h.there("notify remove-channel desk")
	h.there("notify remove-channel logs")
	assert.Contains(t, h.there("notify"), "Nobody is told")
}

// TestReportsOnTheCommandLine in each form, to a file and to the output.
func TestReportsOnTheCommandLine(t *testing.T) {
	h := newHarbour(t)
	h.there("watch add -name w -from quay -to 192.0.2.2,192.0.2.3 -tags islands")
	out := h.there("report -last 7d -objective voice", "-title", "A week")
	for _, says := range []string{"A week", "0 of 2 paths got worse", "Held against the objective voice", "192.0.2.3", "Not judged"} {
		assert.Contains(t, out, says)
	}
	var p reports.Period
	require.NoError(t, json.Unmarshal([]byte(h.there("report -targets 192.0.2.2 -format json")), &p))
	require.Len(t, p.Paths, 1)
	assert.InDelta(t, 24*3600, p.ToAt.Sub(p.FromAt).Seconds(), 1)
	rows, err := csv.NewReader(strings.NewReader(h.there("report -format csv"))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, "section", rows[0][0])
	name := filepath.Join(t.TempDir(), "x.pdf")
	assert.Contains(t, h.there("report -format pdf -out "+name), "written")
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(b, []byte("%PDF-")))
	h.wrong(t, map[string]string{
		"report gull": "nothing to do with", "report -format pdf": "-out FILE", "report -last soon": "span of time", "report -objective gull": "no objective", "report -between 2026-01-01": "two times", "report -since 2031-01-01": "still to come", "report -format docx": "docx", "report -last 1h -since yesterday": "exclude each other",
	})
}

// TestNotesGuestsAndDossiersOnTheCommandLine, on a path by its ends.
func TestNotesGuestsAndDossiersOnTheCommandLine(t *testing.T) {
	h := newHarbour(t)
	h.there("watch add -name w -from quay -to 192.0.2.2,2001:db8::2 -tags islands")
	h.there("watch add -name both -from quay -to 192.0.2.9")
	h.there("watch add -name tcp -from quay -to 192.0.2.9 -via tcp:443")
	note := h.there("annotate -from quay -to 192.0.2.2 -author Mara", "mast being painted")
	assert.Contains(t, note, "quay → 192.0.2.2")
	h.there("annotate", "-at", "yesterday 14:20", "-until", "yesterday 16:00", "power test")
	var notes []apitype.Annotation
	require.NoError(t, json.Unmarshal([]byte(h.there("annotate list -format json")), &notes))
	require.Len(t, notes, 2)
	assert.Equal(t, "Mara", notes[1].Author)
	assert.NotNil(t, notes[0].Until)
	assert.Contains(t, h.there("annotate list -from quay -to 192.0.2.2"), "power test", "those of all are of it, too")
	h.there("annotate remove " + notes[0].ID)
	assert.NotContains(t, h.there("annotate list"), "power test")

	made := h.there("guest add path -from quay -to 192.0.2.9 -via tcp:443 -until 7d -passphrase gannet-and-tern -frozen", "-title", "For Kelpnet", "-notes", "look here")
	assert.Contains(t, made, h.url+"/guest/")
	h.there("guest add report -tags islands -last 3d -until 1d -title islands")
	var links []apitype.GuestLink
	require.NoError(t, json.Unmarshal([]byte(h.there("guest -format json")), &links))
	require.Len(t, links, 2)
	assert.True(t, links[1].Asks)
	assert.True(t, links[1].Frozen)
	assert.Equal(t, "72h", links[0].Last)
	assert.Equal(t, []string{"islands"}, links[0].Tags)
	assert.Contains(t, h.there("guest openings "+links[0].LinkID), "Nobody came")
	answer, err := http.Get(strings.SplitN(made, "\n", 2)[0])
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
	assert.Contains(t, h.there("guest openings "+links[1].LinkID), "asked")
	h.there("guest end " + links[1].LinkID)
	assert.Contains(t, h.there("guest"), "ended")

	file := filepath.Join(t.TempDir(), "x.zip")
	assert.Contains(t, h.there("dossier make -from quay -to 192.0.2.2 -last 2d -out "+file), "is whole")
	z, err := zip.OpenReader(file)
	require.NoError(t, err)
	z.Close()
	key := strings.TrimSpace(h.there("dossier key"))
	assert.Contains(t, h.there("dossier check "+file+" -key "+key), "each file is as it was signed")
	rows, err := csv.NewReader(strings.NewReader(h.there("dossier check -format csv " + file))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"file", "bytes", "sha256", "state"}, rows[0])

	h.wrong(t, map[string]string{
		"annotate": "say what", "annotate remove": "needs the identifier", "annotate x -from quay": "two ends", "annotate x -from quay -to gone": "no path from quay to gone", "annotate x -via icmp": "give -from and -to", "annotate x -from quay -to 192.0.2.9": "several such paths", "annotate x -at soon": "-at", "annotate a b": "quotes", "annotate remove gull": "gull",
		"guest gull": "is none of", "guest add": "say of what", "guest add path -title x -until 1d": "which path", "guest add run -title x -until 1d": "add run ID", "guest add report -title x": "-until TIME", "guest add report -title x -until 2020-01-01": "is over", "guest add report -until 1d": "title",
		"guest add report -title x -until 1d -from quay -to 192.0.2.2": "'guest add path'", "guest add report -title x -until 1d -passphrase short": "8 to 200", "guest add report -title x -until 1d -passphrase @/nowhere": "no such file", "guest add report -title x -until 1d -between now": "two times", "guest openings": "needs the identifier", "guest list x": "has no use", "guest add world -title x -until 1d": "path, incident, report, run",
		"dossier": "say what", "dossier gull": "is none of", "dossier make -tags islands": "-out FILE", "dossier make -out " + filepath.Join(t.TempDir(), "y"): "say of which paths", "dossier make -tags islands -out " + file: "is there already", "dossier check": "needs a file", "dossier check /nowhere": "no such file", "dossier check /dev/null": "no dossier", "dossier make -key x -tags islands -out z": "-key is of 'dossier check', not of 'dossier make'",
		"dossier check x -last 2d": "-last is of 'dossier make', not of 'dossier check'", "dossier key -mask": "not of 'dossier key'", "guest end x -title y": "-title is of 'guest add'", "guest -tags a": "not of 'guest list'", "annotate list -at now": "-at is of 'annotate add'", "annotate remove x -last 2d": "-last is of 'annotate list'", "annotate x -last 2d": "not of 'annotate add'",
	})
}
