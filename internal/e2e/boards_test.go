package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// order is what stands on a board that is being arranged.
const order = `[...document.querySelectorAll("li[data-part]")].map((p) => p.dataset.part).join(" ")`

// boards looks at the ready-made ones, makes one by mouse and keyboard, and shows it on a wall, to
// a guest, and on the command line.
func boards(t *testing.T, page context.Context, m *machine, s *service) {
	visit(t, page, s.base+"/boards")
	press(t, page, `//main//a[text()="Sites"]`)
	// Five of the paths are degraded and one is lost; of the 13 sites two are ships.
	until(t, page, `document.querySelector("[data-map]")?.dataset.map === "11"`)
	until(t, page, `document.querySelector('[data-count="degraded"]')?.innerText.startsWith("5")`)
	assert.Equal(t, 5, evaluate[int](t, page, `document.querySelectorAll('[data-map] line[data-line="degraded"]').length`))
	assert.Greater(t, evaluate[int](t, page, `document.querySelector("[data-map] path").getAttribute("d").length`), 500, "there is land")
	until(t, page, `/Without a place: MV Puffin, MV Razorbill/.test(document.body.innerText)`)
	until(t, page, `/3 paths got worse together/.test(document.querySelector('[data-part="incidents"]').innerText)`)
	axe(t, page, "the board of sites")
	visit(t, page, s.base+"/boards/Voice")
	until(t, page, `document.querySelector("[data-voice]")?.dataset.voice === "15" && Number(document.querySelector("[data-trend]")?.dataset.trend) > 100 && Number(document.querySelector("[data-matrix]")?.dataset.matrix) > 15`)
	axe(t, page, "the board of voice")
	evaluate[bool](t, page, `document.querySelector("[data-trend]").focus(), true`)
	require.NoError(t, chromedp.Do(page, chromedp.KeyEvent(kb.ArrowRight)))
	until(t, page, `/: 4\.\d\d, 3\.\d\d to 4\.\d\d, \d+ paths/.test(document.querySelector("[data-trend]").closest("figure").innerText)`)

	arrange(t, page, s)
	wall(t, page, s)
	boardsOfACommand(t, m)
}

func arrange(t *testing.T, page context.Context, s *service) {
	visit(t, page, s.base+"/boards")
	fill(t, page, "Name of a new board", "Bridge")
	press(t, page, `//button[text()="Make it"]`)
	until(t, page, `/Nothing is on this board yet: add a part above/.test(document.body.innerText)`)
	for _, kind := range []string{"Paths by state", "Worst paths", "A text"} {
		choose(t, page, "Add a part", kind)
	}
	until(t, page, order+` === "states worst text"`)
	until(t, page, `/Write a text/.test(document.body.innerText)`)
	assert.True(t, evaluate[bool](t, page, `[...document.querySelectorAll("button")].find((b) => b.innerText === "Keep it").disabled`), "what lacks something is not kept")
	until(t, page, `(() => {
		const field = document.querySelector("textarea");
		if (!field) return false;
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(field), "value").set.call(field, "Call Kelpnet.");
		field.dispatchEvent(new Event("input", { bubbles: true }));
		return true;
	})()`)
	until(t, page, `/Call Kelpnet\./.test([...document.querySelectorAll('[data-part="text"] p')].map((p) => p.innerText).join())`)
	press(t, page, `button[aria-label="Done with A text"]`)
	axe(t, page, "a board that is arranged")

	// By keyboard: picked up, moved and put down; and by its buttons.
	evaluate[bool](t, page, `scrollTo(0, 0), document.querySelector('button[aria-label="Worst paths: move"]').focus(), true`)
	require.NoError(t, chromedp.Do(page, chromedp.KeyEvent(" ")))
	until(t, page, `document.querySelector('button[aria-label="Worst paths: move"]').getAttribute("aria-pressed") === "true"`)
	// What is picked up listens a moment later; beyond the first it does not go.
	require.Eventually(t, func() bool {
		require.NoError(t, chromedp.Do(page, chromedp.KeyEvent(kb.ArrowLeft)))
		return evaluate[bool](t, page, `[...document.querySelectorAll("[aria-live]")].some((e) => e.innerText === "Worst paths would be part 1 of 3.")`)
	}, time.Minute, 200*time.Millisecond)
	require.NoError(t, chromedp.Do(page, chromedp.KeyEvent(" ")))
	until(t, page, order+` === "worst states text"`)
	press(t, page, `button[aria-label="A text: earlier"]`)
	until(t, page, order+` === "worst text states"`)
	press(t, page, `button[aria-label="Worst paths: wider"]`)
	press(t, page, `button[aria-label="Worst paths: higher"]`)
	until(t, page, `(() => { const s = document.querySelector('[data-part="worst"]').style; return s.getPropertyValue("--w") === "7" && s.getPropertyValue("--h") === "3"; })()`)
	// By mouse: the first onto the second.
	mouse := func(what input.DispatchMouseEventType, x, y float64) {
		require.NoError(t, chromedp.Do(page, chromedp.MouseEvent(what, x, y, chromedp.ButtonLeft)))
	}
	var ends []float64
	// What was moved a moment ago may still be on its way.
	until(t, page, `[...document.querySelectorAll("li[data-part]")].every((p) => !p.style.transform && p.getAnimations().length === 0)`)
	require.Eventually(t, func() bool {
		ends = evaluate[[]float64](t, page, `(() => {
			scrollTo(0, 0);
			const [first, second] = document.querySelectorAll("li[data-part]");
			const a = first.querySelector("button").getBoundingClientRect(), b = second.querySelector("button").getBoundingClientRect();
			return [a.x + 8, a.y + 8, b.x + 12, b.y + 10];
		})()`)
		mouse(chromedp.MousePressed, ends[0], ends[1])
		mouse(chromedp.MouseMoved, ends[0]+20, ends[1])
		if evaluate[bool](t, page, `new Promise((done) => setTimeout(() => done(document.querySelector('button[aria-label="Worst paths: move"]').getAttribute("aria-pressed") === "true"), 500))`) {
			return true
		}
		mouse(chromedp.MouseReleased, ends[0]+20, ends[1])
		return false
	}, time.Minute, 300*time.Millisecond)
	// Where the others are is known a moment after something is picked up.
	nudge := 0.0
	require.Eventually(t, func() bool {
		nudge = 1 - nudge
		mouse(chromedp.MouseMoved, ends[2]+nudge, ends[3])
		return evaluate[bool](t, page, `[...document.querySelectorAll("[aria-live]")].some((e) => e.innerText === "Worst paths would be part 2 of 3.")`)
	}, time.Minute, 200*time.Millisecond)
	mouse(chromedp.MouseReleased, ends[2], ends[3])
	const kept = "text worst states"
	until(t, page, order+fmt.Sprintf(` === %q`, kept))
	press(t, page, `//button[text()="Keep it"]`)
	until(t, page, `!/edit/.test(location.search) && `+order+fmt.Sprintf(` === %q`, kept))
	assert.Equal(t, []string{"7", "3"}, evaluate[[]string](t, page, `(() => { const s = document.querySelector('[data-part="worst"]').style; return [s.getPropertyValue("--w"), s.getPropertyValue("--h")]; })()`))

	// Somebody else changes it while it is being changed here.
	id := evaluate[string](t, page, `location.pathname.split("/").pop()`)
	press(t, page, `//a[text()="Arrange it"]`)
	until(t, page, order+fmt.Sprintf(` === %q`, kept))
	assert.Equal(t, 200, evaluate[int](t, page, fmt.Sprintf(`fetch("/api/v1/boards/%s").then((r) => r.json()).then((b) => fetch("/api/v1/boards/%s", {method: "PUT", headers: {"Content-Type": "application/json"}, body: JSON.stringify({name: b.name, parts: b.parts, revision: b.revision})})).then((r) => r.status)`, id, id)))
	press(t, page, `button[aria-label="Remove A text"]`)
	press(t, page, `//button[text()="Keep it"]`)
	until(t, page, `/changed meanwhile: board "Bridge"/.test(document.querySelector("[role=alert]")?.innerText ?? "")`)
}

func wall(t *testing.T, page context.Context, s *service) {
	visit(t, page, s.base+"/boards/Bridge?wall&turn=5")
	appears(t, page, `[data-wall="Bridge"]`)
	until(t, page, `/1 of 3/.test(document.querySelector("[data-wall]").innerText)`)
	require.NoError(t, chromedp.Do(page, chromedp.KeyEvent(kb.ArrowRight)))
	appears(t, page, `[data-wall="Sites"]`)
	require.NoError(t, chromedp.Do(page, chromedp.KeyEvent(" ")))
	until(t, page, `/it stays, Space goes on/.test(document.querySelector("[data-wall]").innerText)`)
	axe(t, page, "a wall")
	require.NoError(t, chromedp.Do(page, chromedp.KeyEvent(" ")))
	appears(t, page, `[data-wall="Voice"]`) // after five seconds
	require.NoError(t, chromedp.Do(page, chromedp.KeyEvent(kb.Escape)))
	until(t, page, `document.querySelector("[data-wall]") === null && document.querySelector("h1").innerText === "Voice"`)
}

func boardsOfACommand(t *testing.T, m *machine) {
	out := m.good("board", "show", "Sites")
	for _, says := range []string{"⊖ 1 lost   ◆ 5 degraded   ◌ 0 unmeasured   ● 14 steady", "Tern Point    ◆ degraded", "Without a place: MV Puffin, MV Razorbill.", "3 paths got worse together"} {
		assert.Contains(t, out, says)
	}
	name := filepath.Join(t.TempDir(), "boards.yaml")
	require.NoError(t, os.WriteFile(name, []byte(m.good("board", "export", "Bridge")), 0o600))
	m.good("board", "remove", "Bridge")
	assert.Contains(t, m.bad(2, "board", "show", "Bridge"), `there is no board "Bridge"; there are Sites, Voice`)
	m.good("board", "apply", name)
	assert.Contains(t, m.good("board", "show", "Bridge"), "Call Kelpnet.")
	assert.Contains(t, m.good("board", "show", "Bridge", "-format", "csv"), "part,kind,from,to,family,via,path_id,site,at,state,measure,unit,value,says")
	page := filepath.Join(t.TempDir(), "sites.pdf")
	m.good("board", "show", "Sites", "-format", "pdf", "-out", page)
	pdf, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(pdf), "%PDF-"))
	for says, args := range map[string][]string{
		"names no boards":                       {"apply", "/dev/null"},
		`"shew" is none of apply, export, list`: {"shew"},
		"pdf is for 'board show'":               {"list", "-format", "pdf"},
		`there is no board "Deck"`:              {"export", "Deck"},
		"-out is of 'board show'":               {"list", "-out", "x"},
	} {
		assert.Contains(t, m.bad(2, append([]string{"board"}, args...)...), says)
	}

	// The paths that are there move as soon as it is said where their targets are.
	m.good("sites", "set", "Far Skerry", "-at", "60.9N,0.8W", "-targets", "gate.drydock.example")
	assert.Regexp(t, `Far Skerry +60\.9,-0\.8 +0 +1`, m.good("sites"))
	var list []map[string]any
	require.NoError(t, json.Unmarshal([]byte(m.good("sites", "-format", "json")), &list))
	assert.Len(t, list, 14)
	file := filepath.Join(t.TempDir(), "sites.csv")
	require.NoError(t, os.WriteFile(file, []byte(m.good("sites", "-format", "csv")), 0o600))
	m.good("sites", "remove", "Far Skerry")
	assert.NotContains(t, m.good("sites"), "Far Skerry")
	m.good("sites", "import", file)
	assert.Contains(t, m.good("sites"), "Far Skerry")
	m.good("sites", "remove", "Far Skerry")
	assert.Contains(t, m.bad(2, "sites", "set", "Holm", "-at", "60"), "is no place")
	assert.Contains(t, m.bad(2, "sites", "set", "Holm", "-targets", "203.0.113.1/24"), "has bits behind its length")
	assert.Contains(t, m.good("owners", "set", "203.0.113.128/25", "Far Hosting", "far end"), "Far Hosting")
	m.good("owners", "remove", "203.0.113.128/25")
	assert.Contains(t, m.bad(2, "owners", "remove", "203.0.113.0/26"), "stands in the settings' file")
	assert.Contains(t, m.bad(2, "owners", "set", "203.0.113.1/24", "A", "ours"), "203.0.113.0/24 is meant")

	link := strings.Fields(m.good("guest", "add", "board", "Sites", "-title", "The sites, for Kelpnet", "-until", "7d"))[0]
	answer, err := http.Get(link)
	require.NoError(t, err)
	defer answer.Body.Close()
	seen, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	for _, says := range []string{"The sites, for Kelpnet", "Tern Point", `class="land"`, "3 paths got worse together"} {
		assert.Contains(t, string(seen), says)
	}
}

// choose picks a value of the choice that a label names.
func choose(t *testing.T, page context.Context, label, value string) {
	t.Helper()
	until(t, page, fmt.Sprintf(`(() => {
		const found = [...document.querySelectorAll("label")].find((l) => l.textContent.trim().startsWith(%q));
		const field = found && document.getElementById(found.htmlFor);
		const option = field && [...field.options].find((o) => o.text === %q);
		if (!option) return false;
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(field, option.value);
		field.dispatchEvent(new Event("change", { bubbles: true }));
		return true;
	})()`, label, value))
}
