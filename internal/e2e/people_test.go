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
