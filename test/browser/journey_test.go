package browser

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/app"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/test/made"
)

// page is a browser's tab on a running service.
type page struct {
	t       *testing.T
	ctx     context.Context //nolint:containedctx // a tab of the browser is one
	address string
	dir     string // of the records
	bench   *sim.Bench
	stop    func() // ends the service
}

// open gives a page on a service with one drive in three bays.
func open(t *testing.T) *page {
	t.Helper()
	source := sim.New(sim.NewClock(60), "", "sim-1", "sim-2", "sim-3")
	source.Insert("sim-2", made.Disk("KVA077M511"))
	p := openOn(
		t,
		app.Options{Dir: t.TempDir(), Create: true, Shop: "Saltmarsh Lane", Bench: "north bench", Factor: 60, Source: source, Rework: true},
	)
	p.bench = source
	return p
}

// openOn gives a page on a service; whatever the page complains of fails the test.
func openOn(t *testing.T, o app.Options) *page {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute) // opening all pages takes one where nothing else runs
	serving, stop := context.WithCancel(ctx)
	p := &page{t: t, dir: o.Dir, stop: stop}
	ready, done := make(chan string, 1), make(chan error, 1)
	o.Listen, o.Log, o.Ready = "127.0.0.1:0", slog.New(slog.NewTextHandler(io.Discard, nil)), func(address string) { ready <- address }
	go func() { done <- app.Serve(serving, o) }()
	select {
	case p.address = <-ready:
	case err := <-done:
		require.NoError(t, err)
	}
	// The profile lives outside t.TempDir: Chromium's last writes race with its removal.
	profile, err := os.MkdirTemp("", "hylostat-browser-")
	require.NoError(t, err)
	tab, end, err := Open(ctx, profile, 1280, 800)
	require.NoError(t, err)
	p.ctx = tab
	said := chromedp.Console(tab)
	heard := make(chan struct{})
	go func() {
		defer close(heard)
		for m, err := range said {
			if err != nil {
				return
			}
			if strings.Contains(m.Text, "Failed to load resource") {
				continue // a refusal is shown on the page; so is a connection that is lost
			}
			assert.NotContains(
				t, []chromedp.ConsoleType{chromedp.ConsoleError, chromedp.ConsoleException}, m.Type, "the page complains: %s", m,
			)
		}
	}()
	t.Cleanup(func() {
		if t.Failed() {
			if png, err := chromedp.Run(tab, chromedp.CaptureScreenshot()); err == nil {
				_ = os.WriteFile("../../build/failed.png", png, 0o600)
			}
		}
		end()
		<-heard
		cancel()
		<-done
		_ = os.RemoveAll(profile)
	})
	return p
}

func (p *page) do(actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	require.NoError(p.t, chromedp.Do(p.ctx, actions...))
}

// js runs a script and gives its value.
func js[T any](p *page, script string) T {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[T](script, chromedp.EvalAwaitPromise))
	require.NoError(p.t, err, script)
	return v
}

func (p *page) text() string { return js[string](p, `document.body.innerText`) }

// sees waits until the page shows a text.
func (p *page) sees(words string) {
	p.t.Helper()
	require.Eventually(
		p.t, func() bool { return strings.Contains(p.text(), words) }, 15*time.Second, 50*time.Millisecond, "the page shows %q",
		words,
	)
}

// accessible lets axe look at the page; it must find nothing.
func (p *page) accessible(where string) {
	p.t.Helper()
	source, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	require.NoError(p.t, err)
	js[bool](p, string(source)+"; true")
	found := js[[]string](
		p,
		`axe.run(document, {resultTypes: ["violations"]})
		  .then(r => r.violations.map(v => v.id + ": " +
		    v.nodes.map(n => n.target.join(" ") + " " + (n.failureSummary || "")).slice(0, 3).join(" | ")))`,
	)
	assert.Empty(p.t, found, where)
}

// press types a key where the focus is.
func (p *page) press(keys string) { p.t.Helper(); p.do(chromedp.KeyEvent(keys)) }

// TestAtTheBench is a technician's way from a drive that appears to a signature, by keyboard.
func TestAtTheBench(t *testing.T) {
	p := open(t)
	p.do(chromedp.Navigate(p.address))
	p.sees("7M511")
	p.sees("Empty")
	p.accessible("bench")

	// A drive appears, without a reload, and without moving what is there.
	before := js[float64](p, `document.querySelector("[aria-label^='Bay 2']").getBoundingClientRect().top`)
	p.bench.Insert("sim-1", made.Disk("KVA077M4R9"))
	p.sees("7M4R9")
	assert.InDelta(t, before, js[float64](p, `document.querySelector("[aria-label^='Bay 2']").getBoundingClientRect().top`), 0.5)

	// The quick check starts by keyboard; a name is asked for once. The page itself notes how its progress moves: on a slow machine
	// the check may be over before this test looks twice.
	js[bool](
		p,
		`(() => { window.progress = [];
		  new MutationObserver(() => {
		    const now = document.querySelector("[role=progressbar]")?.getAttribute("aria-valuenow");
		    if (now && now !== window.progress.at(-1)) window.progress.push(now)
		  }).observe(document.body, {subtree: true, childList: true, attributes: true});
		  return true })()`,
	)
	// The bay shows the drive as soon as it has a name, and offers the check once its first reading is in.
	require.Eventually(t, func() bool {
		return js[string](p, `document.querySelector("[aria-label^='Bay 1'] button:not([aria-pressed])").textContent`) == "Quick check"
	}, 15*time.Second, 50*time.Millisecond)
	js[bool](p, `document.querySelector("[aria-label^='Bay 1'] button:not([aria-pressed])").focus(), true`)
	p.press("\r")
	p.sees("Who is at the bench?")
	p.accessible("name dialog")
	p.press("Dov\r")
	p.sees("Quick check of 7M4R9 started.")
	// The verdict shows, and is signed on the drive's page.
	p.sees("healthy")
	p.sees("Sign")
	seen := js[[]int](p, `window.progress.map(Number)`)
	assert.Greater(t, len(seen), 2, "progress moves: %v", seen)
	assert.True(t, slices.IsSorted(seen), "and only forward: %v", seen)
	p.press("1")
	p.sees("Since the last visit")
	p.sees("No findings.")
	p.accessible("drive")
	js[bool](p, `[...document.querySelectorAll("button")].find(b => b.textContent === "Sign: healthy").focus(), true`)
	p.press("\r")
	p.sees("signed by Dov")

	// Down to the byte.
	js[bool](
		p,
		`[...document.querySelectorAll("table button[aria-expanded]")].find(b => b.textContent === "reallocated sectors").click(), true`,
	)
	p.sees("Bad sectors replaced by spares.")
	js[bool](p, `[...document.querySelectorAll("button")].find(b => b.textContent.startsWith("SMART data, bytes 2 to 13")).click(), true`)
	require.Eventually(
		t,
		func() bool { return js[int](p, `document.querySelectorAll(".hot").length`) == 12 },
		5*time.Second,
		50*time.Millisecond,
	)
	assert.Equal(t, "05", js[string](p, `document.querySelector(".hot").textContent`))
	p.accessible("drive, opened")
}

func TestOverrulingAsksForAReason(t *testing.T) {
	p := open(t)
	p.do(chromedp.Navigate(p.address + "/drives/KVA077M511"))
	js[bool](p, `localStorage.setItem("hylostat.person", "Imre"), true`)
	p.do(chromedp.Navigate(p.address + "/drives/KVA077M511"))
	p.sees("undecided")
	js[bool](p, `[...document.querySelectorAll("button")].find(b => b.textContent === "Overrule").click(), true`)
	p.sees("Your verdict")
	p.accessible("overrule dialog")
	js[bool](p, `[...document.querySelectorAll("label")].find(l => l.textContent.includes("degrading")).click(), true`)
	assert.True(t, js[bool](p, `[...document.querySelectorAll("[role=dialog] button")].at(-1).disabled`), "not without a reason")
	js[bool](p, `document.querySelector("textarea").focus(), true`)
	p.press("clicks when cold")
	js[bool](p, `[...document.querySelectorAll("[role=dialog] button")].at(-1).click(), true`)
	p.sees("overruled with degrading by Imre")
	p.sees("clicks when cold")

	// It is meant for something else now: what was signed was another verdict.
	js[bool](p, `document.querySelector("button[aria-label='Meant for everyday: change']").click(), true`)
	p.sees("What is it meant for?")
	p.accessible("duty dialog")
	assert.True(t, js[bool](p, `[...document.querySelectorAll("[role=dialog] button")].at(-1).disabled`), "it is meant for that already")
	js[bool](p, `[...document.querySelectorAll("[role=dialog] label")].find(l => l.textContent.includes("continuous")).click(), true`)
	js[bool](
		p,
		`[...document.querySelectorAll("[role=dialog] button")].find(b => b.textContent === "Judge it for continuous").click(), true`,
	)
	require.Eventually(t, func() bool {
		return js[bool](p, `document.querySelector("button[aria-label='Meant for continuous: change']") !== null`)
	}, 10*time.Second, 50*time.Millisecond)
	require.Eventually(
		t,
		func() bool { return js[bool](p, `!document.body.innerText.includes("overruled with")`) },
		10*time.Second,
		50*time.Millisecond,
	)
}

func TestListsSearchFarViewAndThemes(t *testing.T) {
	p := open(t)
	p.do(chromedp.Navigate(p.address + "/drives?theme=dark"))
	p.sees("7M511")
	p.accessible("drives, dark")
	js[bool](p, `document.querySelector("tbody input").click(), true`)
	p.sees("1 chosen")
	p.accessible("drives, one chosen")
	js[bool](p, `localStorage.setItem("hylostat.person", "Imre"), true`)
	p.do(chromedp.Navigate(p.address + "/drives?theme=dark"))
	p.sees("7M511")
	js[bool](p, `document.querySelector("thead input").click(), true`)
	js[bool](p, `[...document.querySelectorAll("button")].find(b => b.textContent === "Sign the healthy").click(), true`)
	p.sees("0 signed. Left: KVA077M511, it is undecided: look at it, then sign it alone")
	p.opens("Age: any …")
	p.press(kb.End)
	p.press("\r")
	p.sees("No drive found") // it was powered on for a year
	p.do(chromedp.Navigate(p.address + "/drives?age=1-3&theme=dark"))
	p.sees("7M511")
	js[bool](p, `document.querySelector("input").focus(), true`)
	p.press("nothing like it")
	p.sees("No drive found")
	p.do(chromedp.Navigate(p.address + "/?theme=dark"))
	p.sees("7M511")
	p.accessible("bench, dark")
	p.press("w")
	require.Eventually(t, func() bool {
		return js[bool](p, `getComputedStyle(document.querySelector("article b")).fontSize === "72px"`)
	}, 5*time.Second, 50*time.Millisecond)
	p.do(chromedp.Navigate(p.address + "/parts"))
	p.sees("Verdict marks and words")
	p.accessible("parts")
	p.do(chromedp.Navigate(p.address + "/drives/NOBODY"))
	p.sees("No drive whose serial ends")
	p.accessible("an error")
	assert.Empty(
		t,
		js[[]string](p, `performance.getEntriesByType("resource").map(r => r.name).filter(n => !n.startsWith(location.origin))`),
		"nothing comes from elsewhere",
	)
}

// TestASweepFillsItsRibbon follows a sweep on its page, by keyboard, to the table of what it found.
func TestASweepFillsItsRibbon(t *testing.T) {
	p := open(t)
	spec := made.Disk("KVA077M4Q2")
	spec.Identity.Sectors = 40_000_000
	spec.Unread, spec.FirstLBA = sim.Course{From: 2}, 20_000_000
	p.bench.Insert("sim-3", spec)
	p.do(chromedp.Navigate(p.address))
	js[bool](p, `localStorage.setItem("hylostat.person", "Imre"), true`)
	p.do(chromedp.Navigate(p.address + "/drives/KVA077M4Q2"))
	p.sees("Check …")
	p.opens("Check …")
	p.sees("Extended check")
	p.accessible("menu of checks")
	p.press(kb.End) // the whole sweep
	p.press("\r")
	p.sees("Whole sweep of 7M4Q2 started.")
	p.do(chromedp.Navigate(p.address + "/runs/1"))
	p.sees("Whole sweep")
	ink := func() int { // pixels of the ribbon that are not paper
		return js[int](
			p,
			`(() => { const k = document.querySelector("canvas"); if (!k || !k.width) return 0;
			  const d = k.getContext("2d").getImageData(0, 0, k.width, k.height).data;
			  let n = 0; for (let i = 3; i < d.length; i += 4) if (d[i]) n++; return n })()`,
		)
	}
	require.Eventually(t, func() bool { return ink() > 0 }, 10*time.Second, 50*time.Millisecond)
	before := ink()
	require.Eventually(t, func() bool { return ink() > before }, 10*time.Second, 50*time.Millisecond, "it fills")
	p.accessible("run, live")
	p.sees("2 sectors cannot be read.")
	p.sees("narrowed down")
	p.accessible("run, done")
	p.do(chromedp.Navigate(p.address + "/drives/KVA077M4Q2"))
	p.sees("2 sectors cannot be read.")
	p.accessible("drive with a sweep")
}

// TestADraftIsReplayedAndPublished goes from a rule over its draft and replay to the drive at that moment, and back to publishing.
func TestADraftIsReplayedAndPublished(t *testing.T) {
	p := open(t)
	spec := made.Disk("KVA077M4Q2")
	spec.Counters[0].Course = sim.Course{From: 3}
	p.bench.Insert("sim-1", spec)
	p.do(chromedp.Navigate(p.address))
	require.Eventually(t, func() bool {
		return js[bool](p, `fetch("/api/v1/drives/KVA077M4Q2/verdict").then(r => r.json()).then(v => v.grade === "degrading")`)
	}, 20*time.Second, 100*time.Millisecond)
	js[bool](p, `localStorage.setItem("hylostat.person", "Imre"), true`)
	p.do(chromedp.Navigate(p.address + "/policy"))
	p.sees("hold")
	p.accessible("policy")
	js[bool](p, `document.querySelector("article[aria-label='reallocated sectors'] button").click(), true`)
	js[bool](p, `document.querySelector("article textarea").select(), true`)
	p.press("unexplained.reallocated > 2.0 &&")
	p.sees("rule reallocated: column")
	p.press(" !('whole_sweep_age' in now && 'extended_test_age' in now && now.reallocated < 20.0 && steady.reallocated > 300.0)")
	p.sees("1 of ")
	p.sees("hold")
	p.accessible("policy, a draft")
	p.click("Edit the text")
	js[bool](
		p,
		`(() => { const t = [...document.querySelectorAll("textarea")].at(-1),
		  set = Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set;
		  set.call(t, t.value.replace(/(id: reallocated\n[^]*?effect: )degrading/, "$1replace"));
		  t.dispatchEvent(new Event("input", {bubbles: true})); return true })()`,
	)
	p.click("Rules in words")
	p.click("Replay the draft")
	p.sees("drive differs")
	p.accessible("policy, replayed")
	js[bool](p, `document.querySelector("section[aria-label=Replay] li a").click(), true`)
	p.sees("as at reading 1 of")
	p.accessible("drive, then")
	p.do(chromedp.Navigate(p.address + "/policy"))
	p.sees("draft")
	js[bool](p, `document.querySelector("section[aria-label=Replay] input").focus(), true`)
	p.press("three are too many")
	p.click("Publish as policy")
	p.sees("by Imre: three are too many")
	p.do(chromedp.Navigate(p.address + "/drives/KVA077M4Q2"))
	require.Eventually(t, func() bool {
		return js[bool](p, `document.querySelector("[aria-label=Verdict] h1")?.textContent === "replace"`)
	}, 15*time.Second, 50*time.Millisecond)
}

// opens waits for a menu button, which a drive that is being checked has not, and presses it.
func (p *page) opens(menu string) {
	p.t.Helper()
	require.Eventually(p.t, func() bool {
		return js[bool](
			p,
			`(() => { const b = [...document.querySelectorAll("button")].find(b => b.textContent === `+strconv.Quote(
				menu,
			)+`); b?.focus(); return !!b })()`,
		)
	}, 15*time.Second, 50*time.Millisecond, "there is %q", menu)
	p.press("\r")
}

func (p *page) click(words string) {
	p.t.Helper()
	require.Eventually(p.t, func() bool {
		return js[bool](
			p,
			`(() => { const b = [...document.querySelectorAll("button, [role=menuitem], label")]
			  .find(b => b.textContent.trim().startsWith(`+strconv.Quote(
				words,
			)+`) && !b.disabled); b?.click(); return !!b })()`,
		)
	}, 10*time.Second, 50*time.Millisecond, "there is %q to click", words)
}

// TestAReleasedDriveIsMended goes from a sweep over the owner's release and the serial from the label to what the mend changed.
func TestAReleasedDriveIsMended(t *testing.T) {
	p := open(t)
	spec := made.Disk("KVA077M4Q2")
	spec.Identity.Sectors = 40_000_000
	spec.Unread, spec.FirstLBA = sim.Course{From: 2}, 20_000_000
	spec.Counters[4].Course = sim.Course{From: 2}
	p.bench.Insert("sim-3", spec)
	api := func(method, path, body string) {
		js[bool](
			p,
			`fetch("/api/v1`+path+`", {method: "`+method+`", headers: {"Content-Type": "application/json"},
			  body: JSON.stringify(`+body+`)}).then(r => { if (!r.ok) throw new Error(r.status + path); return true })`,
		)
	}
	p.do(chromedp.Navigate(p.address))
	p.sees("7M4Q2")
	js[bool](p, `localStorage.setItem("hylostat.person", "Imre"), true`)
	api("POST", "/intakes", `{bay: "bay-3", by: "Imre", wanted: true}`)
	p.do(chromedp.Navigate(p.address + "/drives/KVA077M4Q2"))
	p.sees("wanted, not copied")
	p.opens("Check …")
	p.press(kb.End)
	p.press("\r")
	p.sees("although its data is at risk?")
	p.accessible("data at risk")
	p.press("the owner insists")
	p.click("Start it")
	p.sees("Whole sweep of 7M4Q2 started.")
	p.do(chromedp.Navigate(p.address + "/runs/1"))
	p.sees("2 sectors cannot be read.")

	// Closer, down to one cell, whose rows begin at LBAs.
	js[bool](p, `document.querySelector("canvas").focus(), true`)
	p.press(kb.PageDown)
	for range 4 {
		p.press("\r")
	}
	p.sees("rows: LBA")
	p.accessible("run, closer")
	p.press(kb.Escape)

	api("POST", "/bays/bay-3/copy", `{by: "Imre"}`)
	p.do(chromedp.Navigate(p.address + "/drives/KVA077M4Q2"))
	p.sees("wanted, copied")
	p.opens("Rework …")
	p.sees("None recorded for this intake")
	p.accessible("menu of reworks")
	p.press("\r") // the release
	p.sees("Who consented, and how")
	p.accessible("release")
	p.click("mend")
	js[bool](p, `document.querySelector("[role=dialog] input:not([type=radio])").focus(), true`)
	p.press("Orla Fenn, by phone")
	p.click("Record the release")
	p.sees("released for mend")
	require.Eventually(
		t,
		func() bool { return js[bool](p, `!document.querySelector("[role=dialog]")`) },
		5*time.Second,
		50*time.Millisecond,
	)
	p.opens("Rework …")
	p.sees("mend, by Orla Fenn, by phone")
	p.press(kb.ArrowDown)
	p.press("\r")
	p.sees("Mend the drive in bay 3")
	p.accessible("serial from the label")
	p.press("077M4Q3\r")
	p.sees("not the end of the serial")
	js[bool](p, `(() => { const i = document.querySelector("[role=dialog] input"); i.focus(); i.select(); return true })()`)
	p.press("077M4Q2\r")
	p.sees("Before and after")
	p.sees("Mending: 2 sectors cleared.")
	p.sees("not known yet")
	p.accessible("mend, done")

	api("POST", "/drives/KVA077M4Q2/checks", `{kind: "whole", by: "Imre"}`)
	newest := js[int](p, `fetch("/api/v1/runs").then(r => r.json()).then(all => all[0].id)`)
	p.do(chromedp.Navigate(fmt.Sprintf("%s/runs/%d", p.address, newest)))
	p.sees("Everything was read")
	p.click("Lay over")
	p.click("Run 1")
	p.sees("Compared with run 1")
	p.sees("gone")
	p.accessible("two sweeps")
}

func TestALostConnectionIsSaidAndWhatIsKnownStays(t *testing.T) {
	p := open(t)
	p.do(chromedp.Navigate(p.address))
	p.sees("7M511")
	p.stop()
	p.sees("Connection lost")
	p.sees("Checks continue.")
	p.sees("7M511")
	p.accessible("offline")
	if path := os.Getenv("HYLOSTAT_PICTURE"); path != "" {
		png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, png, 0o600))
	}
}

// Several bays are chosen by key and by touch, and checked together; one start can be undone as well as another.
func TestSeveralBaysAtOnce(t *testing.T) {
	p := open(t)
	p.bench.Insert("sim-1", made.Disk("KVA077M4R9"))
	p.bench.Insert("sim-3", made.Disk("KVA077M60A"))
	p.do(chromedp.Navigate(p.address))
	js[bool](p, `localStorage.setItem("hylostat.person", "Imre"), true`)
	p.do(chromedp.Navigate(p.address))
	p.sees("7M60A")
	p.sees("7M4R9")
	p.press("s")
	p.sees("0 chosen")
	p.press("3")
	p.sees("1 chosen")
	js[bool](p, `document.querySelector("[aria-label='Choose bay 1']").click(), true`)
	p.sees("2 chosen")
	p.accessible("two bays chosen")
	p.click("Quick check")
	p.sees("Quick check of 2 started.")
	p.press("u")
	require.Eventually(t, func() bool {
		return js[bool](p, `fetch("/api/v1/runs").then(r => r.json())
		  .then(all => all.length === 2 && all.every(r => r.outcome === "stopped"))`)
	}, 15*time.Second, 50*time.Millisecond)
	p.press("s")
	p.sees("0 chosen")
	p.press("2")
	p.sees("1 chosen")
	p.press(kb.Escape)
	p.press("2")
	p.sees("Since the last visit")
}
