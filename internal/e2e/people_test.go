package e2e

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/browser"
)

// passkeysComeIn has a device, as Chromium makes one up, hold a passkey for the console by its name, and
// sign in by it.
func passkeysComeIn(t *testing.T, page context.Context, s *service, phrase string) {
	_, err := chromedp.Call(page, webauthn.Enable, webauthn.EnableParams{})
	require.NoError(t, err)
	_, err = chromedp.Call(page, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{
		Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true}})
	require.NoError(t, err)
	visit(t, page, s.base+"/people")
	until(t, page, `/A passkey is for a name/.test(document.querySelector("main").innerText)`)
	byName := strings.Replace(s.base, "127.0.0.1", "localhost", 1)
	visit(t, page, byName+"/sign-in?to=/people")
	fill(t, page, "Name", "marit")
	fill(t, page, "Passphrase", phrase)
	axe(t, page, "sign-in, where there are passkeys")
	press(t, page, `button[type="submit"]`)
	until(t, page, `/Your passkeys/.test(document.querySelector("main").innerText)`)
	fill(t, page, "The device, as you know it", "phone of Marit")
	press(t, page, `//button[text()="Add a passkey"]`)
	until(t, page, `/for localhost/.test(document.querySelector("#passkeys").parentElement.innerText)`)
	axe(t, page, "people, with a passkey")
	evaluate[bool](t, page, `fetch("/api/v1/session", {method: "DELETE"}).then((r) => r.ok)`)
	visit(t, page, byName+"/sign-in?to=/people")
	press(t, page, `//button[text()="Sign in by a passkey"]`)
	until(t, page, `/You are marit, and came in as viewer/.test(document.querySelector("main").innerText) && /by passkey/.test(document.querySelector("main").innerText)`)
	visit(t, page, s.base+"/people") // where the session by the link goes on
}

// partsComeIn lets somebody in at the page of people for one site: the console shows them what is there,
// offers nothing that would be refused, and asks for nothing that is.
func partsComeIn(t *testing.T, page context.Context, m *machine, s *service) {
	visit(t, page, s.base+"/people")
	press(t, page, `//summary[text()="Let somebody in"]`)
	fill(t, page, "Name to sign in by", "jorunn")
	fill(t, page, "For these sites only", "Holm, Nowhere")
	axe(t, page, "people, of a part")
	press(t, page, `//button[text()="Let in, and make a link"]`)
	until(t, page, `/for Holm, Nowhere/.test(document.querySelector("#let-in").parentElement.innerText) && document.querySelector("#let-in ~ [role=status] span") !== null`)
	link := evaluate[string](t, page, `document.querySelector("#let-in ~ [role=status] span").innerText`)
	press(t, page, `[aria-label="For which part: jorunn"]`)
	fill(t, page, "For these sites only", "Holm")
	axe(t, page, "people, where a part is changed")
	press(t, page, `//button[text()="For these only"]`)
	until(t, page, `!/Nowhere/.test(document.querySelector("#let-in").parentElement.innerText)`)
	assert.Regexp(t, `jorunn +viewer for Holm`, m.good("people"))

	other, end, err := browser.New(t.Context(), 1280, 800)
	require.NoError(t, err)
	defer end()
	visit(t, other, link)
	until(t, other, `/Welcome, jorunn/.test(document.body.innerText)`)
	const phrase = "a gull over grey water"
	fill(t, other, "Passphrase, of 10 characters or more", phrase)
	fill(t, other, "The same again", phrase)
	press(t, other, `button[type="submit"]`)
	require.NoError(t, chromedp.Do(other, chromedp.WaitVisible(browser.Rows)))
	var refused complaints
	refused.listen(t, other)
	visit(t, other, s.base+"/")
	require.NoError(t, chromedp.Do(other, chromedp.WaitVisible(browser.Rows)))
	rows := evaluate[string](t, other, `document.querySelector("main").innerText`)
	assert.Contains(t, rows, "terminal.holm.example")
	assert.NotContains(t, rows, "gannet")
	names := evaluate[[]string](t, other, `[...document.querySelectorAll("nav[aria-label=Pages] a")].map((a) => a.innerText)`)
	assert.Equal(t, []string{"Paths", "Watches", "Sweeps", "Readiness", "Agents", "People"}, names)
	axe(t, other, "paths, of a part")
	for _, name := range names[1:] {
		press(t, other, chromedp.CSS(`nav[aria-label=Pages] a[href="/`+strings.ToLower(name)+`"]`))
		until(t, other, `document.querySelector("main h1")?.innerText.length > 0`)
		offered := evaluate[string](t, other, `[...document.querySelectorAll("main button, main summary")].map((b) => b.innerText).join()`)
		for _, word := range []string{"Pause", "Add one", "Invite", "Sweep", "Make a guest link", "Look"} {
			assert.NotContains(t, offered, word, name)
		}
	}
	visit(t, other, s.base+"/")
	press(t, other, browser.Row("northquay terminal.holm.example 4"))
	until(t, other, `document.querySelector("section[aria-labelledby=route]") !== null && document.querySelector("main").innerText.includes("Findings")`)
	axe(t, other, "one path, of a part")
	visit(t, other, s.base+"/settings")
	until(t, other, `/more than jorunn may do here, who is let in for the site Holm/.test(document.querySelector("main").innerText)`)
	refused.mu.Lock()
	assert.Empty(t, refused.list)
	refused.mu.Unlock()
	m.good("people", "change", "jorunn", "-everything")
	assert.Regexp(t, `jorunn +viewer +may come in`, m.good("people"))
	m.good("people", "end", "jorunn")
}

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

	passkeysComeIn(t, other, s, phrase)

	partsComeIn(t, page, m, s)

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
