package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/legacy"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/api"
	"hylostat.example/internal/app"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/demo"
)

// contractual carries every request of these tests and holds every answer to openapi.yaml: its status, its kind of content, each
// field of it, and that nothing comes that the contract does not name.
type contractual struct {
	document *openapi3.T
	router   routers.Router
	carrier  http.RoundTripper

	mu     sync.Mutex
	broken map[string]error // by operation, the first answer that was not as promised
	met    map[string]bool  // operations that were answered with success
}

var held *contractual

func TestMain(m *testing.M) {
	var err error
	if held, err = newContractual(); err != nil {
		panic(err)
	}
	http.DefaultTransport = held
	code := m.Run()
	for operation, err := range held.broken {
		fmt.Fprintf(os.Stderr, "%s answered what openapi.yaml does not say: %v\n", operation, err)
		code = 1
	}
	if everything := flag.Lookup("test.run").Value.String() == ""; everything && code == 0 {
		for path, item := range held.document.Paths.Map() {
			for method, o := range item.Operations() {
				if !held.met[o.OperationID] && !strings.Contains(o.OperationID, "stream") && !strings.HasPrefix(o.OperationID, "follow") {
					fmt.Fprintf(os.Stderr, "no test sees %s %s succeed\n", method, path)
					code = 1
				}
			}
		}
	}
	os.Exit(code)
}

func newContractual() (*contractual, error) {
	document, err := openapi3.NewLoader().LoadFromData(contract.OpenAPI)
	if err != nil {
		return nil, err
	}
	document.Servers = openapi3.Servers{{URL: api.Base}}
	nothingElse := openapi3.AdditionalProperties{Has: new(false)}
	for _, s := range document.Components.Schemas {
		if v := s.Value; v.Type.Is("object") && len(v.Properties) > 0 && v.AdditionalProperties.Has == nil &&
			v.AdditionalProperties.Schema == nil {
			v.AdditionalProperties = nothingElse
		}
	}
	router, err := legacy.NewRouter(document)
	if err != nil {
		return nil, err
	}
	for _, kind := range []string{
		"application/pdf", "application/zip", "application/vnd.hylostat.record", "image/png", "image/svg+xml", "text/html", "text/csv",
	} {
		openapi3filter.RegisterBodyDecoder(kind, openapi3filter.FileBodyDecoder)
	}
	return &contractual{
		document: document,
		router:   router,
		carrier:  http.DefaultTransport,
		broken:   map[string]error{},
		met:      map[string]bool{},
	}, nil
}

// RoundTrip carries a request and looks at its answer on the way back.
func (h *contractual) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := h.carrier.RoundTrip(r)
	if err != nil || !strings.HasPrefix(r.URL.Path, api.Base+"/") || answer.Header.Get("Content-Encoding") != "" ||
		strings.HasPrefix(answer.Header.Get("Content-Type"), "text/event-stream") {
		return answer, err
	}
	here := r.Clone(r.Context())
	here.URL.Scheme, here.URL.Host = "", "" // the contract names no host
	route, parameters, err := h.router.FindRoute(here)
	if err != nil {
		return answer, nil // a test asks for what there is not
	}
	body, err := io.ReadAll(answer.Body)
	_ = answer.Body.Close()
	answer.Body = io.NopCloser(bytes.NewReader(body))
	if err != nil {
		return answer, err
	}
	err = openapi3filter.ValidateResponse(context.WithoutCancel(r.Context()), &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: r, PathParams: parameters, Route: route},
		Status:                 answer.StatusCode, Header: answer.Header, Body: io.NopCloser(bytes.NewReader(body)),
	})
	h.mu.Lock()
	defer h.mu.Unlock()
	name := route.Operation.OperationID
	if err == nil {
		h.met[name] = h.met[name] || answer.StatusCode < 300
	} else if h.broken[name] == nil {
		h.broken[name] = errors.New(strings.Join(strings.Fields(err.Error()), " "))
	}
	return answer, nil
}

// open starts the demo's shop, with all its drives.
func open(t *testing.T) *service {
	t.Helper()
	dir := t.TempDir()
	d, err := demo.New(dir, factor)
	require.NoError(t, err)
	return begin(t, app.Demo(dir, d))
}

func TestEveryQuestionIsAnsweredAsTheContractSays(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	s.answering(2)
	for range 2 { // two sweeps of one drive, to compare
		r, err := s.Check(ctx, "7M4R9", contract.CheckRequest{Kind: "spot", By: "Dov"})
		require.NoError(t, err)
		follow(s, r.Id)
	}
	_, err := s.LookAtVolumes(ctx, "7M4R9", "Dov")
	require.NoError(t, err)
	_, err = s.SetOutcome(ctx, "7M4Q2", contract.OutcomeRequest{Failed: true, At: time.Now(), By: "Dov"})
	require.NoError(t, err)
	six, key := "6h", "7M511"
	_, err = s.SetWatchPlan(ctx, contract.WatchPlanRequest{
		Plan: contract.WatchSetting{For: contract.WatchScope{Drive: &key}, Read: &six}, By: "Dov",
	})
	require.NoError(t, err)
	values := map[string][]string{
		"bay": {"1", "4", "7", "10", "13"}, "lot": {"1"}, "run": {"1", "2"}, "version": {"6"}, "reading": {"1", "3"},
		"drive": {"7M4Q2", "7M4R9", "7M511", "Q7E30", "C4502", "19Z4K", "6D41R", "1A01D", "T5A07", "3T8H6"},
	}
	needed := map[string]url.Values{"printDriveLabels": {"drive": {"7M4R9", "C4502"}}, "compareSweeps": {"earlier": {"1"}}}
	for path, item := range held.document.Paths.Map() {
		if item.Get == nil || path == "/events" || strings.HasSuffix(path, "/live") {
			continue
		}
		for _, at := range filled(path, values) {
			for _, format := range formats(item) {
				q := url.Values{}
				maps.Copy(q, needed[item.Get.OperationID])
				if format != "" {
					q.Set("format", format)
				}
				status, answer := s.raw("GET", api.Base+at+"?"+q.Encode(), "")
				assert.Less(t, status, 500, "%s %s: %s", at, format, answer)
			}
		}
		if id := item.Get.OperationID; id == "getRework" || id == "askRework" || id == "offerFactor" {
			continue // nothing is released or written and nobody signs in here: TestAMendNeeds... and TestEveryChangeHas... ask
		}
		assert.True(t, held.met[item.Get.OperationID], "%s is answered for one of the demo's drives at least", path)
	}
}

// filled gives the paths that a template stands for.
func filled(path string, values map[string][]string) []string {
	for name, all := range values {
		if before, after, found := strings.Cut(path, "{"+name+"}"); found {
			var out []string
			for _, v := range all {
				out = append(out, filled(before+v+after, values)...)
			}
			return out
		}
	}
	return []string{path}
}

// formats are those in which a question can be answered.
func formats(item *openapi3.PathItem) []string {
	for _, p := range append(slices.Clone(item.Parameters), item.Get.Parameters...) {
		if p.Value.Name == "format" {
			var out []string
			for _, f := range p.Value.Schema.Value.Enum {
				out = append(out, fmt.Sprint(f))
			}
			return out
		}
	}
	return []string{""}
}

// allowed is a value that the contract allows, or almost: one of every seven is of another kind, too long, or a number out of range.
func allowed(r *rand.Rand, s *openapi3.Schema, depth int) any {
	if r.IntN(7) == 0 {
		return [...]any{
			nil, "", -1, 1 << 62, 1.5, true, "\x00\u202e\n", strings.Repeat("ü", 500), []any{}, map[string]any{"x": 1},
		}[r.IntN(10)]
	}
	switch {
	case len(s.Enum) > 0:
		return s.Enum[r.IntN(len(s.Enum))]
	case s.Type.Is("boolean"):
		return r.IntN(2) == 0
	case s.Type.Is("integer"), s.Type.Is("number"):
		return [...]any{0, 1, 2, 5, 14, 100, 1 << 40}[r.IntN(7)]
	case s.Type.Is("array"):
		out := []any{}
		for range r.IntN(4) {
			out = append(out, allowed(r, s.Items.Value, depth+1))
		}
		return out
	case s.Type.Is("object"):
		out := map[string]any{}
		for name, p := range s.Properties {
			if depth < 4 && (slices.Contains(s.Required, name) || r.IntN(3) == 0) {
				out[name] = allowed(r, p.Value, depth+1)
			}
		}
		return out
	}
	return [...]any{
		"Dov", "2231", "Quillet Ferry office", "KVA077M4Q2", "7M4Q2", "version: 1", "2026-11-02T10:00:00Z", "ʻOkina 漢字", "%s<b>'\"",
		"replace",
	}[r.IntN(10)]
}

func TestNoRequestBreaksTheService(t *testing.T) {
	s := open(t)
	s.answering(2)
	r := rand.New(rand.NewPCG(5, 10))
	names := []string{
		"KVA077M4Q2",
		"7M4R9",
		"bay-6",
		"Q7E30",
		"19Z4K",
		"nobody",
		"%00",
		"..%2f..",
		"1",
		"0",
		"-1",
		"9223372036854775808",
		"latest",
		"é",
	}
	paths := slices.Sorted(maps.Keys(held.document.Paths.Map()))
	for range 12 {
		for _, path := range paths {
			for method, operation := range held.document.Paths.Value(path).Operations() {
				if path == "/events" || strings.HasSuffix(path, "/live") || operation.OperationID == "addPerson" {
					continue // those answer until they are left; this one closes the shop to whoever names nobody
				}
				at := regexp.MustCompile(`\{\w+\}`).ReplaceAllStringFunc(path, func(string) string { return names[r.IntN(len(names))] })
				q := url.Values{}
				for _, p := range append(slices.Clone(held.document.Paths.Value(path).Parameters), operation.Parameters...) {
					if p.Value.In == "query" && (p.Value.Required || r.IntN(3) == 0) {
						q.Add(p.Value.Name, fmt.Sprint(allowed(r, p.Value.Schema.Value, 0)))
					}
				}
				body := []byte{}
				if operation.RequestBody != nil {
					if c := operation.RequestBody.Value.Content["application/json"]; c != nil {
						var err error
						body, err = json.Marshal(allowed(r, c.Schema.Value, 0))
						require.NoError(t, err)
					}
				}
				status, answer := s.raw(method, api.Base+at+"?"+q.Encode(), string(body))
				assert.Less(t, status, 500, "%s %s?%s %s: %s", method, at, q.Encode(), body, answer)
			}
		}
	}
	_, err := s.Bays(t.Context())
	require.NoError(t, err, "it is still there")
	audit, err := s.VerifyAudit(t.Context(), "")
	require.NoError(t, err)
	assert.True(t, audit.Sound, "and nothing is lost")
}
