// Command shots takes the pictures of the console for the documentation, from a
// running demo.
//
//	shots -base http://127.0.0.1:7373 -token TOKEN -to docs/screenshots
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/chromedp"

	"woodlark.example/internal/browser"
)

// startButton of the Measure page.
const startButton = chromedp.CSS(`form button[type="submit"]`)

func main() {
	base := flag.String("base", "http://127.0.0.1:7373", "address of the demo")
	token := flag.String("token", "", "its token")
	folder := flag.String("to", "docs/screenshots", "folder for the pictures")
	flag.Parse()
	if err := run(*base, *token, *folder); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(base, token, folder string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	page, end, err := browser.New(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer end()
	shoot := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			picture, err := chromedp.CaptureScreenshot()(ctx, t)
			if err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(folder, name+".png"), picture, 0o644)
		})
	}
	open := func(path string) chromedp.Action[chromedp.Void] {
		return chromedp.Steps(
			chromedp.Navigate(base+"/"),
			chromedp.Click(browser.Row(path)),
			chromedp.WaitVisible(chromedp.CSS("[data-resolution] canvas")),
		)
	}
	settle := chromedp.Sleep(1500 * time.Millisecond) // a plot is drawn when its data is there
	ranged := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Steps(chromedp.Click(fmt.Sprintf(`//*[@role="radio"][text()=%q]`, name)), settle)
	}
	theme := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := chromedp.Evaluate[bool](fmt.Sprintf(`localStorage.setItem("theme", %q), true`, name))(ctx, t)
			return err
		})
	}
	scrolled := func(y int) chromedp.Action[chromedp.Void] {
		return chromedp.Steps(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := chromedp.Evaluate[bool](fmt.Sprintf(`window.scrollTo(0, %d), true`, y))(ctx, t)
			return err
		}), settle)
	}
	measured := chromedp.Steps(
		chromedp.Navigate(base+"/measure?kind=ping&from=northquay&to=app.ticketing.example+terminal.gannetbay.example"),
		chromedp.WaitVisible(startButton), chromedp.Click(startButton),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label^="To "] dl`)), chromedp.Sleep(6*time.Second))
	swept := chromedp.Steps(
		chromedp.Navigate(base+"/sweeps"), chromedp.WaitVisible(chromedp.CSS(`section[aria-label="One sweep"] figure`)), settle)
	streamed := chromedp.Steps(
		chromedp.Navigate(base+"/measure?kind=stream&from=northquay&to=ticketing"),
		chromedp.WaitVisible(startButton), chromedp.Click(startButton),
		chromedp.WaitVisible(chromedp.CSS(`section table`)), settle)
	return chromedp.Do(page,
		chromedp.Navigate(base+"/sign-in?by=token"), chromedp.WaitVisible(chromedp.CSS("#token")),
		browser.SignIn(base, token), settle, shoot("console-paths"),
		measured, shoot("console-measure"), swept, shoot("console-sweeps"),
		open("northquay terminal.gannetbay.example 4"), ranged("14 d"), shoot("console-path-fortnight"),
		theme("dark"), open("northquay terminal.holm.example 4"), ranged("3 d"), scrolled(430), shoot("console-route-dark"),
		theme("light"), chromedp.Navigate(base+"/reports"), settle, chromedp.Click(`//button[normalize-space()="Make the report"]`), settle, settle, shoot("console-reports"),
		chromedp.Navigate(base+"/settings"), settle, shoot("console-settings"),
		chromedp.Navigate(base+"/boards/Sites"), settle, settle, shoot("console-board"),
		chromedp.Navigate(base+"/acceptance"), chromedp.Click(`//main//a[contains(@href, "/acceptance/")]`), settle, settle, shoot("console-acceptance"),
		chromedp.Navigate(base+"/agents"), settle, settle, shoot("console-agents"),
		streamed, shoot("console-two-ends"),
		chromedp.Navigate(base+"/watches"), chromedp.Click(`//button[normalize-space()="Add one"]`), settle,
		chromedp.SendKeys(chromedp.CSS(`section[aria-labelledby="editor"] input`), "islands at noon"), chromedp.SendKeys(`(//section[@aria-labelledby="editor"]//textarea)[1]`, "northquay"),
		chromedp.SendKeys(`(//section[@aria-labelledby="editor"]//textarea)[2]`, "terminal.holm.example, terminal.oxwater.example"), chromedp.Click(`//button[normalize-space()="Measure something else there, too"]`), settle, settle, scrolled(60), shoot("console-watches"),
	)
}
