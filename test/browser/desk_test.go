package browser

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/test/made"
)

// api calls the service as the page would.
func (p *page) api(method, path, body string) {
	p.t.Helper()
	js[bool](
		p,
		`fetch("/api/v1`+path+`", {method: "`+method+`", headers: {"Content-Type": "application/json"}, body: `+body+`})
		  .then(async r => { if (!r.ok) throw new Error(r.status + " " + await r.text()); return true })`,
	)
}

// slowly types as a person does, a key every 60 ms by the keyboard's own time: a scanner is told by its haste.
func slowly(p *page, words string) {
	js[bool](p, `(() => {
		window.typed = Math.max(performance.now(), window.typed ?? 0)
		window.slow = e => Object.defineProperty(e, "timeStamp", {value: (window.typed += 60)})
		window.addEventListener("keydown", window.slow, true)
		return true
	})()`)
	for _, r := range words {
		p.press(string(r))
	}
	js[bool](p, `window.removeEventListener("keydown", window.slow, true), true`)
}

// TestADriveIsTakenInAndHandedOver goes through the three steps with keys alone, then lets the drive go with its papers.
func TestADriveIsTakenInAndHandedOver(t *testing.T) {
	p := open(t)
	p.do(chromedp.Navigate(p.address))
	p.sees("7M511")
	js[bool](p, `localStorage.setItem("hylostat.person", "Dov"), true`)
	p.do(chromedp.Navigate(p.address + "/intake"))
	p.sees("What arrived")
	p.accessible("intake, empty")
	slowly(p, "stops for seconds")
	// A scanner types into whatever has the focus, a key every 5 ms by the keyboard's own time, however long the page takes.
	js[bool](p, `(async () => {
		const at = document.activeElement
		let time = window.typed + 1000
		const key = k => {
			const e = new KeyboardEvent("keydown", {key: k, bubbles: true, cancelable: true})
			Object.defineProperty(e, "timeStamp", {value: (time += 5)})
			return at.dispatchEvent(e)
		}
		for (const c of "KVA077M511") {
			if (key(c)) document.execCommand("insertText", false, c)
			await null
		}
		return key("Enter") || true
	})()`)
	p.sees("Scanned at")
	assert.Equal(t, "stops for seconds", js[string](p, `document.querySelector("textarea").value`), "and does not spoil it")
	p.press("\r")
	p.press("y") // wanted
	p.press("\r")
	p.press("n") // not copied
	p.press("\r")
	p.press("1") // quiet
	p.press("\r")
	slowly(p, "2214")
	p.press("\r")
	slowly(p, "Pellwick Spit")
	p.press("\r")
	slowly(p, "2021-08")
	p.press("\r") // the label
	p.press("\r") // the bay
	p.press("2")
	p.sees("KVA07 7M511")
	p.sees("Data at risk")
	js[bool](p, `(() => { const i = document.querySelector("[aria-label='Serial from the label']"); i.focus(); return true })()`)
	p.press("KVA07 7M512")
	p.sees("Not the drive on the label")
	p.accessible("intake, another drive")
	js[bool](
		p,
		`(() => { const i = document.querySelector("[aria-label='Serial from the label']"); i.focus(); i.select(); return true })()`,
	)
	p.press("KVA07 7M511")
	p.sees("same")
	p.click("Take in, checks wait")
	p.sees("Intake 1 opened")
	p.do(chromedp.Navigate(p.address + "/intake?bay=bay-2"))
	p.sees("On intake 1 already")
	p.sees("it stays protected")
	p.accessible("intake, on one already")

	p.do(chromedp.Navigate(p.address + "/drives/KVA077M511"))
	p.sees("here on intake 1")
	p.sees("wanted, not copied")
	p.accessible("drive with an intake")
	assert.Equal(t, 200, js[int](p, `fetch("/api/v1/drives/KVA077M511/statement?format=pdf").then(r => r.status)`))
	p.click("Put the intake right …")
	p.sees("What stood there before stays in the audit.")
	p.accessible("putting an intake right")
	p.shot("correction")
	p.click("not wanted")
	p.sees("this takes a lead")
	p.shot("correction-lead")
	p.click("wanted, not copied: checks wait")
	js[bool](p, `(() => { const i = document.querySelector("[role=dialog] input"); i.focus(); i.select(); return true })()`)
	slowly(p, "2241")
	js[bool](p, `document.querySelector("[role=dialog] button[type=submit]").click(), true`)
	p.sees("Ticket 2241")
	p.sees("wanted, not copied")
	p.click("Hand over …")
	p.sees("Nobody has signed the verdict.")
	p.accessible("handing over")
	p.click("returned to its owner")
	js[bool](p, `document.querySelector("[role=dialog] button[type=submit]").click(), true`)
	p.sees("returned on")
	p.sees("Handed over by Dov: returned, data untouched")
}

// TestALotFillsAsDrivesArePutIn opens a lot and puts drives in: the page follows without being asked.
func TestALotFillsAsDrivesArePutIn(t *testing.T) {
	p := open(t)
	p.do(chromedp.Navigate(p.address))
	p.sees("7M511")
	js[bool](p, `localStorage.setItem("hylostat.person", "Dov"), true`)
	p.do(chromedp.Navigate(p.address + "/lots"))
	p.sees("No lot yet")
	p.click("Open a lot …")
	p.sees("Every drive that is put in from now on")
	p.accessible("opening a lot")
	p.press("Quillet Ferry office")
	p.click("Open the lot")
	p.sees("No drive yet")
	p.bench.Insert("sim-1", made.Disk("KVA07LOT01"))
	p.bench.Insert("sim-3", made.Disk("KVA07LOT02"))
	p.sees("LOT01")
	p.sees("LOT02")
	assert.NotContains(t, p.text(), "7M511", "it was there before")
	p.sees("0 of 2")
	p.accessible("lot")
	p.click("hours")
	p.sees("hours ▾")
	p.click("End")
	require.Eventually(t, func() bool {
		return js[bool](p, `![...document.querySelectorAll("button")].some(b => b.textContent === "End")`)
	}, 5*time.Second, 50*time.Millisecond)
}

// TestAShopWithPeopleAsksWhoIsThere signs in and out; nobody sees anything in between.
func TestAShopWithPeopleAsksWhoIsThere(t *testing.T) {
	p := open(t)
	p.do(chromedp.Navigate(p.address))
	p.sees("7M511")
	p.api("POST", "/people", `JSON.stringify({name: "Maud", role: "lead", password: "kelp and gravel"})`)
	p.do(chromedp.Navigate(p.address))
	p.sees("Sign in")
	p.accessible("sign in")
	assert.NotContains(t, p.text(), "7M511")
	assert.NotContains(t, p.text(), "Connection lost", "nobody's line is refused, not lost")
	p.press("Maud\tkelp\r")
	p.sees("do not belong together")
	js[bool](p, `(() => { const i = document.querySelector("input[type=password]"); i.focus(); i.select(); return true })()`)
	p.press("kelp and gravel\r")
	p.sees("7M511")
	p.sees("Sign out")
	p.click("Sign out")
	p.sees("Password")
	assert.NotContains(t, p.text(), "7M511")
}
