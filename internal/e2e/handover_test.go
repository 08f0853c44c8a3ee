package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// handsOn tells others, by the console and on the command line: a report, a channel with a rule,
// a note, a link for a guest, and a dossier.
func handsOn(t *testing.T, page context.Context, m *machine, s *service) {
	visit(t, page, s.base+"/reports")
	press(t, page, `//button[text()="Make the report"]`)
	until(t, page, `/of 20 paths got worse than normal/.test(document.body.innerText) && document.querySelectorAll("section[aria-labelledby=made] tbody tr").length >= 5`)
	axe(t, page, "reports")
	kinds := evaluate[[]string](t, page, `Promise.all([...document.querySelectorAll("section[aria-labelledby=made] p a[href*='/file']")].map((a) => fetch(a.href).then((r) => r.status + " " + r.headers.get("Content-Type"))))`)
	assert.Equal(t, []string{"200 text/html; charset=utf-8", "200 application/pdf", "200 text/csv; charset=utf-8", "200 application/json"}, kinds)

	var posted atomic.Int64
	hook := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { posted.Add(1) }))
	defer hook.Close()
	visit(t, page, s.base+"/settings")
	until(t, page, `/Nobody is told of anything yet/.test(document.body.innerText)`)
	fill(t, page, "Name of the channel", "desk")
	fill(t, page, "Url", hook.URL)
	press(t, page, `//button[text()="Add the channel"]`)
	press(t, page, `button[aria-label="Test channel desk"]`)
	until(t, page, `/The receiver has taken a test message/.test(document.body.innerText)`)
	assert.EqualValues(t, 1, posted.Load())
	fill(t, page, "Name of the rule", "night desk")
	fill(t, page, "In the hours", "18:00-08:00")
	press(t, page, `//button[text()="Add the rule"]`)
	until(t, page, `/to desk: what gets worse and is over; in the hours 18:00-08:00/.test(document.body.innerText)`)
	press(t, page, `//summary[normalize-space(.)="Make a guest link to a report"]`)
	axe(t, page, "settings")
	press(t, page, `button[aria-label="Remove rule night desk"]`)
	until(t, page, `/No rule leads to a channel yet/.test(document.body.innerText)`)

	visit(t, page, s.base+"/")
	press(t, page, `//a[contains(., "terminal.holm.example")]`)
	fill(t, page, "Note", "mast being painted")
	press(t, page, `//button[text()="Add the note"]`)
	until(t, page, `document.querySelector('button[aria-label="Remove the note mast being painted"]') !== null`)
	press(t, page, `//summary[normalize-space(.)="Make a guest link to this path"]`)
	fill(t, page, "Title of the page", "Holm, for Kelpnet")
	// The first field of that name is the note's.
	until(t, page, fmt.Sprintf(`(() => {
		const form = [...document.querySelectorAll("form")].find((f) => f.innerText.includes("Title of the page"));
		const field = form?.querySelector("input[type=datetime-local]");
		if (!field) return false;
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(field), "value").set.call(field, %q);
		field.dispatchEvent(new Event("input", { bubbles: true }));
		return true;
	})()`, time.Now().Add(time.Hour).Format("2006-01-02T15:04")))
	press(t, page, `//button[text()="Make the link"]`)
	until(t, page, `document.querySelector("[role=status] a[href^='/guest/']") !== null`)
	link := evaluate[string](t, page, `document.querySelector("[role=status] a[href^='/guest/']").href`)
	answer, err := http.Get(link)
	require.NoError(t, err)
	defer answer.Body.Close()
	seen, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	for _, says := range []string{"Holm, for Kelpnet", "terminal.holm.example", "gw.oxwater.example", "mast being painted", "<svg"} {
		assert.Contains(t, string(seen), says)
	}
	assert.NotContains(t, string(seen), "ternpoint", "it shows nothing else")
	visit(t, page, link)
	axe(t, page, "a guest's page")
	aDossier(t, m)
	aLikeness(t, m)
}

// aLikeness of a path is a network in which any program can be run.
func aLikeness(t *testing.T, m *machine) {
	file := m.good("lab", "from", "-path", "northquay → terminal.holm.example", "-at", "yesterday 10:00")
	assert.Contains(t, file, "# What was not measured, and how it is given:")
	assert.Contains(t, file, "gw.holm.example")
	world := filepath.Join(t.TempDir(), "holm.yaml")
	require.NoError(t, os.WriteFile(world, []byte(file), 0o600))
	m.good("lab", "check", world)
	out := m.good("lab", "run", "-like", "northquay → terminal.holm.example", "-at", "yesterday 10:00", "--", program, "ping", "-probes", "20", "-every", "20ms", "-format", "json", "terminal.holm.example")
	var pings []struct {
		RTT float64 `json:"rtt_median_ms"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &pings), out)
	assert.Greater(t, pings[0].RTT, 6.0, "as it was then, or a little more: the kernel's own sockets")
	assert.Contains(t, m.bad(2, "lab", "from", "-path", "northquay"), "is no path such as")
	assert.Contains(t, m.bad(2, "lab", "from", "-path", "northquay → nowhere"), "there is no path")
}

// aDossier is made and checked on the command line; a changed byte is named.
func aDossier(t *testing.T, m *machine) {
	name := filepath.Join(t.TempDir(), "holm.zip")
	out, errs, status := m.cli("dossier", "make", "-from", "northquay", "-to", "terminal.holm.example", "-last", "48h", "-mask", "-out", name)
	require.Equal(t, 0, status, errs)
	assert.Contains(t, out, "is whole")
	key, _, _ := m.cli("dossier", "key")
	_, _, status = m.cli("dossier", "check", name, "-key", strings.TrimSpace(key))
	assert.Equal(t, 0, status)
	out, _, status = m.cli("dossier", "check", name, "-key", "SHA256:another")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "another key signed it")
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	at := bytes.Index(b, []byte("readings.ndjson")) + 5000 // within what is packed of it
	b[at] ^= 0xff
	require.NoError(t, os.WriteFile(name, b, 0o600))
	out, _, status = m.cli("dossier", "check", name)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "readings.ndjson was changed")
	_, errs, status = m.cli("dossier", "check", "/dev/null")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "it is no dossier")
	out, errs, status = m.cli("report", "-last", "24h", "-format", "html")
	assert.Equal(t, 0, status, errs)
	assert.Contains(t, out, "<h1>Degraded paths")
}
