// Package browser starts a headless Chromium for tests and pictures of the
// console.
package browser

import (
	"context"
	"fmt"
	"os"

	"github.com/chromedp/chromedp"
)

// New starts Chromium with a window of a size and a profile of its own. The
// function that it returns ends it and clears the profile. Further switches of Chromium
// are named without their dashes.
func New(ctx context.Context, width, height int, switches ...string) (context.Context, func(), error) {
	profile, err := os.MkdirTemp("", "woodlark-browser-")
	if err != nil {
		return nil, nil, err
	}
	flags := []chromedp.ExecAllocatorOption{chromedp.UserDataDir(profile), chromedp.WindowSize(width, height), chromedp.Flag("force-color-profile", "srgb")}
	for _, name := range append([]string{"no-sandbox", "disable-gpu", "disable-quic", "no-first-run", "disable-background-networking", "disable-component-update", "disable-sync", "hide-scrollbars"}, switches...) {
		flags = append(flags, chromedp.Flag(name, true))
	}
	page, endPage := chromedp.NewContext(ctx, chromedp.WithAllocatorOptions(flags...))
	end := func() {
		endPage()
		_ = os.RemoveAll(profile)
	}
	if err := chromedp.Do(page, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		end()
		return nil, nil, err
	}
	return page, end, nil
}

// SignIn opens the console and signs in with a token.
func SignIn(base, token string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(
		chromedp.Navigate(base+"/sign-in?by=token"),
		chromedp.SendKeys(chromedp.CSS("#token"), token),
		chromedp.Click(chromedp.CSS("button[type=submit]")),
		chromedp.WaitVisible(Rows),
	)
}

// Rows is the list of paths on the home page.
const Rows = chromedp.CSS(`ol[aria-label="Paths, worst first"]`)

// Row is the row of a path, named by agent, target and family.
func Row(path string) chromedp.CSS { return chromedp.CSS(fmt.Sprintf(`a[data-path=%q]`, path)) }
