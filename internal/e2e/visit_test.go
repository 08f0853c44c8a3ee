package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/browser"
	"woodlark.example/internal/busy"
)

// visitHere has this test's program be somebody with a browser, in a lab, who opens the address.
const visitHere = "WOODLARK_E2E_VISIT"

// visited is what the page of a guest showed.
type visited struct {
	Before, After string
	Axe           []string
	Wide          float64 // pixels, of a page of 390
}

// visitFromHere opens a guest's page, measures, and writes what it showed.
func visitFromHere(address string) int {
	v, err := visitBy(address)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	_ = json.NewEncoder(os.Stdout).Encode(v)
	return 0
}

func visitBy(address string) (v visited, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), 150*time.Second)
	defer cancel()
	page, end, err := browser.New(ctx, 1280, 800, "allow-loopback-in-peer-connection")
	if err != nil {
		return v, err
	}
	defer end()
	if err := chromedp.Do(page, chromedp.Navigate(address), chromedp.WaitVisible(chromedp.CSS("textarea"))); err != nil {
		return v, err
	}
	if v.Before, err = chromedp.Run(page, chromedp.Evaluate[string]("document.body.innerText")); err != nil {
		return v, err
	}
	if err := chromedp.Do(page, chromedp.SendKeys(chromedp.CSS("textarea"), "The till is slow at noon."), chromedp.Click(chromedp.CSS("button[type=submit]"))); err != nil {
		return v, err
	}
	const over = `new Promise((done) => { const look = setInterval(() => { if (document.querySelector("[role=alert], section[aria-label=Figures]")) { clearInterval(look); done(true); } }, 100); })`
	if _, err := chromedp.Run(page, chromedp.Evaluate[bool](over, chromedp.EvalAwaitPromise)); err != nil {
		return v, err
	}
	if v.After, err = chromedp.Run(page, chromedp.Evaluate[string]("document.body.innerText")); err != nil {
		return v, err
	}
	source, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		return v, err
	}
	if _, err := chromedp.Run(page, chromedp.Evaluate[bool](string(source)+"; true")); err != nil {
		return v, err
	}
	if v.Axe, err = chromedp.Run(page, chromedp.Evaluate[[]string](`axe.run(document, {runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]})
		.then(r => r.violations.flatMap(v => v.nodes.map(n => v.id + ": " + n.html.slice(0, 120))))`, chromedp.EvalAwaitPromise)); err != nil {
		return v, err
	}
	if err := chromedp.Do(page, chromedp.EmulateViewport(390, 800)); err != nil {
		return v, err
	}
	v.Wide, err = chromedp.Run(page, chromedp.Evaluate[float64]("document.documentElement.scrollWidth"))
	return v, err
}

// TestAVisitFromABrowser: somebody outside opens a link in a browser, on a network of known loss,
// delay and rate each way.
func TestAVisitFromABrowser(t *testing.T) { // alone: it counts packets, and five tries beside others take longer
	m := newMachine(t)
	file := filepath.Join(t.TempDir(), "visit.yaml")
	require.NoError(t, os.WriteFile(file, []byte(`
world: a visit
nodes:
  - {name: desk.example, addresses: [192.0.2.1]}
  - {name: service.example, addresses: [198.51.100.1]}
links:
  - between: [desk.example, service.example]
    toward:
      service.example: {delay: 20ms, loss: 3%, rate: 20Mbit/s, queue: 80ms}
      desk.example: {delay: 30ms, reorders: 4% 25ms, rate: 60Mbit/s, queue: 80ms}
`), 0o600))
	m.good("lab", "up", "-world", file, "-name", "visit")
	_, process := labRecord(t, m, "visit")
	t.Cleanup(func() {
		m.cli("lab", "down", "-name", "visit")
		_ = syscall.Kill(process, syscall.SIGKILL)
	})
	state := m.state + "-service"
	m.background("msg=ready", "lab", "run", "-name", "visit", "-at", "service.example", "--", program, "serve", "-plain-http", "-state", state, "-listen", "198.51.100.1:7420")
	token, err := os.ReadFile(filepath.Join(state, "token"))
	require.NoError(t, err)
	m.env = append(m.env, "WOODLARK_SERVICE=http://198.51.100.1:7420", "WOODLARK_TOKEN="+strings.TrimSpace(string(token)))
	there := func(args ...string) string {
		return m.good(append([]string{"lab", "run", "-name", "visit", "-at", "service.example", "--", program}, args...)...)
	}
	link, _, _ := strings.Cut(there("guest", "add", "readiness", "-need", "calls", "-title", "Is Gannet Bay fit for calls?", "-until", "1d"), "\n")
	self, err := os.Executable()
	require.NoError(t, err)

	busy.Tries(t, func(y *busy.Try) {
		cmd := m.command("lab", "run", "-name", "visit", "-at", "desk.example", "--", self)
		cmd.Env = append(cmd.Env, visitHere+"="+link)
		out, err := cmd.Output()
		if e, is := err.(*exec.ExitError); is {
			require.NoError(y, err, string(e.Stderr))
		}
		require.NoError(y, err)
		var v visited
		require.NoError(y, json.Unmarshal(out, &v), string(out))
		assert.Contains(t, v.Before, "Is Gannet Bay fit for calls?")
		assert.Empty(t, v.Axe)
		assert.LessOrEqual(t, v.Wide, 390.0)
		assert.Contains(y, v.After, "by the visitor's word", v.After)

		var list []apitype.Visit
		require.NoError(t, json.Unmarshal([]byte(there("guest", "visits", "-format", "json")), &list))
		require.NotEmpty(t, list)
		var one apitype.Visit
		require.NoError(t, json.Unmarshal([]byte(there("guest", "visits", "-format", "json", list[0].ID)), &one))
		assert.Equal(t, "The till is slow at noon.", one.Words)
		require.NotNil(t, one.Found)
		f := one.Found
		require.NotNil(y, f.Rest)
		// Other tests run beside it: alone it is within 2 ms and 3 %.
		assert.InDelta(y, 50, *f.Rest.MinMs, 5, "round trip over HTTP")
		require.NotNil(y, f.Packets, "%v", f.Notes)
		assert.InDelta(y, 50, *f.Packets.MinMs, 5, "of packets")
		require.Len(y, f.Ways, 2, "%v", f.Notes)
		w, back := f.Ways[0], f.Ways[1]
		require.NotNil(y, w.LossLow)
		assert.True(y, *w.LossLow <= 0.03 && 0.03 <= *w.LossHigh, "lost there: %v to %v", *w.LossLow, *w.LossHigh)
		assert.Zero(y, w.Reordered, "nothing is held back there")
		assert.Zero(y, *back.Lost, "nothing is lost back")
		// Of 500, 20 are held; four standard errors of that.
		assert.InDelta(y, 20, back.Reordered, 4*math.Sqrt(500*0.04*0.96), "overtaken on the way back")
		// A TCP segment carries 1448 bytes of payload in 1500 of IP, and of those there 3 % are lost.
		for i, bps := range []float64{20e6 * 0.97, 60e6} {
			require.NotNil(y, f.Rates[i].Bps)
			assert.InEpsilon(y, bps*1448/1500, *f.Rates[i].Bps, 0.10, "rate %d", i)
		}
	})
}
