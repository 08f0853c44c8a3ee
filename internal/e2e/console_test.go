package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/browser"
)

// complaints gathers errors that the page writes to the browser's console.
type complaints struct {
	mu   sync.Mutex
	list []string
}

func (c *complaints) listen(t *testing.T, page context.Context) {
	require.NoError(t, chromedp.Listen(page, func(event any) {
		c.mu.Lock()
		defer c.mu.Unlock()
		switch e := event.(type) {
		case *runtime.EventConsoleAPICalled:
			if e.Type == "error" || e.Type == "warning" {
				text, _ := json.Marshal(e.Args)
				c.list = append(c.list, string(text))
			}
		case *runtime.EventExceptionThrown:
			c.list = append(c.list, e.ExceptionDetails.Text)
		case *log.EventEntryAdded:
			if e.Entry.Level == "error" {
				c.list = append(c.list, e.Entry.Text+" "+e.Entry.URL)
			}
		}
	}))
}

func evaluate[T any](t *testing.T, page context.Context, script string) T {
	t.Helper()
	v, err := chromedp.Run(page, chromedp.Evaluate[T](script, chromedp.EvalAwaitPromise))
	require.NoError(t, err, script)
	return v
}

// until waits for a script to be true of the page.
func until(t *testing.T, page context.Context, script string) {
	t.Helper()
	require.Eventually(t, func() bool { return evaluate[bool](t, page, script) }, 20*time.Second, 100*time.Millisecond, script)
}

// axe checks the page against the rules of WCAG 2.2 AA.
func axe(t *testing.T, page context.Context, where string) {
	t.Helper()
	source, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	evaluate[bool](t, page, string(source)+"; true")
	found := evaluate[[]string](t, page, `axe.run(document, {runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]})
		.then(r => r.violations.flatMap(v => v.nodes.map(n => v.id + ": " + n.html.slice(0, 120) + " " + (n.any[0]?.message ?? ""))))`)
	assert.Empty(t, found, where)
}

func TestDemoAndConsole(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	began := time.Now()
	s := m.start("demo", "-keep")
	t.Logf("the demo was ready after %v", time.Since(began).Round(time.Second))

	t.Run("the command line tells the five truths", func(t *testing.T) {
		out, _, status := m.cli("degraded", "-last", "48h", "-format", "json")
		assert.Equal(t, 1, status)
		var d apitype.Degraded
		require.NoError(t, json.Unmarshal([]byte(out), &d))
		assert.Equal(t, 17, d.Watched)
		code := map[string]string{}
		for _, p := range append(append(append([]apitype.Path{}, d.Now...), d.Daily...), d.Never...) {
			code[p.To] = p.Findings[len(p.Findings)-1].Code
		}
		for _, e := range d.Ended {
			require.Len(t, e.Episodes, 1)
			code[e.Path.To] = e.Episodes[0].Kind
		}
		want := map[string]string{"terminal.gannetbay.example": "saturation", "terminal.ternpoint.example": "loss_steady", "terminal.holm.example": "delay_step",
			"kiosk.oxwater.example": "lost", "gate.drydock.example": "never_answered"}
		assert.Equal(t, want, code, "these and no others")
		text, _, _ := m.cli("degraded")
		assert.Contains(t, text, "Worse than normal now")
		assert.Contains(t, m.good("baseline", "show", "-from", "northquay", "-to", "terminal.holm.example"), "rolling baseline")
		assert.Contains(t, m.good("baseline", "pin", "-from", "northquay", "-to", "terminal.holm.example"), "pinned baseline")
		assert.Contains(t, m.good("baseline", "unpin", "-from", "northquay", "-to", "terminal.holm.example"), "rolling baseline")
	})

	page, end, err := browser.New(t.Context(), 1280, 800)
	require.NoError(t, err)
	defer end()
	var wrong complaints
	wrong.listen(t, page)

	t.Run("who is not signed in is asked to", func(t *testing.T) {
		require.NoError(t, chromedp.Do(page, chromedp.Navigate(s.base+"/"), chromedp.WaitVisible(chromedp.CSS("#token"))))
		axe(t, page, "sign-in")
		require.NoError(t, chromedp.Do(page, chromedp.SendKeys(chromedp.CSS("#token"), "wrong"), chromedp.Click(chromedp.CSS("button[type=submit]")), chromedp.WaitVisible(chromedp.CSS("#wrong"))))
		wrong.mu.Lock()
		assert.NotEmpty(t, wrong.list, "the listener hears the browser")
		for _, text := range wrong.list {
			assert.Contains(t, text, "401", "the browser itself notes refused calls, nothing else")
		}
		wrong.list = nil
		wrong.mu.Unlock()
		require.NoError(t, chromedp.Do(page, browser.SignIn(s.base, s.token)))
	})

	t.Run("the paths, worst first", func(t *testing.T) {
		until(t, page, `document.querySelector("h1").textContent.includes("2 of 17 paths degraded")`)
		rows := evaluate[[]string](t, page, `[...document.querySelectorAll("a[data-path]")].map(a => a.dataset.path + " | " + a.textContent)`)
		require.GreaterOrEqual(t, len(rows), 5)
		for _, says := range []string{"terminal.holm.example 4 | degraded", "terminal.ternpoint.example 4 | degraded", "terminal.gannetbay.example 4 | steady",
			"kiosk.oxwater.example 4 | steady", "gate.drydock.example 4 | lost"} {
			assert.True(t, containsAny(rows[:5], says), "%s in %v", says, rows[:5])
		}
		text := strings.Join(rows, "\n")
		for _, says := range []string{"Gets worse every day about 16:", "Lost for 40 min", "Has never answered", "normally 6.5", "Loses "} {
			assert.Contains(t, text, says)
		}
		axe(t, page, "paths")
		require.NoError(t, chromedp.Do(page, chromedp.Navigate(s.base+"/?state=degraded"), chromedp.WaitVisible(browser.Rows)))
		until(t, page, `document.querySelectorAll("a[data-path]").length === 2`)
	})

	t.Run("one path, from a fortnight to single probes", func(t *testing.T) {
		require.NoError(t, chromedp.Do(page, chromedp.Navigate(s.base+"/"), chromedp.Click(browser.Row("northquay terminal.holm.example 4")), chromedp.Click(`//*[@role="radio"][text()="14 d"]`)))
		until(t, page, `document.querySelector("[data-resolution]")?.dataset.resolution === "10m" && Number(document.querySelector("[data-resolution]").dataset.points) > 2000`)
		axe(t, page, "one path")
		for _, resolution := range []string{"reading", "probe"} {
			for range 8 {
				before := evaluate[string](t, page, `location.search`)
				drag(t, page)
				until(t, page, fmt.Sprintf(`location.search !== %q`, before))
				until(t, page, `document.querySelector("[data-resolution]").dataset.points !== "0"`)
				if evaluate[string](t, page, `document.querySelector("[data-resolution]").dataset.resolution`) == resolution {
					break
				}
			}
			until(t, page, fmt.Sprintf(`document.querySelector("[data-resolution]").dataset.resolution === %q`, resolution))
		}
		require.NoError(t, chromedp.Do(page, chromedp.Click(`//button[text()="Back out"]`)))
		require.NoError(t, chromedp.Do(page, chromedp.Click(`//button[text()="Table"]`), chromedp.WaitVisible(chromedp.CSS("table caption, [aria-label=\"Table of the plot's data\"]"))))
		axe(t, page, "table")
	})

	t.Run("new readings come without a reload", func(t *testing.T) {
		require.NoError(t, chromedp.Do(page, chromedp.Navigate(s.base+"/"), chromedp.Click(browser.Row("northquay app.ticketing.example 4")), chromedp.WaitVisible(chromedp.CSS("#normal"))))
		const shown = `document.querySelector("section[aria-labelledby=normal] th").textContent`
		before := evaluate[string](t, page, `window.marked = true, `+shown)
		assert.Contains(t, before, "Reading of ")
		require.Eventually(t, func() bool { return evaluate[string](t, page, shown) != before }, 100*time.Second, 200*time.Millisecond)
		assert.True(t, evaluate[bool](t, page, `window.marked`), "it is still the same page")
	})

	t.Run("dark, and narrow", func(t *testing.T) {
		require.NoError(t, chromedp.Do(page, chromedp.Click(`//button[text()="Dark"]`)))
		axe(t, page, "one path, dark")
		require.NoError(t, chromedp.Do(page, chromedp.EmulateViewport(390, 800), chromedp.Navigate(s.base+"/"), chromedp.WaitVisible(browser.Rows)))
		axe(t, page, "paths, dark and narrow")
		assert.LessOrEqual(t, evaluate[int](t, page, `document.documentElement.scrollWidth`), 390, "nothing is wider than the page")
	})

	wrong.mu.Lock()
	assert.Empty(t, wrong.list, "no errors in the browser's console")
	wrong.mu.Unlock()

	t.Run("stopped it leaves no process, and kept its data", func(t *testing.T) {
		database := databasePid(t, m)
		s.stop()
		assert.ErrorIs(t, syscall.Kill(database, 0), syscall.ESRCH)
		assert.NoFileExists(t, filepath.Join(m.state, "service.json"))
		began := time.Now()
		again := m.start("demo", "-keep")
		assert.NotContains(t, again.log.String(), "days of history", "the history is not made again")
		t.Logf("the kept demo was ready after %v", time.Since(began).Round(100*time.Millisecond))
		var d apitype.Degraded
		again.get("/api/v1/degraded", &d)
		assert.Len(t, d.Now, 2)
		assert.Len(t, d.Daily, 1)
		again.stop()
		third := m.start("demo")
		third.stop()
		assert.NoDirExists(t, m.state, "without -keep nothing stays")
	})
}

func containsAny(rows []string, says string) bool {
	for _, r := range rows {
		if strings.Contains(r, says) {
			return true
		}
	}
	return false
}

// drag marks the middle tenth of the plot with the mouse.
func drag(t *testing.T, page context.Context) {
	t.Helper()
	box := evaluate[[]float64](t, page, `(() => { const b = document.querySelector("[data-resolution]").getBoundingClientRect(); return [b.left, b.top, b.width, b.height]; })()`)
	y := box[1] + box[3]/2
	from, to := box[0]+box[2]*0.4, box[0]+box[2]*0.5
	require.NoError(t, chromedp.Do(page,
		chromedp.MouseEvent(chromedp.MousePressed, from, y, chromedp.ButtonLeft),
		chromedp.MouseEvent(chromedp.MouseMoved, (from+to)/2, y, chromedp.ButtonLeft),
		chromedp.MouseEvent(chromedp.MouseMoved, to, y, chromedp.ButtonLeft),
		chromedp.MouseEvent(chromedp.MouseReleased, to, y, chromedp.ButtonLeft)))
}
