package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"mime"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/access"
	"hylostat.example/internal/api"
	"hylostat.example/internal/bubble"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
	"hylostat.example/internal/vector"
)

// TestMain has dates be written in one place's time, wherever the tests run.
func TestMain(m *testing.M) {
	time.Local = time.UTC
	os.Exit(m.Run())
}

// refusingBench carries no order out.
type refusingBench struct{ quietBench }

func (refusingBench) Order(_ context.Context, o protocol.Order) (protocol.Receipt, error) {
	return protocol.Receipt{}, &protocol.Refusal{
		Class: drive.FaultStuck, What: string(o.Kind) + " in " + o.Bay.Words(), Cause: "its drive holds an earlier command",
		Advice: drive.FaultStuck.Advice(),
	}
}

// answers writes down what the service answers.
type answers struct {
	t       *testing.T
	book    *vector.Book
	handler http.Handler
	disk    *bubble.Disk
}

var secret = regexp.MustCompile(`[A-Za-z0-9_-]{40,}|[A-Z2-7]{26}|[0-9a-f]{32,}`)

// ask sends "METHOD path", with a body if there is one, and writes down what comes back.
func (a *answers) ask(request string, body ...string) *httptest.ResponseRecorder {
	a.t.Helper()
	method, path, _ := strings.Cut(request, " ")
	var sent io.Reader = http.NoBody
	if len(body) > 0 {
		sent = strings.NewReader(body[0])
	}
	r := httptest.NewRequestWithContext(a.t.Context(), method, api.Base+path, sent)
	r.Host = "127.0.0.1:7777"
	r.RemoteAddr = "127.0.0.1:40000"
	if len(body) > 0 {
		r.Header.Set("Content-Type", "application/json")
	}
	w := httptest.NewRecorder()
	a.handler.ServeHTTP(w, r)
	a.book.Head(strings.Join(append([]string{request}, body...), " "))
	kind, _, _ := mime.ParseMediaType(w.Header().Get("Content-Type"))
	a.book.Line("%d %s %s%s", w.Code, kind, w.Header().Get("Content-Disposition"), w.Header().Get("Link"))
	switch {
	case strings.HasSuffix(kind, "json"):
		a.say(w.Body.Bytes())
	case strings.HasPrefix(kind, "text/") || kind == "image/svg+xml":
		for line := range strings.Lines(w.Body.String()) {
			a.line(strings.TrimRight(line, "\n"))
		}
	default:
		a.book.Line("%d bytes", w.Body.Len())
	}
	return w
}

// broken sends a request that only asks, and each time another access to the disk fails, of many some: that is told, and nothing else.
func (a *answers) broken(path string) {
	a.t.Helper()
	for n := int64(0); ; n += 1 + n/8 {
		r := httptest.NewRequestWithContext(a.t.Context(), http.MethodGet, api.Base+path, http.NoBody)
		r.Host, r.RemoteAddr = "127.0.0.1:7777", "127.0.0.1:40000"
		w := httptest.NewRecorder()
		a.disk.BreakAt(n)
		a.handler.ServeHTTP(w, r)
		query, fired := a.disk.Mend()
		if !fired {
			a.book.Line("%s needs the disk %t", path, n > 0)
			return
		}
		require.Equal(a.t, http.StatusInternalServerError, w.Code, "%s: access %d failed: %s\n%.300s", path, n, query, w.Body)
		require.NotContains(a.t, w.Body.String(), bubble.ErrBroken.Error(), "what the machine says is for its log")
	}
}

// say writes JSON down, each element of a list on a line of its own.
func (a *answers) say(body []byte) {
	a.t.Helper()
	var list []json.RawMessage
	if json.Unmarshal(body, &list) != nil {
		list = []json.RawMessage{body}
	}
	for _, one := range list {
		var out bytes.Buffer
		require.NoError(a.t, json.Compact(&out, one))
		a.line(out.String())
	}
}

func (a *answers) line(text string) {
	if len(text) > 3000 { // of long series their begin
		text = text[:3000]
	}
	a.book.Line("%s", secret.ReplaceAllString(text, "(…)"))
}

// What the API answers about the made-up shop, and what it refuses: testdata/answers.txt.
func TestWhatIsAnswered(t *testing.T) {
	synctest.Test(t, func(t *testing.T) { // where it is always the same day
		ctx, dir, disk := t.Context(), t.TempDir(), &bubble.Disk{}
		d, err := New(dir, 0)
		require.NoError(t, err)
		st, err := store.Open(ctx, filepath.Join(dir, "shop.db"), disk)
		require.NoError(t, err)
		defer func() { require.NoError(t, st.Close()) }()
		raw, err := sqlx.Open("sqlite", filepath.Join(dir, "shop.db")) // the archive's length differs with the signature in it
		require.NoError(t, err)
		_, err = raw.Exec(`UPDATE shop SET seal = zeroblob(32)`)
		require.NoError(t, err)
		require.NoError(t, raw.Close())
		require.NoError(t, d.Seed(ctx, st))
		log := slog.New(slog.DiscardHandler)
		benches, err := fleet.New(log, refusingBench{}.Describe())
		require.NoError(t, err)
		require.NoError(t, benches.Join(ctx, st, refusingBench{}, false))
		s, err := whole.New(ctx, "Saltmarsh Lane", st.Storage(), benches, policy.Default, d.clock, log)
		require.NoError(t, err)
		defer s.Wait()
		handler, err := api.New(api.Options{
			Shop:    s,
			Access:  access.New(st, time.Now, slog.New(slog.DiscardHandler)),
			Version: "test",
			Log:     log,
		})
		require.NoError(t, err)
		a := &answers{t: t, book: vector.Open(t, "answers.txt"), handler: handler, disk: disk}
		g, err := surface.NewGeometry(2_000_398_934_016, 512, 4096, 0, 7200, 0)
		require.NoError(t, err)
		key := drive.Key{Model: "Korvan K4-2000", Serial: "KVA077M4Q2"}
		for n, kind := range []check.Kind{check.Whole, check.Spot, check.Mend, check.Quick} {
			run := check.New(kind, drive.Bay{Number: 1}, key, "Dov", d.clock.Now(), check.Limit{})
			run.ID = int64(n + 1)
			if kind == check.Mend {
				run.Rework = &check.Rework{Release: check.Release{
					Intake: 1,
					Key:    key,
					Scope:  check.Mend,
					Owner:  "Ms Adeyemi-Holt",
					By:     "Dov",
				}}
			}
			if kind != check.Quick { // it goes on
				standing := check.Standing{Geometry: g, Share: 1, LBA: g.Sectors, Unreadable: 2, Slow: 1, Confirmed: 1}
				for i := range run.Steps {
					run.Steps[i].State = check.StepDone
					if run.Steps[i].Kind.IsSweep() {
						run.Steps[i].Standing = &standing
					}
				}
				run.State, run.Outcome = check.Done, check.Failed
				at := uint64(400_000 * (n + 1))
				require.NoError(t, s.Take(ctx, "", protocol.Report{Seq: int64(100 + n), Sweep: &check.Result{
					Key: key,
					Sweep: check.Sweep{
						Run: run.ID, Step: 1, Kind: run.Steps[1].Kind, Began: d.clock.Now(), Ended: d.clock.Now().Add(time.Hour),
						Standing: standing,
					},
					Found: check.Found{
						Ranges: []surface.Range{
							{Extent: surface.Extent{LBA: 400_000, Sectors: 8}, Cause: surface.Medium},
							{Extent: surface.Extent{LBA: at + 800, Sectors: 16}, Cause: surface.NotGiven},
						},
						Slow:   []surface.Slow{{Extent: surface.Extent{LBA: at + 70_000, Sectors: 2048}, Class: 4, Again: 4, Read: true}},
						Blocks: []check.Block{{Number: 3, Cells: surface.NewRibbon(g).PackBlock(3)}},
					},
				}}))
			}
			require.NoError(t, s.Take(ctx, "", protocol.Report{Seq: int64(110 + n), Run: &run}))
		}
		take := func(bay int, connection protocol.Connection, serial, model string) {
			t.Helper()
			b := protocol.Bay{
				ID: drive.Bay{Number: bay}, Address: drive.Address(fmt.Sprintf("sim-%d", bay)), Connection: connection,
				Key: drive.Key{Model: model, Serial: serial}, Since: d.clock.Now(),
				Device: drive.Attachment{Node: "sdx", Transport: "SATA", Bytes: 2_000_398_934_016, InUse: map[int]string{3: "swap"}[bay]},
			}
			require.NoError(t, s.Take(ctx, "", protocol.Report{Seq: int64(200 + bay), Bay: &b}))
			s.Wait()
		}
		take(1, protocol.Answering, "KVA077M4Q2", "Korvan K4-2000")
		take(2, protocol.Empty, "", "")
		take(3, protocol.Answering, "BWN11Q7E30", "Brackwater Heron 1000")
		take(4, protocol.Silent, "", "")

		for _, path := range []string{
			"/service", "/bays", "/bays/1", "/bays/bay-3", "/bays/9", "/bays/bay-3xyz", "/bays/field%2F1", "/plan", "/plan?bench=field",
			"/drives?limit=3", "/drives?limit=2&after=BWN11Q7F12", "/drives?q=korvan&limit=2", "/drives?grade=replace&limit=2",
			"/drives?grade=fine", "/drives?limit=0", "/drives?medium=flash&limit=2", "/drives.csv", "/labels?drive=KVA077M4Q2",
			"/labels?drive=nobody", "/policy", "/runs?limit=2", "/runs/999", "/runs/999/sweep", "/lots", "/lots/9", "/intakes?limit=3",
			"/intakes?open=true&limit=2", "/audit?limit=3", "/audit/verification", "/people", "/session", "/nothing", "/drives/4Q2/nothing",
		} {
			a.ask("GET " + path)
		}
		for _, serial := range []string{"KVA077M4Q2", "BWN11Q7E30", "OSS0419Z4K"} {
			for _, part := range []string{
				"", "/verdict", "/signals", "/history", "/comparison", "/comparison?then=1&now=3", "/readings?limit=3", "/readings/latest",
				"/readings/1?raw=true", "/readings/999", "/dialect", "/siblings", "/volumes", "/sweeps", "/outcome", "/release",
				"/statement",
				"/statement?language=de", "/statement?language=xx", "/label", "/label?stock=nothing", "/label?format=png",
				"/label?format=pdf",
				"/statement?format=pdf", "/statement?format=html&language=fr", "/archive",
			} {
				if serial == "KVA077M4Q2" || !strings.Contains(part, "statement") && !strings.Contains(part, "label") {
					a.ask("GET /drives/" + serial + part)
				}
			}
		}
		for _, path := range []string{
			"/runs", "/runs?drive=4Q2&limit=1", "/runs?open=true", "/runs/1", "/runs/4", "/runs/1/sweep", "/runs/1/figure", "/runs/4/sweep",
			"/runs/3/rework", "/runs/1/rework", "/runs/2/differences?earlier=1", "/runs/2/differences?earlier=4", "/drives/4Q2/sweeps",
			"/lots/1/labels", "/lots/1/labels?language=de", "/lots/1/summary?format=csv", "/labels?drive=4Q2&drive=511",
			"/drives.csv?grade=replace&medium=flash", "/runs/1/figure?format=png",
		} {
			a.ask("GET " + path)
		}
		a.book.Head("with a disk that fails")
		for _, path := range []string{
			"/bays", "/bays/1", "/plan", "/drives?limit=3", "/drives?q=kor", "/drives.csv", "/policy", "/runs", "/runs/1", "/runs/1/sweep",
			"/runs/1/figure", "/runs/3/rework", "/runs/2/differences?earlier=1", "/lots", "/lots/1", "/lots/1/summary",
			"/labels?drive=4Q2", "/intakes?limit=3", "/audit", "/audit/verification", "/drives/4Q2", "/drives/4Q2/verdict",
			"/drives/4Q2/signals",
			"/drives/4Q2/history", "/drives/4Q2/comparison", "/drives/4Q2/readings", "/drives/4Q2/readings/latest", "/drives/4Q2/dialect",
			"/drives/4Q2/siblings", "/drives/4Q2/sweeps", "/drives/4Q2/statement", "/drives/4Q2/label", "/drives/4Q2/archive",
			"/drives/4Q2/record",
		} {
			a.broken(path)
		}
		a.ask("GET /drives/nobody")
		a.ask("GET /drives/7")

		by := `"by":"Dov"`
		for _, o := range [][2]string{
			{"POST /intakes", `{"bay":"bay-1",` + by + `,"ticket":"4711","customer":"Pellwick Spit","wanted":true,"duty":"archive",` +
				`"language":"de","made":"2021-08","release":{"scope":"mend","owner":"Ms Adeyemi-Holt"}}`},
			{"POST /intakes", `{"bay":"bay-1",` + by + `,"ticket":"4711","customer":"Pellwick Spit","wanted":true,"duty":"archive",` +
				`"language":"de","made":"2021-08","release":{"scope":"mend","owner":"Ms Adeyemi-Holt"},` +
				`"instead":{"ticket":"2231","customer":"Marram Seed Library"}}`},
			{"PATCH /intakes/69", `{"ticket":"4712","customer":"Pellwick Spit tide gauge",` + by + `}`},
			{"PATCH /intakes/69", `{"ticket":"4712","complaint":"stops half-way","language":"fr","duty":"archive",` + by + `}`},
			{"PATCH /intakes/69", `{"wanted":false,` + by + `}`},
			{"PATCH /intakes/69", `{"made":"spring",` + by + `}`},
			{"PATCH /intakes/69", `{"duty":"forever",` + by + `}`},
			{"PATCH /intakes/999", `{"ticket":"4712",` + by + `}`},
			{"POST /intakes", `{"bay":"bay-9",` + by + `}`},
			{"POST /intakes", `{"bay":"bay-1"}`},
			{"POST /intakes", `{"bay":"bay-1",` + by + `,"duty":"forever"}`},
			{"POST /intakes", `{"bay":"bay-1",` + by + `,"made":"2021"}`},
			{"POST /intakes", `{`},
			{"POST /intakes", `{"bay":"bay-1",` + by + `,"colour":"red"}`},
			{"POST /drives/KVA077M4Q2/checks", `{"kind":"quick",` + by + `}`},
			{"POST /drives/KVA077M4Q2/checks", `{"kind":"quick",` + by + `,"despite":"the owner insists"}`},
			{"POST /drives/KVA077M511/checks", `{"kind":"quick",` + by + `}`},
			{"POST /bays/1/copy", `{` + by + `}`},
			{"POST /bays/2/copy", `{` + by + `}`},
			{"POST /drives/KVA077M4Q2/reworks", `{"kind":"mend","ending":"077M4Q2",` + by + `}`},
			{"PUT /drives/KVA077M4Q2/release", `{"scope":"overwrite","owner":"Ms Adeyemi-Holt",` + by + `}`},
			{"GET /drives/KVA077M4Q2/release", ""},
			{"DELETE /drives/KVA077M4Q2/release?by=Dov", ""},
			{"POST /drives/KVA077M4Q2/readings", `{` + by + `}`},
			{"POST /drives/KVA077M511/readings", `{` + by + `}`},
			{"PATCH /drives/KVA077M511/readings/2", `{"counts":false,"why":"of another drive",` + by + `}`},
			{"PATCH /drives/KVA077M511/readings/2", `{"counts":false,"why":"of another drive",` + by + `}`},
			{"PATCH /drives/KVA077M511/readings/2", `{"counts":true,"at":"2098-01-01T00:00:00Z","why":"it was not",` + by + `}`},
			{"PATCH /drives/KVA077M511/readings/2", `{"counts":true,"why":"it was not",` + by + `}`},
			{"PATCH /drives/KVA077M511/readings/latest", `{"counts":true,"why":"so",` + by + `}`},
			{"PATCH /drives/KVA077M511/readings/999", `{"counts":true,"why":"so",` + by + `}`},
			{"POST /drives/KVA077M4Q2/volumes", `{` + by + `}`},
			{"PUT /drives/KVA077M4Q2/outcome", `{"failed":true,"at":"1999-01-01T00:00:00Z","note":"head crash",` + by + `}`},
			{"PUT /drives/KVA077M4Q2/outcome", `{"failed":true,"at":"2099-01-01T00:00:00Z",` + by + `}`},
			{"GET /drives/KVA077M4Q2/outcome", ""},
			{"POST /drives/KVA077M4Q2/verdict/sign-off", `{` + by + `,"verdict":99}`},
			{"POST /drives/KVA077M4Q2/verdict/sign-off", `{` + by + `,"grade":"healthy"}`},
			{"POST /drives/KVA077M4Q2/verdict/sign-off", `{` + by + `,"grade":"degrading","reason":"a spare"}`},
			{"POST /verdicts/sign-off", `{` + by + `,"drives":["KVA077M4Q2","BWN11Q7E30"]}`},
			{"PATCH /drives/KVA077M4Q2", `{"duty":"carry",` + by + `}`},
			{"PATCH /bays/1", `{"label":"left dock",` + by + `}`},
			{"PUT /bay-order", `{"bays":["bay-3","bay-1"],` + by + `}`},
			{"PUT /bay-order", `{"bays":["bay-3","bay-3"],` + by + `}`},
			{"POST /bays/4/attempt", `{` + by + `}`},
			{"POST /bays/4/vacate", `{` + by + `}`},
			{"PUT /plan", `{"check":"quick",` + by + `}`},
			{"PUT /plan", `{"check":"none",` + by + `}`},
			{"POST /lots", `{"ticket":"2240","customer":"Quillet Ferry office","expected":3,"check":"quick",` + by + `}`},
			{"POST /lots", `{` + by + `}`},
			{"POST /lots/2/end", `{` + by + `}`},
			{"GET /lots/2", ""},
			{"GET /lots/1", ""},
			{"GET /lots/1/summary", ""},
			{"POST /policy/test", `{}`},
			{"POST /policy/test", `{"text":"rules: ["}`},
			{"POST /policy/replay", `{"text":"rules: ["}`},
			{"PUT /policy", `{"text":"rules: [","note":"wrong",` + by + `}`},
			{"POST /intakes/999/handover", `{"goes":"returned",` + by + `}`},
			{"POST /intakes/999/move", `{"bay":"bay-2",` + by + `}`},
			{"POST /runs/999/stop", `{` + by + `}`},
			{"GET /runs/999/rework", ""},
			{"GET /runs/999/figure", ""},
			{"GET /runs/1/differences?earlier=2", ""},
			{"GET /runs/1/differences", ""},
			{"POST /customers/erase", `{"customer":"Nobody",` + by + `}`},
			{"POST /redecode", `{` + by + `}`},
			{"POST /people", `{"name":"Imre","role":"technician","password":"a long one indeed"}`},
			{"POST /people", `{"name":"Dov","role":"lead","password":"a long one indeed","token":true}`},
			{"GET /drives?limit=1", ""},
			{"GET /session", ""},
			{"POST /session", `{"name":"Dov","password":"not this one"}`},
			{"POST /session", `{"name":"Dov","password":"a long one indeed"}`},
		} {
			if o[1] == "" {
				a.ask(o[0])
				continue
			}
			a.ask(o[0], o[1])
		}
		a.book.Close()
	})
}
