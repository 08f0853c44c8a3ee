package e2e

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
)

// acceptance makes a plan by its form, with what it takes said as it is typed, runs it, and looks at
// what it found; the narrow page and the other colours are tried with those of all pages.
func acceptance(t *testing.T, page context.Context, s *service) {
	visit(t, page, s.base+"/acceptance?plan=new")
	until(t, page, `/Say up to which rate frames are sent/.test(document.querySelector("main").innerText)`)
	fill(t, page, "Name of the plan", "Ticketing line")
	press(t, page, `//label[contains(., "By frame size")]`)
	press(t, page, `//label[contains(., "By service")]`)
	fill(t, page, "Rest between trials", "50ms")
	fill(t, page, "Service", "calls")
	fill(t, page, "CIR", "500k")
	fill(t, page, "Loss at most", "1%")
	fill(t, page, "Steps, of CIR", "100%")
	fill(t, page, "A step lasts", "1s")
	press(t, page, `//label[contains(., "Performance")]`)
	until(t, page, `/Takes \d+ s, 4 trials/.test(document.querySelector("main").innerText)`)
	axe(t, page, "the form of a plan")
	press(t, page, `//button[text()="Keep it"]`)
	until(t, page, `[...document.querySelectorAll("button")].some((b) => b.innerText === "Run it")`)
	choose(t, page, "From", "northquay")
	choose(t, page, "To", "ticketing")
	press(t, page, `//button[text()="Run it"]`)
	until(t, page, `location.pathname.startsWith("/acceptance/")`)
	until(t, page, `/\d+ % done/.test(document.body.innerText)`)
	until(t, page, `/calls, 100% of CIR/.test(document.body.innerText)`)
	until(t, page, `/passed/.test(document.querySelector("main p.text-lg")?.innerText ?? "") || /missed/.test(document.querySelector("main p.text-lg")?.innerText ?? "")`)
	assert.True(t, evaluate[bool](t, page, `/calls, 100% of CIR/.test(document.body.innerText)`))
	assert.True(t, evaluate[bool](t, page, `[...document.querySelectorAll("a")].some((a) => a.href.includes("format=pdf"))`))
	axe(t, page, "a run of an acceptance test")
}
