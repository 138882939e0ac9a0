package browser

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/app"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/demo"
	"hylostat.example/test/made"
)

// heard counts the tones that the page sounds, and keeps what they sound in.
const heard = `(() => {
	window.tones = 0
	const make = AudioContext.prototype.createOscillator
	AudioContext.prototype.createOscillator = function () {
		window.sounding = this
		window.tones++
		window.sounded ??= performance.now()
		return make.call(this)
	}
	return true
})()`

// An alert sounds, is seen at once wherever one is, is taken and settled by keys; its drive opens as it was then.
func TestAnAlertIsHeardTakenAndSettled(t *testing.T) {
	p := open(t)
	c, err := client.New(p.address, "")
	require.NoError(t, err)
	read := func() {
		require.Eventually(t, func() bool {
			_, err := c.TakeReading(p.ctx, "bay-2", contract.ReadingRequest{By: "Imre"})
			return err == nil
		}, 20*time.Second, 50*time.Millisecond)
	}
	p.do(chromedp.Navigate(p.address + "/watch"))
	p.sees("No drive is watched")
	p.press("n")
	p.sees("Who is at the bench?")
	slowly(p, "Dov")
	p.press("\r")
	p.sees("The narrowest plan counts")
	p.click("one drive")
	p.do(chromedp.SendKeys(`form input[maxlength="100"]`, "7M511"))
	p.accessible("a new plan")
	p.click("Save the plan")
	p.sees("read every 6 h")
	p.accessible("watch")
	read()
	p.do(chromedp.Navigate(p.address + "/alerts"))
	p.sees("nothing waits for anybody")
	js[bool](p, heard)
	p.press("x") // a page that nobody has touched may not sound
	p.sees("Sound on")
	worse := made.Disk("KVA077M511")
	worse.Counters[0].Course = sim.Course{From: 12}
	p.bench.Remove("sim-2")
	p.bench.Insert("sim-2", worse)
	read()
	p.sees("1 open")
	p.sees("to replace")
	require.Eventually(t, func() bool { return js[float64](p, `window.tones`) == 3 }, 5*time.Second, 20*time.Millisecond,
		"what may wake somebody: three tones")
	assert.Equal(t, "running", js[string](p, `window.sounding.state`))
	at := js[float64](p, `window.sounding.currentTime`)
	require.Eventually(
		t, func() bool { return js[float64](p, `window.sounding.currentTime`) > at }, 5*time.Second, 20*time.Millisecond,
		"time passes in it",
	)
	assert.Contains(t, js[string](p, `document.title`), "(1)")
	assert.Contains(t, js[string](p, `document.querySelector("header nav").innerText`), "1")
	p.accessible("alerts")
	js[bool](p, `(document.documentElement.dataset.theme = "dark", true)`)
	p.accessible("alerts, dark")

	current := func() {
		p.press("j")
		require.Eventually(t, func() bool {
			return js[bool](p, `document.querySelector("[data-alert][aria-current]") !== null`)
		}, 5*time.Second, 20*time.Millisecond)
	}
	current()
	p.press("t")
	p.sees("1 taken on")
	p.press("e")
	p.sees("What was done about it")
	slowly(p, "its owner knows")
	p.do(chromedp.Click(`[role="dialog"] button[type="submit"]`))
	p.sees("“its owner knows”")
	current()
	p.press("\r")
	p.sees("Counters, bytes and comparison as at reading")

	p.do(chromedp.Navigate(p.address + "/"))
	p.sees("7M511")
	p.stop()
	p.sees("Connection lost")
	p.do(chromedp.Navigate(p.address + "/alerts"))
	p.sees("its owner knows") // as it was seen last
}

// On a phone every page is as wide as the phone, and what is pressed is as large as a thumb.
func TestEveryPageFitsAPhone(t *testing.T) {
	dir := t.TempDir()
	d, err := demo.New(dir, 60)
	require.NoError(t, err)
	p := openOn(t, app.Demo(dir, d))
	p.do(chromedp.EmulateViewport(390, 844))
	c, err := client.New(p.address, "")
	require.NoError(t, err)
	run, err := c.Check(p.ctx, "7M4Q2", contract.CheckRequest{Kind: "spot", By: "Dov"})
	require.NoError(t, err)
	require.EqualValues(t, 1, run.Id)
	for _, path := range []string{
		"/", "/?view=far", "/intake", "/drives", "/drives/KVA077M511", "/drives/BWN11Q7E30", "/drives/OSS0419Z4K", "/lots", "/lots/1",
		"/runs/1",
		"/alerts", "/watch", "/policy", "/bays", "/account",
	} {
		p.do(chromedp.Navigate(p.address + path))
		text := ""
		shown := func() bool { // bytes are fetched when somebody looks at them
			text = strings.ReplaceAll(p.text(), "Fetching its bytes", "")
			return len(text) > 100 && !strings.Contains(text, "Fetching")
		}
		for tries := 0; !shown() && tries < 400; tries++ {
			time.Sleep(50 * time.Millisecond)
		}
		if _, after, still := strings.Cut(text, "Fetching"); still {
			require.Fail(t, "it is not all there", "%s: Fetching%.200s", path, after)
		}
		assert.EqualValues(t, 390, js[float64](p, `document.documentElement.scrollWidth`), path)
		small := js[[]string](p, `[...document.querySelectorAll("nav a, [data-react-aria-pressable]")].filter(e => {
			const r = e.getBoundingClientRect()
			return r.height > 0 && r.height < 40 && !e.closest("[hidden]")
		}).map(e => Math.round(e.getBoundingClientRect().height) + " " + e.textContent.slice(0, 30)).slice(0, 3)`)
		assert.Empty(t, small, path)
		squeezed := js[[]string](p, `[...document.querySelectorAll("td, p, li, dd, button")].filter(e => {
			const r = e.getBoundingClientRect()
			return r.width > 8 && r.width < 72 && r.height > 80 && e.textContent.trim().length > 12
		}).map(e => Math.round(e.getBoundingClientRect().width) + " " + e.textContent.slice(0, 30)).slice(0, 3)`)
		assert.Empty(t, squeezed, "%s: a word on a line", path)
		p.accessible(path + " on a phone")
	}
}
