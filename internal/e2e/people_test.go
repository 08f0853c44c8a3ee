package e2e

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/browser"
)

// peopleComeIn lets a viewer in at the page of people; who has the link sets a passphrase, and is in,
// sees, and is refused by name what is not for viewers. The command line has the same by a token
// of theirs, and all of it stands in the record.
func peopleComeIn(t *testing.T, page context.Context, m *machine, s *service) {
	visit(t, page, s.base+"/people")
	until(t, page, `/Nobody is let in by name yet/.test(document.querySelector("main").innerText)`)
	axe(t, page, "people, with nobody yet")
	fill(t, page, "Name to sign in by", "marit")
	fill(t, page, "Full name", "Marit Vold")
	press(t, page, `//button[text()="Let in, and make a link"]`)
	until(t, page, `document.querySelector("#let-in ~ [role=status] span")?.innerText.includes("/welcome#") === true`)
	link := evaluate[string](t, page, `document.querySelector("#let-in ~ [role=status] span").innerText`)
	axe(t, page, "people, with a link")

	other, end, err := browser.New(t.Context(), 1280, 800)
	require.NoError(t, err)
	defer end()
	visit(t, other, link)
	until(t, other, `/Welcome, marit/.test(document.body.innerText)`)
	axe(t, other, "welcome")
	const phrase = "a gull over grey water"
	fill(t, other, "Passphrase, of 10 characters or more", phrase)
	fill(t, other, "The same again", phrase)
	press(t, other, `button[type="submit"]`)
	require.NoError(t, chromedp.Do(other, chromedp.WaitVisible(browser.Rows)))
	until(t, other, `document.querySelector("header").innerText.includes("marit")`)
	visit(t, other, s.base+"/people")
	until(t, other, `/You are marit, and came in as viewer/.test(document.querySelector("main").innerText) && /this one/.test(document.querySelector("main").innerText)`)
	assert.False(t, evaluate[bool](t, other, `/Who may come in/.test(document.querySelector("main").innerText)`), "that is for administrators")
	axe(t, other, "people, of a viewer")
	visit(t, other, link)
	until(t, other, `/used already/.test(document.querySelector("[role=alert]")?.innerText ?? "")`)

	// By hand, with a wrong passphrase first.
	visit(t, page, s.base+"/people")
	until(t, page, `/signed in/.test(document.querySelector("main").innerText)`)
	out := m.good("tokens", "add", "of a test", "-of", "marit")
	key, _, _ := strings.Cut(out, "\n")
	require.True(t, strings.HasPrefix(key, "wlk-"), out)
	status, _ := s.call(http.MethodGet, "/api/v1/paths", "Bearer "+key, "")
	assert.Equal(t, 200, status)
	status, text := s.call(http.MethodPost, "/api/v1/watches", "Bearer "+key, `{}`)
	assert.Equal(t, 403, status)
	assert.Contains(t, string(text), "marit is a viewer here")
	assert.Contains(t, m.good("people"), "Marit Vold")
	assert.Contains(t, m.good("tokens"), "of a test")
	assert.Contains(t, m.good("people", "sessions"), "welcome")
	assert.Contains(t, m.good("audit", "-who", "marit"), "passphrase_set")
	m.good("people", "end", "marit")
	status, _ = s.call(http.MethodGet, "/api/v1/paths", "Bearer "+key, "")
	assert.Equal(t, 401, status)
	visit(t, other, s.base+"/")
	until(t, other, `location.pathname === "/sign-in"`)
}
