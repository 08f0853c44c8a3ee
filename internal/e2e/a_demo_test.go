package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
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

// until waits for a script to be true of the page. A page that is on its way to another has no
// answer yet: it is asked again.
func until(t *testing.T, page context.Context, script string) {
	t.Helper()
	var last error
	if !assert.Eventually(t, func() bool {
		var is bool
		is, last = chromedp.Run(page, chromedp.Evaluate[bool](script, chromedp.EvalAwaitPromise))
		return last == nil && is
	}, time.Minute, 100*time.Millisecond, script) {
		t.Error("the last answer:", last)
		t.Fatal(evaluate[string](t, page, `"the page at " + location.href + " reads: " + document.body.innerText`))
	}
}

// press clicks on what a CSS selector or an XPath (from "//") names, once it is
// there and enabled. The click is the page's own: rows move as readings come, so
// a mouse may arrive where something was.
func press(t *testing.T, page context.Context, what chromedp.CSS) {
	t.Helper()
	until(t, page, fmt.Sprintf(`(() => {
		const what = %q;
		const found = what.startsWith("//") ? document.evaluate(what, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue : document.querySelector(what);
		if (!found || found.disabled) return false;
		found.click();
		return true;
	})()`, what))
}

// appears waits for what a CSS selector names.
func appears(t *testing.T, page context.Context, what string) {
	t.Helper()
	until(t, page, fmt.Sprintf(`document.querySelector(%q) !== null`, what))
}

// visit opens an address of the console.
func visit(t *testing.T, page context.Context, address string) {
	t.Helper()
	require.NoError(t, chromedp.Do(page, chromedp.Navigate(address)))
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

// TestDemoAndConsole takes longest of those that run side by side: the name of its file has it begin
// first.
func TestDemoAndConsole(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	began := time.Now()
	s := m.start("demo", "-keep")
	t.Logf("the demo was ready after %v", time.Since(began).Round(time.Second))

	t.Run("the command line tells the truths", func(t *testing.T) {
		out, _, status := m.cli("degraded", "-last", "48h", "-format", "json")
		assert.Equal(t, 1, status)
		var d apitype.Degraded
		require.NoError(t, json.Unmarshal([]byte(out), &d))
		assert.Equal(t, 20, d.Watched)
		code := map[string]string{}
		for _, p := range append(append([]apitype.Path{}, d.Now...), d.Never...) {
			code[p.To] = string(p.Findings[0].Code)
		}
		for _, p := range d.Daily {
			require.Len(t, p.Findings, 2, "what is daily is one property beside that it is steady")
			code[p.To] = string(p.Findings[1].Code)
		}
		for _, e := range d.Ended {
			require.Len(t, e.Episodes, 1)
			// What is measured as the demo runs, on a machine that stands still now and then, may
			// be worse for a while than what is told of that path anyway.
			if code[e.Path.To] == "" {
				code[e.Path.To] = e.Episodes[0].Kind
			}
		}
		want := map[string]string{"terminal.gannetbay.example": "saturation", "terminal.ternpoint.example": "loss_steady", "terminal.holm.example": "route_changed",
			"stage.aukrock.example": "delay_step", "stage.eidersound.example": "delay_step", "stage.fulmarstack.example": "delay_step",
			"kiosk.oxwater.example": "lost", "gate.drydock.example": "never_answered"}
		assert.Equal(t, want, code, "these and no others")
		require.Len(t, d.Incidents, 1)
		assert.Equal(t, [2]string{"192.0.2.1", "203.0.113.81"}, [2]string{d.Incidents[0].Segments[0].From, d.Incidents[0].Segments[0].To})
		assert.Len(t, d.Incidents[0].Members, 3)
		assert.Equal(t, 12, d.Healthy)
		for _, p := range d.Now {
			if p.To != "terminal.holm.example" {
				continue
			}
			assert.Contains(t, p.Findings[0].Sentence, "when the traffic moved to gw.oxwater.example (access, Kelpnet Islands)")
			require.NotNil(t, p.Episodes[0].Moved)
			assert.Equal(t, "203.0.113.33", p.Episodes[0].Moved.Hop)
		}
		text, _, status := m.cli("degraded")
		assert.Equal(t, 1, status)
		for _, says := range []string{"5 of 20 paths degraded, 3 of them in one incident, 1 never answered", "all cross the segment from gw.northquay.example (ours, Skerry Line) to relay.skuahill.example (access, Kelpnet Masts)", "Worse than normal", "12 paths as ever."} {
			assert.Contains(t, text, says)
		}
		table := m.bad(1, "degraded", "-since", "yesterday", "-format", "csv")
		assert.Contains(t, table, "incident,northquay,stage.aukrock.example,4,icmp,")
		past := m.bad(0, "degraded", "-between", time.Now().AddDate(0, 0, -9).Format("2006-01-02")+","+time.Now().AddDate(0, 0, -8).Format("2006-01-02"))
		assert.Contains(t, past, "0 paths of 20 paths were degraded or lost at the end of that time")
		week := m.good("baseline", "show", "-from", "northquay", "-to", "terminal.gannetbay.example")
		assert.Regexp(t, `Mon to Fri +widest at 1[67]:00: .*\n +[0-9.]+ ms │ {32}░░░░\n`, week, "full every late afternoon")
		again := t.TempDir()
		readings, routes := filepath.Join(again, "readings.ndjson"), filepath.Join(again, "routes.ndjson")
		require.NoError(t, os.WriteFile(readings, []byte(m.good("results", "-format", "ndjson", "-last", "2h")), 0o600))
		traced := m.good("results", "-traces", "-format", "ndjson", "-last", "48h", "-to", "terminal.holm.example")
		assert.Contains(t, traced, `"hops":["192.0.2.1","203.0.113.33","203.0.113.25","203.0.113.26"]`)
		require.NoError(t, os.WriteFile(routes, []byte(traced), 0o600))
		assert.Contains(t, m.good("degraded", "-replay", readings, "-routes", routes), "is still learnt, until")
		file := filepath.Join(t.TempDir(), "holm.json")
		require.NoError(t, os.WriteFile(file, []byte(m.good("baseline", "export", "-from", "northquay", "-to", "terminal.holm.example", "-measure", "rtt")), 0o600))
		assert.Contains(t, m.good("baseline", "import", file, "-from", "northquay", "-to", "terminal.holm.example", "-measure", "rtt"), "rolling baseline")
		assert.Contains(t, m.good("baseline", "compare", "-from", "northquay", "-to", "terminal.holm.example", "-with-from", "northquay", "-with-to", "terminal.oxwater.example"), "They differ in ")
		assert.Contains(t, m.good("baseline", "kept", "-from", "northquay", "-to", "terminal.holm.example"), "in use")
		assert.Contains(t, m.bad(2, "baseline", "accept", "-from", "northquay", "-to", "terminal.holm.example"), "nothing of the kind new_level waits to be accepted")
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
		require.NoError(t, chromedp.Do(page, chromedp.Navigate(s.base+"/"), chromedp.WaitVisible(chromedp.CSS("#passphrase"))))
		axe(t, page, "sign-in")
		press(t, page, `button[type="button"]`)
		appears(t, page, "#token")
		axe(t, page, "sign-in by token")
		require.NoError(t, chromedp.Do(page, chromedp.SendKeys(chromedp.CSS("#token"), "wrong")))
		press(t, page, `button[type="submit"]`)
		appears(t, page, "#wrong")
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
		until(t, page, `document.querySelector("h1").textContent.includes("5 of 20 paths degraded, 3 of them in one incident")`)
		rows := evaluate[[]string](t, page, `[...document.querySelectorAll("a[data-path]")].map(a => a.dataset.path + " | " + a.textContent)`)
		require.GreaterOrEqual(t, len(rows), 6)
		assert.Contains(t, evaluate[string](t, page, `document.querySelector("[data-incident]").textContent`), "gw.northquay.example to relay.skuahill.example 3 paths, 4.")
		assert.True(t, evaluate[bool](t, page, `(() => { const h = [...document.querySelectorAll("a[data-path]")].map(a => Math.round(a.getBoundingClientRect().height)); return Math.max(...h) === Math.min(...h); })()`), "rows keep one height")
		for _, says := range []string{"terminal.holm.example 4 | degraded", "terminal.ternpoint.example 4 | degraded", "terminal.gannetbay.example 4 | steady",
			"stage.aukrock.example 4 | degraded", "gate.drydock.example 4 | lost"} {
			assert.True(t, containsAny(rows[:min(8, len(rows))], says), "%s in %v", says, rows)
		}
		text := strings.Join(rows, "\n")
		for _, says := range []string{"Gets worse every day about 16:", "Lost for 40 min", "Has never answered", "instead of 6.5", "Loses "} {
			assert.Contains(t, text, says)
		}
		axe(t, page, "paths")
		require.NoError(t, chromedp.Do(page, chromedp.Navigate(s.base+"/?state=degraded"), chromedp.WaitVisible(browser.Rows)))
		until(t, page, `document.querySelectorAll("a[data-path]").length === 5`)
		press(t, page, `[data-incident] summary`)
		until(t, page, `document.querySelector("[data-incident] details").open && document.querySelectorAll("[data-incident] a").length === 3`)
		axe(t, page, "an incident")
	})

	t.Run("one path, from a fortnight to single probes", func(t *testing.T) {
		visit(t, page, s.base+"/")
		press(t, page, browser.Row("northquay terminal.holm.example 4"))
		until(t, page, `document.querySelector("section[aria-labelledby=during]")?.textContent.includes("6.5") === true && ["24 h", "3 d"].includes(document.querySelector('[role=radio][aria-checked=true]').textContent)`)
		assert.Contains(t, evaluate[string](t, page, `document.querySelector("section[aria-labelledby=during]").textContent`), "203.0.113.33  gw.oxwater.example")
		press(t, page, `//*[@role="radio"][text()="14 d"]`)
		until(t, page, `document.querySelector("[data-resolution]")?.dataset.resolution === "10m" && Number(document.querySelector("[data-resolution]").dataset.points) > 2000`)
		axe(t, page, "one path")
		// The address is ahead of the plot for a moment; a drag on the old axis would ask for the same again.
		const drawn = `(q => document.querySelector("[data-axis]").dataset.axis === q.get("from") + " " + q.get("to"))(new URLSearchParams(location.search))`
		for _, resolution := range []string{"reading", "probe"} {
			for range 8 {
				before := evaluate[string](t, page, `location.search`)
				drag(t, page)
				until(t, page, fmt.Sprintf(`location.search !== %q && %s`, before, drawn))
				until(t, page, `document.querySelector("[data-resolution]").dataset.points !== "0"`)
				if evaluate[string](t, page, `document.querySelector("[data-resolution]").dataset.resolution`) == resolution {
					break
				}
			}
			until(t, page, fmt.Sprintf(`document.querySelector("[data-resolution]").dataset.resolution === %q`, resolution))
		}
		press(t, page, `//button[text()="Back out"]`)
		press(t, page, `//button[text()="Table"]`)
		appears(t, page, `table caption, [aria-label="Table of the plot's data"]`)
		axe(t, page, "table")
	})

	t.Run("new readings come without a reload", func(t *testing.T) {
		visit(t, page, s.base+"/")
		press(t, page, browser.Row("northquay app.ticketing.example 4"))
		appears(t, page, "#normal")
		const shown = `document.querySelector("section[aria-labelledby=normal] th").textContent`
		before := evaluate[string](t, page, `window.marked = true, `+shown)
		assert.Contains(t, before, "Reading of ")
		require.Eventually(t, func() bool { return evaluate[string](t, page, shown) != before }, 100*time.Second, 200*time.Millisecond)
		assert.True(t, evaluate[bool](t, page, `window.marked`), "it is still the same page")
	})

	t.Run("measuring with live results", func(t *testing.T) {
		visit(t, page, s.base+"/measure?kind=ping&from=northquay&to=app.ticketing.example")
		press(t, page, `form button[type="submit"]`)
		until(t, page, `/[1-9]\d* of 50 probes so far/.test(document.querySelector("section [role=status]")?.textContent ?? "") && document.querySelector("section dl") !== null`)
		axe(t, page, "measure, while it runs")
		until(t, page, `document.querySelector("section [role=status]").textContent === "done" && document.querySelector("section dl").textContent.includes("50 of 50")`)
		visit(t, page, s.base+"/measure?kind=sweep&from=northquay&to=203.0.113.0/26")
		press(t, page, `form button[type="submit"]`)
		until(t, page, `/(9|1[01]) of 64 addresses answer/.test(document.querySelector("main").textContent)`) // 11, less what two rounds lost
		axe(t, page, "measure, a sweep")
		visit(t, page, s.base+"/measure?kind=sweep&from=northquay&to=0.0.0.0/0")
		press(t, page, `form button[type="submit"]`)
		until(t, page, `document.querySelector("[role=alert]")?.textContent.includes("4,294,967,296 are more than") === true`)
		wrong.mu.Lock()
		for _, text := range wrong.list {
			assert.Contains(t, text, "422", "the browser itself notes the refused call, nothing else")
		}
		wrong.list = nil
		wrong.mu.Unlock()
	})

	t.Run("from near to far", func(t *testing.T) {
		visit(t, page, s.base+"/measure?kind=walk&from=northquay&to=app.ticketing.example")
		press(t, page, `form button[type="submit"]`)
		appears(t, page, `section[aria-label="From near to far"]`)
		assert.Contains(t, evaluate[string](t, page, `document.querySelector("section[aria-label='From near to far']").textContent`), "through 192.0.2.1")
		axe(t, page, "near to far")
	})

	t.Run("sweeps, and what changed", func(t *testing.T) {
		visit(t, page, s.base+"/sweeps")
		press(t, page, `//nav[@aria-label="Sweeps, newest first"]//a[contains(., "203.0.113.0/26")]`)
		until(t, page, `document.querySelector("section[aria-label='One sweep']")?.textContent.startsWith("203.0.113.0/26") === true && document.querySelector("section[aria-label='One sweep'] figure") !== null`)
		assert.Equal(t, 64, evaluate[int](t, page, `document.querySelectorAll("section[aria-label='One sweep'] figure svg:first-of-type g > title").length`), "a cell an address")
		assert.Contains(t, evaluate[string](t, page, `document.querySelector("section[aria-labelledby=hosts]").textContent`), "terminal.holm.example")
		axe(t, page, "sweeps")
	})

	t.Run("kinds and families of one target side by side", func(t *testing.T) {
		visit(t, page, s.base+"/")
		press(t, page, browser.Row("northquay app.ticketing.example 4"))
		appears(t, page, "#ways")
		assert.Contains(t, evaluate[string](t, page, `document.querySelector("section[aria-labelledby=ways]").textContent`), "IPv6 by icmp")
		axe(t, page, "one path, with other ways")
	})

	t.Run("the route, hop by hop along time", func(t *testing.T) {
		out, _, status := m.cli("trace", "-from", "northquay", "-probes", "2", "-every", "100ms", "-format", "json", "terminal.holm.example")
		assert.Equal(t, 1, status, "it changed yesterday")
		r := reportOf(t, out)
		assert.Len(t, r.Hops, 4)
		assert.Contains(t, codesOf(r), "route_changed")
		assert.InDelta(t, 17.5, *r.Compared.StepMs, 1.5)
		assert.Contains(t, m.good("results", "-traces", "-to", "terminal.holm.example"), "another route than usual")
		visit(t, page, s.base+"/")
		press(t, page, browser.Row("northquay terminal.holm.example 4"))
		press(t, page, `//*[@role="radio"][text()="3 d"]`)
		until(t, page, `document.querySelector('figure[data-lanes="4"]') !== null && document.querySelector('[aria-label="Route changes"] span') !== null`)
		until(t, page, `document.querySelector("section[aria-labelledby=route]")?.textContent.includes("new at hop 2") === true`)
		until(t, page, `document.querySelector("section[aria-labelledby=route]").textContent.includes("Kelpnet Islands (access)")`)
		axe(t, page, "one path, with its route")
		visit(t, page, s.base+"/")
		press(t, page, browser.Row("northquay bridge.puffin.example 4"))
		until(t, page, `document.querySelector("section[aria-labelledby=merged] svg")?.getAttribute("aria-label").includes("segments shared") === true`)
		visit(t, page, s.base+"/measure?kind=trace&from=northquay&to=app.ticketing.example")
		press(t, page, `form button[type="submit"]`)
		until(t, page, `document.querySelector("section[aria-label='Route to app.ticketing.example'] [role=status]")?.textContent.startsWith("done: 3 hops") === true`)
		assert.Contains(t, evaluate[string](t, page, `document.querySelector("section[aria-label='Route to app.ticketing.example']").textContent`), "gw.ticketing.example")
		axe(t, page, "measure, a trace")
	})

	// What measures for a while is looked at in a browser of its own, beside the rest: at once, where
	// t.Parallel would have them wait until all tests that began have ended.
	var both sync.WaitGroup
	both.Go(func() {
		t.Run("what measures for a while", func(t *testing.T) {
			other, end, err := browser.New(t.Context(), 1280, 800)
			require.NoError(t, err)
			defer end()
			require.NoError(t, chromedp.Do(other, browser.SignIn(s.base, s.token)))
			wrong.listen(t, other)
			t.Run("acceptance", func(t *testing.T) { acceptance(t, other, s) })
			t.Run("readiness", func(t *testing.T) { readiness(t, other, s) })
		})
	})
	both.Go(func() {
		t.Run("what does not", func(t *testing.T) {
			t.Run("boards", func(t *testing.T) { boards(t, page, m, s) })
			t.Run("comparing", func(t *testing.T) { comparing(t, page, s) })
			t.Run("people", func(t *testing.T) { peopleComeIn(t, page, m, s) })
			t.Run("a newcomer watches ten targets from all agents", func(t *testing.T) { newcomer(t, page, s) })
			t.Run("others are told", func(t *testing.T) { handsOn(t, page, m, s) })
		})
	})
	both.Wait()

	t.Run("dark, and narrow", func(t *testing.T) {
		visit(t, page, s.base+"/")
		press(t, page, browser.Row("northquay terminal.holm.example 4"))
		press(t, page, `//button[text()="Dark"]`)
		axe(t, page, "one path, dark")
		require.NoError(t, chromedp.Do(page, chromedp.EmulateViewport(390, 800), chromedp.Navigate(s.base+"/"), chromedp.WaitVisible(browser.Rows)))
		axe(t, page, "paths, dark and narrow")
		for _, where := range []string{"/", "/measure?kind=ping", "/measure?kind=sweep", "/measure?kind=trace", "/measure?kind=stream", "/agents", "/sweeps", "/reports", "/settings", "/people", "/acceptance", "/acceptance?plan=new", "/readiness", "/compare", "/boards", "/boards/Sites", "/boards/Voice", "/boards/Sites?edit"} {
			require.NoError(t, chromedp.Do(page, chromedp.Navigate(s.base+where), chromedp.WaitVisible(chromedp.CSS("h1"))))
			axe(t, page, where+", dark and narrow")
			assert.LessOrEqual(t, evaluate[int](t, page, `document.documentElement.scrollWidth`), 390, "nothing is wider than the page %s", where)
		}
		visit(t, page, s.base+"/")
		press(t, page, browser.Row("northquay terminal.holm.example 4"))
		appears(t, page, "section[aria-labelledby=route] table")
		axe(t, page, "one path, dark and narrow")
		assert.LessOrEqual(t, evaluate[int](t, page, `document.documentElement.scrollWidth`), 390, "nothing is wider than one path")
	})

	wrong.mu.Lock()
	// The browser notes that a board, which somebody else changed meanwhile, was not kept.
	wrong.list = slices.DeleteFunc(wrong.list, func(text string) bool {
		return strings.Contains(text, "409 (Conflict)") && strings.Contains(text, "/api/v1/boards/")
	})
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
		assert.Len(t, d.Now, 5)
		assert.Len(t, d.Incidents, 1)
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

// fill writes into the field of a form that a label names.
func fill(t *testing.T, page context.Context, label, text string) {
	t.Helper()
	until(t, page, fmt.Sprintf(`(() => {
		const found = [...document.querySelectorAll("label")].find((l) => l.textContent.trim().startsWith(%q));
		const field = found?.control ?? found?.querySelector("input, textarea");
		if (!field) return false;
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(field), "value").set.call(field, %q);
		field.dispatchEvent(new Event("input", { bubbles: true }));
		return true;
	})()`, label, text))
}

// newcomer makes a watch of all agents and ten targets by the page of watches, from opening it to
// first results within a minute.
func newcomer(t *testing.T, page context.Context, s *service) {
	opened := time.Now()
	visit(t, page, s.base+"/watches")
	press(t, page, `//button[text()="Add one"]`)
	fill(t, page, "Name", "first steps")
	for _, agent := range []string{"northquay", "ticketing", "drydock"} {
		press(t, page, chromedp.CSS(fmt.Sprintf(`//label[starts-with(normalize-space(.), "From")]/following-sibling::div/button[text()=%q]`, agent)))
	}
	targets := []string{"app.ticketing.example", "ops.northquay.example", "gate.drydock.example", "terminal.gannetbay.example", "terminal.ternpoint.example", "terminal.oxwater.example", "kiosk.oxwater.example", "bridge.puffin.example", "bridge.razorbill.example", "northquay"}
	fill(t, page, "To,", strings.Join(targets, "\n"))
	until(t, page, `/It will cost 29 paths, 2,505,600 packets a day, .* 41,760 rows a day kept/.test(document.body.innerText)`)
	axe(t, page, "the editor of a watch")
	press(t, page, `//button[text()="Start it"]`)
	until(t, page, `[...document.querySelectorAll("main li p")].some((p) => p.textContent === "first steps")`)
	results := func() int {
		var list struct {
			Paths []apitype.Path `json:"paths"`
		}
		s.get("/api/v1/paths?all=true&limit=500", &list)
		n := 0
		for _, p := range list.Paths {
			if slices.Equal(p.Watches, []string{"first steps"}) && p.Last != nil { // none that others measure
				n++
			}
		}
		return n
	}
	s.eventually(90*time.Second, func() bool { return results() > 0 }, "first results")
	took := time.Since(opened)
	t.Logf("first results came %v after the page was opened", took.Round(time.Second))
	assert.Less(t, took, 90*time.Second) // a minute of readings among them
	axe(t, page, "watches")

	press(t, page, `button[aria-label="Pause first steps"]`)
	until(t, page, `document.querySelector('button[aria-label="Go on with first steps"]') !== null`)
	press(t, page, `button[aria-label="Copy first steps"]`)
	until(t, page, `document.querySelector("form input").value === "first steps, copy"`)
	press(t, page, `//button[text()="Leave it"]`)
	press(t, page, `button[aria-label="Remove first steps"]`)
	press(t, page, `button[aria-label="Remove first steps, really"]`)
	until(t, page, `![...document.querySelectorAll("main li p")].some((p) => p.textContent === "first steps")`)
}
