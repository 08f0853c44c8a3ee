package e2e

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/browser"
)

// readiness asks in one line whether a place is fit, and reads the answer; what was asked stands in
// the form when the page is opened once more.
func readiness(t *testing.T, page context.Context, s *service) {
	visit(t, page, s.base+"/readiness")
	until(t, page, `[...document.querySelectorAll("button")].some((b) => b.innerText === "Is it fit?")`)
	fill(t, page, "For what, for how many, from where, to where", "calls for 3 from northquay to ticketing")
	until(t, page, `[...document.querySelectorAll("input")].some((i) => i.value === "ticketing") && [...document.querySelectorAll("input")].some((i) => i.value === "3")`)
	press(t, page, `//label[contains(., "Within 20 s")]`)
	axe(t, page, "the form of readiness")
	press(t, page, `//button[text()="Is it fit?"]`)
	until(t, page, `/run=/.test(location.search)`)
	until(t, page, `/streams of 3 seats at once|the way back/.test(document.querySelector("main").innerText)`)
	// What a busy machine does to three calls is not what is tested here: there is one answer.
	until(t, page, `/(Fit for calls with|Not fit for calls|could not be told)/.test(document.querySelector("main").innerText) && /Report to print/.test(document.querySelector("main").innerText)`)
	assert.True(t, evaluate[bool](t, page, `/voice: loss/.test(document.querySelector("main").innerText) && /The way back: /.test(document.querySelector("main").innerText)`))
	assert.True(t, evaluate[bool](t, page, `[...document.querySelectorAll("summary")].some((x) => x.innerText.includes("guest link"))`), "it is handed on")
	axe(t, page, "the answer of readiness")
	at := evaluate[string](t, page, `location.href`)
	visit(t, page, at)
	until(t, page, `[...document.querySelectorAll("input")].some((i) => i.value === "ticketing") && [...document.querySelectorAll("input")].some((i) => i.value === "3")`)
}

// comparing lays a path beside itself a day before, from its own page.
func comparing(t *testing.T, page context.Context, s *service) {
	visit(t, page, s.base+"/")
	press(t, page, browser.Row("northquay terminal.holm.example 4"))
	press(t, page, `//a[contains(., "Compare with another time or path")]`)
	until(t, page, `/median RTT/.test(document.querySelector("main").innerText) && /Surely between/.test(document.querySelector("main").innerText)`)
	assert.True(t, evaluate[bool](t, page, `/(is worse than|is better than|better in part|No figure surely differs|could not be told)/.test(document.querySelector("main").innerText)`))
	axe(t, page, "a comparison")
}
