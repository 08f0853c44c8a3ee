package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/chromedp/chromedp"

	"woodlark.example/internal/browser"
)

// TestALongListOfPaths: what is not seen is not asked for, and is there when it comes to be seen.
func TestALongListOfPaths(t *testing.T) {
	m := newMachine(t)
	s := m.start("serve")
	var to []string
	for i := range 400 {
		to = append(to, fmt.Sprintf("127.3.%d.%d", 100+i/150, 100+i%150))
	}
	m.good("watch", "add", "-name", "many", "-from", "local", "-to", strings.Join(to, ","))
	assert.Contains(t, m.bad(2, "watch", "add", "-name", "more", "-from", "local", "-to", "127.0.0.1", "-to", "127.0.0.2"), "-to: it is given twice, and one of the two would be dropped")
	m.good("watch", "add", "-name", "often", "-from", "local", "-to", "127.9.9.9", "-repeat", "10s", "-probes", "2", "-every", "20ms")
	page, end, err := browser.New(t.Context(), 1280, 800)
	require.NoError(t, err)
	defer end()
	var wrong complaints
	wrong.listen(t, page)
	require.NoError(t, chromedp.Do(page, browser.SignIn(s.base, s.token)))
	visit(t, page, s.base+"/")
	row := func(i int) string {
		return fmt.Sprintf(`document.querySelector('a[data-path="local %s 4"]') !== null`, to[i])
	}
	until(t, page, row(0))
	asked := `performance.getEntriesByType("resource").filter((e) => e.name.includes("/paths/rows")).map((e) => new URL(e.name).searchParams.get("offset"))`
	assert.Subset(t, []string{"0"}, evaluate[[]string](t, page, asked), "what is seen is of the first part")
	type read struct {
		What  string
		Bytes int
	}
	reads := evaluate[[]read](t, page, `performance.getEntriesByType("resource").filter((e) => e.name.includes("/api/v1/")).map((e) => ({What: e.name, Bytes: e.decodedBodySize}))`)
	total := 0
	for _, r := range reads {
		total += r.Bytes
	}
	assert.Less(t, total, 300_000, "bytes, as they are read: %v", reads)
	evaluate[bool](t, page, `scrollTo(0, document.body.scrollHeight / 2), true`)
	until(t, page, row(200))
	evaluate[bool](t, page, `scrollTo(0, document.body.scrollHeight), true`)
	until(t, page, row(399))
	assert.Contains(t, evaluate[[]string](t, page, asked), "350")
	assert.Less(t, evaluate[int](t, page, `document.querySelectorAll("a[data-path]").length`), 50, "of 400 rows those that are seen")
	evaluate[bool](t, page, `scrollTo(0, 0), true`)
	until(t, page, row(0))
	fill(t, page, "Find", to[333])
	until(t, page, fmt.Sprintf(`document.querySelectorAll("a[data-path]").length === 1 && %s`, row(333)))
	axe(t, page, "one path of many")
	fill(t, page, "Find", "nowhere")
	until(t, page, `/No path fits this filter/.test(document.querySelector("main").innerText)`)
	// A new reading is shown without a reload.
	visit(t, page, s.base+"/?search=127.9.9.9")
	until(t, page, `document.querySelectorAll("a[data-path]").length === 1`)
	for range 2 { // what it shows becomes another, twice
		before := evaluate[string](t, page, `document.querySelector("a[data-path]").innerText`)
		s.eventually(60*time.Second, func() bool {
			now := evaluate[string](t, page, `document.querySelector("a[data-path]").innerText`)
			return now != before && strings.Contains(now, "ms")
		}, "a reading comes to the page")
	}
	wrong.mu.Lock()
	defer wrong.mu.Unlock()
	assert.Empty(t, wrong.list, "no errors in the browser's console")
}
