// Package browser drives Debian's headless Chromium for the console's tests and pictures. Start with Open.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"

	"github.com/chromedp/chromedp"
)

// Open starts a browser of the given size with an empty profile in dir. End it with the returned function.
func Open(ctx context.Context, dir string, width, height int) (context.Context, context.CancelFunc, error) {
	path := ""
	for _, name := range []string{"chromium", "chromium-browser"} {
		if found, err := exec.LookPath(name); err == nil {
			path = found
			break
		}
	}
	if path == "" {
		return nil, nil, fmt.Errorf("no chromium here: apt-get install chromium, or run `make test`, which does: %w", os.ErrNotExist)
	}
	allocator, endBrowser := chromedp.NewExecAllocator(
		ctx, chromedp.ExecPath(path), chromedp.UserDataDir(dir), chromedp.NoSandbox, chromedp.Headless, chromedp.DisableGPU,
		chromedp.NoFirstRun, chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.Flag("disable-quic", true),
		chromedp.Flag("hide-scrollbars", true), chromedp.Flag("force-device-scale-factor", "1"),
		chromedp.Flag("disable-dev-shm-usage", true), chromedp.WindowSize(width, height),
	)
	tab, endTab := chromedp.NewContext(allocator)
	end := func() { endTab(); endBrowser() }
	if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		end()
		return nil, nil, fmt.Errorf("starting chromium: %w", err)
	}
	return tab, end, nil
}
