// Command shots takes pictures of pages: shots ADDRESS FILE=PATH[@full|@narrow|@phone] ... A narrow page is what 200 % leaves
// of 1280 pixels. It is how docs/screenshots is made.
package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"hylostat.example/test/browser"
)

func main() {
	if err := shoot(os.Args[1], os.Args[2:]); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func shoot(address string, wanted []string) error {
	dir, err := os.MkdirTemp("", "shots-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	ctx, cancel := context.WithTimeout(context.Background(), 90*time.Second)
	defer cancel()
	tab, end, err := browser.Open(ctx, dir, 1280, 800)
	if err != nil {
		return err
	}
	defer end()
	for _, w := range wanted {
		file, path, _ := strings.Cut(w, "=")
		path, how, _ := strings.Cut(path, "@")
		width, height := int64(1280), int64(800)
		switch how {
		case "narrow":
			width = 640
		case "phone":
			width, height = 390, 844
		}
		if err := chromedp.Do(tab, chromedp.EmulateViewport(width, height)); err != nil {
			return err
		}
		if err := chromedp.Do(tab, chromedp.Navigate(address+path)); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		if _, err := chromedp.Run(tab, chromedp.Evaluate[bool](`(async () => {
			await document.fonts.ready
			for (let settled = 0, tries = 0; settled < 9 && tries < 200; tries++) { // quiet for 0.9 s, 20 s at most
				await new Promise(r => setTimeout(r, 100))
				settled = document.body.innerText.includes("Fetching") ? 0 : settled + 1
			}
			return true
		})()`, chromedp.EvalAwaitPromise)); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		if how == "draft" { // a draft of the policy, replayed
			if _, err := chromedp.Run(tab, chromedp.Evaluate[bool](`(async () => {
				const p = await (await fetch("/api/v1/policy")).json()
				const text = p.text.replace(/^  bad_sectors: {all: 100,/m, '  bad_sectors: {all: 8,')
				if (text === p.text) throw new Error("the draft is the policy in force")
				localStorage.setItem("hylostat.draft", JSON.stringify({from: p.version, text}))
				location.reload()
				return true
			})()`, chromedp.EvalAwaitPromise)); err != nil {
				return fmt.Errorf("%s: %w", path, err)
			}
			time.Sleep(2 * time.Second)
			if _, err := chromedp.Run(tab, chromedp.Evaluate[bool](`(async () => {
				[...document.querySelectorAll("button")].find(b => b.textContent === "Replay the draft").click()
				await new Promise(r => setTimeout(r, 2500))
				document.querySelector("article[aria-label='number of bad sectors']").scrollIntoView({block: "center"})
				await new Promise(r => setTimeout(r, 500))
				localStorage.removeItem("hylostat.draft")
				return true
			})()`, chromedp.EvalAwaitPromise)); err != nil {
				return fmt.Errorf("%s: %w", path, err)
			}
		}
		picture := chromedp.CaptureScreenshot()
		if how == "full" || how == "narrow" {
			picture = chromedp.FullScreenshot(100)
		}
		png, err := chromedp.Run(tab, picture)
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		if err := os.WriteFile(file, png, 0o644); err != nil { //nolint:gosec // a picture for everybody
			return err
		}
	}
	return nil
}
