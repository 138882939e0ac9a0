// Package watchfile reads and writes plans, known flaws and routes as one YAML file, as its published schema (docs/reference/
// watch.schema.json) says. It knows nothing of a service. Start with Read.
package watchfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v3"

	"hylostat.example/internal/contract"
)

// mostBytes bounds a file.
const mostBytes = 16 << 20

// parts are the schemas of the contract that a file is made of.
var parts = []string{"WatchFile", "WatchSetting", "WatchScope", "WatchWindow", "AcceptedSetting", "RouteSetting", "Severity", "Duty"}

// Schema is the schema of files: JSON Schema 2020-12, made of the contract's.
var Schema = sync.OnceValues(func() ([]byte, error) {
	var document struct {
		Components struct {
			Schemas map[string]any
		}
	}
	if err := yaml.Unmarshal(contract.OpenAPI, &document); err != nil {
		return nil, fmt.Errorf("the contract: %w", err)
	}
	all := map[string]any{}
	for name, s := range document.Components.Schemas {
		if slices.Contains(parts, name) {
			all[name] = s
		}
	}
	return json.MarshalIndent(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": "urn:hylostat:watch:1",
		"title": "Hylostat watch file, version 1", "$ref": "#/components/schemas/WatchFile",
		"components": map[string]any{"schemas": all},
	}, "", "  ")
})

var compiled = sync.OnceValues(func() (*jsonschema.Schema, error) {
	text, err := Schema()
	if err != nil {
		return nil, err
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("urn:hylostat:watch:1", document); err != nil {
		return nil, err
	}
	return c.Compile("urn:hylostat:watch:1")
})

// Read reads a file. What does not fit its schema is told with where it stands.
func Read(r io.Reader) (f contract.WatchFile, err error) {
	text, err := io.ReadAll(io.LimitReader(r, mostBytes+1))
	if err != nil {
		return f, fmt.Errorf("reading the file: %w", err)
	}
	if len(text) > mostBytes {
		return f, fmt.Errorf("the file is larger than %d MB", mostBytes>>20)
	}
	var said any
	if err := yaml.Unmarshal(text, &said); err != nil {
		return f, fmt.Errorf("that is no YAML: %w", err)
	}
	body, err := json.Marshal(said)
	if err != nil {
		return f, fmt.Errorf("that is no file of ours: %w", err)
	}
	schema, err := compiled()
	if err != nil {
		return f, err
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err != nil {
		return f, err
	}
	if wrong, ok := errors.AsType[*jsonschema.ValidationError](schema.Validate(document)); ok {
		return f, errors.New(where(wrong))
	}
	return f, json.Unmarshal(body, &f)
}

// where is the innermost thing that does not fit, with its place: "plans/0/read: got number, want string".
func where(e *jsonschema.ValidationError) string {
	for len(e.Causes) > 0 {
		e = e.Causes[0]
	}
	place := strings.Join(e.InstanceLocation, "/")
	if place == "" {
		place = "the file"
	}
	words := e.Error()
	if _, after, ok := strings.Cut(words, "': "); ok {
		words = after
	}
	return place + ": " + words
}

// Write writes a file.
func Write(w io.Writer, f contract.WatchFile) error {
	body, err := json.Marshal(f)
	if err != nil {
		return err
	}
	var n yaml.Node // JSON is YAML: the members stay in their order
	if err := yaml.Unmarshal(body, &n); err != nil {
		return err
	}
	plain(&n)
	if _, err := io.WriteString(w, "# Plans, known flaws and routes. Secrets are not in it.\n"); err != nil {
		return err
	}
	e := yaml.NewEncoder(w)
	e.SetIndent(2)
	return errors.Join(e.Encode(&n), e.Close())
}

// plain has nodes written in YAML's own way, not in JSON's.
func plain(n *yaml.Node) {
	n.Style = 0
	for _, c := range n.Content {
		plain(c)
	}
}
