package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"testing/synctest"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/access"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/record"
	"hylostat.example/internal/sqlite"
)

func TestEveryErrorBecomesAProblemWithWhatToDo(t *testing.T) {
	for name, row := range map[string]struct {
		err    error
		status int
	}{
		"none":           {&shop.NotFound{What: "x", Advice: "y"}, 404},
		"not understood": {&shop.Invalid{What: "x", Advice: "y"}, 400},
		"not now":        {&shop.Conflict{What: "x", Advice: "y"}, 409},
		"refused":        {&protocol.Refusal{Class: drive.FaultStuck, What: "x", Advice: "y"}, 409},
		"no such bay":    {&protocol.Refusal{Class: drive.FaultNotRead, What: "x", Advice: "y"}, 409},
		"no room":        {&sqlite.FullError{Path: "shop.db"}, 507},
		"too large":      {echo.ErrStatusRequestEntityTooLarge, 413},
		"anything":       {errors.New("a secret of the machine"), 500},
	} {
		p := asProblem(row.err)
		assert.Equal(t, row.status, p.Status, name)
		assert.NotNil(t, p.Advice, name)
		assert.NotContains(t, p.Detail, "secret", name)
	}
}

func TestWhatIsNotKnownIsLeftOut(t *testing.T) {
	d, err := json.Marshal(driveOf(shop.Drive{Identity: drive.Identity{Key: drive.Key{Model: "M", Serial: "S"}}}))
	require.NoError(t, err)
	for _, field := range []string{
		"bytes", "hours", "temperature", "rotation_rate", "link_now", "wwn", "bay", "last_read", "logical_sector",
	} {
		assert.NotContains(t, string(d), `"`+field+`"`)
	}
	known := driveOf(shop.Drive{Now: shop.Now{HasHours: true, HasTemp: true, Readings: 1}})
	require.NotNil(t, known.Hours)
	assert.Zero(t, *known.Hours, "0 hours are known hours")

	s := signalOf(record.Course{Definition: signal.Registry[0], Value: signal.Missing("the drive has none")})
	assert.Nil(t, s.Value)
	assert.Equal(t, "the drive has none", *s.Reason)
	zero := signalOf(record.Course{Definition: signal.Registry[0], Value: signal.Value{Available: true}})
	require.NotNil(t, zero.Value)

	r := readingOf(
		shop.Drive{},
		shop.Reading{
			Pages: []reading.Page{
				{Name: reading.PageAttributes, Fault: &drive.Fault{Class: drive.FaultSwitchedOff, Cause: "SMART is switched off"}},
			},
		},
		true,
	)
	assert.Nil(t, r.ErrorTotal)
	assert.Nil(t, r.Pages[0].Size)
	assert.Equal(t, "SMART is switched off", r.Pages[0].Fault.Back)
	assert.NotEmpty(t, r.Faults[0].Advice)
}

func TestThePageCarriesItsNonceAndPathsAreItsOwn(t *testing.T) {
	files := fstest.MapFS{"index.html": {Data: []byte(`<meta nonce="{{nonce}}">`)}, "assets/a.js": {Data: []byte("1")}}
	console, err := newConsole(files, "")
	require.NoError(t, err)
	e := echo.New()
	e.GET("/*", console.serve)
	get := func(path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		e.ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, http.NoBody))
		return w
	}
	one, two := get("/drives/KVA077M511"), get("/")
	assert.Equal(t, 200, one.Code)
	assert.NotEqual(t, one.Body.String(), two.Body.String(), "a nonce is used once")
	nonce := one.Body.String()[len(`<meta nonce="`):]
	assert.Contains(t, one.Header().Get("Content-Security-Policy"), "'nonce-"+nonce[:len(nonce)-2]+"'")
	assert.Contains(t, one.Header().Get("Content-Security-Policy"), "default-src 'none'")
	assert.Contains(t, get("/assets/a.js").Header().Get("Cache-Control"), "immutable")
	assert.NotEqual(t, 200, get("/assets/none.js").Code, "a missing file is not the page")
	assert.NotContains(t, get("/assets/../../etc/passwd").Body.String(), "root:", "there is no way out of the files")

	// What is no page of the console is not answered with it; what is, is.
	routes, err := os.ReadFile("../../console/src/routes.tsx")
	require.NoError(t, err)
	var roots []string
	for _, route := range regexp.MustCompile(`path: "/([^/"]*)`).FindAllStringSubmatch(string(routes), -1) {
		roots = append(roots, route[1])
		assert.Equal(t, 200, get("/"+route[1]).Code, route[1])
	}
	assert.ElementsMatch(t, pages, slices.Compact(slices.Sorted(slices.Values(roots))))
	for _, path := range []string{"/drive", "/healthz/x", "/api", "/index.html", "/openapi.yml", "/favicon.ico"} {
		assert.NotContains(t, get(path).Body.String(), "<meta nonce=", path)
	}
}

// Whoever adds an operation that changes something says in the contract who may do it.
func TestEveryChangeHasARole(t *testing.T) {
	document, err := openapi3.NewLoader().LoadFromData(contract.OpenAPI)
	require.NoError(t, err)
	for path, item := range document.Paths.Map() {
		for method, operation := range item.Operations() {
			role, has := operation.Extensions["x-role"].(string)
			assert.True(t, has || method == http.MethodGet, "%s %s has no x-role", method, path)
			if has {
				assert.True(t, role == "anyone" || access.Role(role).Valid(), "%s %s: x-role %q", method, path, role)
			}
		}
	}
	assert.Equal(t, "desk", demandOf(nil, http.MethodGet, "").role)
	assert.Equal(t, "lead", demandOf(nil, http.MethodPost, "").role, "what is forgotten is forbidden")
}

func TestASegmentSaysOfEachCellHowFastAndHowBadItIs(t *testing.T) {
	g := surface.Geometry{Sectors: 40 * surface.Cells, Logical: 512, Physical: 512}
	r := surface.NewRibbon(g)
	block := r.Block(1)
	block[0] = surface.Cell{Bytes: 20_480, Took: 100 * time.Microsecond, Worst: 2}
	block[3] = surface.Cell{Unread: 2, Bytes: 19_456, Took: time.Second}
	all, err := segmentsOf(surface.NewRibbon(g), []check.Block{{Number: 1, Cells: r.PackBlock(1)}})
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, surface.BlockCells, all[0].First)
	assert.Equal(t, "2--0"+strings.Repeat("-", surface.BlockCells-4), all[0].Classes)
	assert.Equal(t, []int{204_800, 0, 0, 19}, all[0].Speeds[:4], "kB/s")
	assert.Equal(t, []contract.RibbonUnread{{Cell: surface.BlockCells + 3, Sectors: 2}}, all[0].Unread)
	_, err = segmentsOf(surface.NewRibbon(g), []check.Block{{Number: 1, Cells: []byte("x")}})
	assert.Error(t, err)
}

func TestEachLaneOfCostlyWorkHasItsOwnTurns(t *testing.T) {
	document, err := openapi3.NewLoader().LoadFromData(contract.OpenAPI)
	require.NoError(t, err)
	found := map[string]bool{}
	for path, item := range document.Paths.Map() {
		for method, operation := range item.Operations() {
			if lane := laneOf(operation.Extensions); lane != "" {
				found[lane] = true
				assert.Positive(t, lanes[lane], "%s %s is of lane %q", method, path, lane)
			}
		}
	}
	assert.Len(t, found, len(lanes))
	synctest.Test(t, func(t *testing.T) {
		turns := newTurnstile()
		asks := func() *echo.Context {
			return echo.New().NewContext(httptest.NewRequest(http.MethodGet, "/", http.NoBody), httptest.NewRecorder())
		}
		replays, err := turns.pass(asks(), "Maud", "long")
		require.NoError(t, err)
		label, err := turns.pass(asks(), "Imre", "papers")
		require.NoError(t, err, "no label waits for a replay")
		label()
		began := time.Now()
		_, err = turns.pass(asks(), "Imre", "long")
		assert.Equal(t, http.StatusTooManyRequests, asProblem(err).Status)
		assert.Equal(t, costlyPatient, time.Since(began), "it waited for its turn")
		replays()
		again, err := turns.pass(asks(), "Imre", "long")
		require.NoError(t, err)
		again()
		assert.Empty(t, turns.by, "nobody is remembered")
	})
}
