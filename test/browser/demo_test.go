package browser

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/app"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/demo"
)

// The demo holds every kind of drive, also those that tell next to nothing: a page that fails on one, or tells what is none, fails here.
func TestEveryPageOfTheDemoIsWhole(t *testing.T) {
	dir := t.TempDir()
	d, err := demo.New(dir, 60)
	require.NoError(t, err)
	p := openOn(t, app.Demo(dir, d))
	c, err := client.New(p.address, "")
	require.NoError(t, err)
	run, err := c.Check(p.ctx, "7M4Q2", contract.CheckRequest{Kind: "spot", By: "Dov"})
	require.NoError(t, err)
	drives, err := c.Drives(p.ctx, contract.ListDrivesParams{})
	require.NoError(t, err)
	require.Greater(t, len(drives), 50)
	paths := []string{
		"/",
		"/?view=far",
		"/intake",
		"/intake?bay=6",
		"/drives",
		"/drives?q=Korvan&grade=replace",
		"/drives/NOBODY",
		"/lots",
		"/lots/1",
		"/lots/99",
		fmt.Sprint("/runs/", run.Id),
		"/runs/99",
		"/policy",
		"/nowhere",
	}
	for _, l := range drives {
		paths = append(paths, "/drives/"+l.Serial)
	}
	p.do(chromedp.Navigate(p.address + "/"))
	for _, path := range paths {
		// Within the console, as people go: the router takes the address, and the page has no more to load when nothing is asked for.
		js[bool](
			p,
			fmt.Sprintf(`history.pushState({}, "", %q); dispatchEvent(new PopStateEvent("popstate", {state: {}})); new Promise(done => {
			let quiet = 0, last = "";
			const look = () => {
				const now = document.body.innerText;
				quiet = now === last && now.length > 150 ? quiet + 1 : 0;
				last = now;
				quiet > 4 ? done(true) : setTimeout(look, 25);
			};
			look();
		})`, path),
		)
		text := p.text()
		for _, none := range []string{"undefined", "NaN", "Infinity", "[object", " null", "Invalid Date", "Something went wrong"} {
			assert.NotContains(t, text, none, path)
		}
		wide := js[[]string](
			p,
			`[...document.querySelectorAll("body *")].filter(e => e.getBoundingClientRect().right > innerWidth + 1 &&
			  getComputedStyle(e).position !== "fixed").slice(0, 3)
			  .map(e => e.tagName + " " + e.className + " " + (e.textContent || "").slice(0, 60))`,
		)
		assert.Empty(t, wide, "%s is wider than its window", path)
	}
}
