package browser

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jmoiron/sqlx"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shot keeps a picture for whoever looks at the page by hand: SHOTS names the folder.
func (p *page) shot(name string) {
	if dir := os.Getenv("SHOTS"); dir != "" {
		png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		require.NoError(p.t, err)
		require.NoError(p.t, os.WriteFile(dir+"/"+name+".png", png, 0o600))
	}
}

// TestASecondFactorAndAToken sets up a second factor, makes a token after saying again who she is, and signs in with a code.
func TestASecondFactorAndAToken(t *testing.T) {
	p := open(t)
	p.do(chromedp.Navigate(p.address))
	p.sees("7M511")
	p.api("POST", "/people", `JSON.stringify({name: "Maud", role: "lead", password: "kelp and gravel"})`)
	p.do(chromedp.Navigate(p.address))
	p.sees("Sign in")
	p.press("Maud\tkelp and gravel\r")
	p.sees("7M511")
	p.click("Maud")
	p.sees("None is set up.")
	p.accessible("account")
	p.shot("account")
	p.click("Set one up")
	p.sees("The code it shows now")
	p.shot("factor")
	secret := js[string](p, `document.querySelector("section[aria-label='Second factor'] code").textContent`)
	secret = strings.ReplaceAll(secret, " ", "")
	code, err := totp.GenerateCode(secret, time.Now())
	require.NoError(t, err)
	js[bool](p, `(() => { document.querySelector("section[aria-label='Second factor'] input").focus(); return true })()`)
	p.press(code + "\r")
	p.sees("For when the device is lost")
	p.accessible("recovery codes")
	recovery := strings.Fields(js[string](p, `document.querySelector("pre").textContent`))
	require.Len(t, recovery, 10)
	p.click("I have them")
	p.sees("A code of your device is wanted")

	db, err := sqlx.Open("sqlite", p.dir+"/shop.db?_pragma=busy_timeout(5000)") // she has been away
	require.NoError(t, err)
	_, err = db.Exec(`UPDATE session SET proved = proved - 3600000`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	p.click("A new one")
	p.sees("What it is for")
	p.press("label printer\r")
	p.sees("Is it you, Maud?")
	p.accessible("say again who you are")
	p.shot("prove")
	p.press("kelp and gravel\t" + recovery[0] + "\r")
	p.sees("It is shown this once")
	p.click("I have it")
	p.sees("label printer")
	p.shot("tokens")
	p.do(chromedp.Navigate(p.address + "/account?theme=dark"))
	p.sees("label printer")
	p.accessible("account in the dark")
	p.shot("account-dark")

	p.click("Sign out")
	p.sees("Sign in")
	p.press("Maud\tkelp and gravel\r")
	p.sees("The code of your second factor is wanted")
	p.shot("code")
	assert.NotContains(t, p.text(), "Connection lost", "who signed out has no line that could be lost")
	assert.Equal(t, 1, strings.Count(p.text(), "is wanted, too"), "what is wrong is said once")
	js[bool](p, `(() => { document.querySelector("input[autocomplete=one-time-code]").focus(); return true })()`)
	p.press(recovery[1] + "\r")
	p.sees("label printer")
	assert.NotContains(t, p.text(), "Sign in")
}
