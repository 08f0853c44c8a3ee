package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/chromedp/chromedp"

	"woodlark.example/internal/browser"
)

func main() {
	base, token := os.Args[1], os.Args[2]
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	page, end, err := browser.New(ctx, 1280, 800)
	if err != nil {
		panic(err)
	}
	defer end()
	shoot := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			picture, err := chromedp.CaptureScreenshot()(ctx, t)
			if err != nil {
				return err
			}
			return os.WriteFile("/tmp/pic/"+name+".png", picture, 0o644)
		})
	}
	settle := chromedp.Sleep(1500 * time.Millisecond)
	steps := []chromedp.Action[chromedp.Void]{
		browser.SignIn(base, token),
		chromedp.Navigate(base + "/watches"), settle, shoot("watches"),
		chromedp.Click(`//button[text()="Add one"]`), settle, shoot("editor"),
	}
	steps = append([]chromedp.Action[chromedp.Void]{chromedp.Navigate(base + "/sign-in"), chromedp.WaitVisible(chromedp.CSS("#token"))}, steps...)
	if err := chromedp.Do(page, steps...); err != nil {
		fmt.Println(err)
	}
}
