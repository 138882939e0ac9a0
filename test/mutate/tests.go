package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// pack is what the go command tells of a package.
type pack struct {
	ImportPath, Dir, Root                    string
	GoFiles, TestGoFiles, XTestGoFiles       []string
	Deps, Imports, TestImports, XTestImports []string
	Module                                   struct{ Dir string }
}

func (p pack) tested() bool { return len(p.TestGoFiles)+len(p.XTestGoFiles) > 0 }

// house is the packages that are changed, and all whose tests can be asked.
type house struct {
	area []pack
	all  map[string]pack
}

func list(ctx context.Context, patterns []string) ([]pack, error) {
	out, err := exec.CommandContext(ctx, "go", append([]string{"list", "-json"}, patterns...)...).Output()
	if err != nil {
		if e, ok := errors.AsType[*exec.ExitError](err); ok {
			err = fmt.Errorf("go list %s: %s", strings.Join(patterns, " "), bytes.TrimSpace(e.Stderr))
		}
		return nil, err
	}
	var all []pack
	for d := json.NewDecoder(bytes.NewReader(out)); ; {
		var p pack
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return all, nil
		} else if err != nil {
			return nil, err
		}
		p.Root = p.Module.Dir
		all = append(all, p)
	}
}

func load(ctx context.Context, areas, tests []string) (*house, error) {
	h := &house{all: map[string]pack{}}
	var err error
	if h.area, err = list(ctx, areas); err != nil {
		return nil, err
	}
	all, err := list(ctx, tests)
	for _, p := range all {
		h.all[p.ImportPath] = p
	}
	return h, err
}

// users are the packages whose tests reach a package, those that stand closest to it first.
func (h *house) users(of string) []string {
	var found []pack
	for _, p := range h.all {
		if p.ImportPath == of || !p.tested() {
			continue
		}
		reaches := slices.Contains(p.Deps, of)
		for _, i := range slices.Concat(p.TestImports, p.XTestImports) {
			reaches = reaches || i == of || slices.Contains(h.all[i].Deps, of)
		}
		if reaches {
			found = append(found, p)
		}
	}
	slices.SortFunc(found, func(a, b pack) int { return len(a.Deps) - len(b.Deps) })
	names := make([]string, len(found))
	for i, p := range found {
		names[i] = p.ImportPath
	}
	return names
}

const doesNotCompile = "does not compile"

// try makes a change and asks the tests. It gives who noticed, "" when nobody did.
func (h *house) try(ctx context.Context, s site, limit time.Duration) (by string, err error) {
	dir, err := os.MkdirTemp("", "mutate")
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	text, err := os.ReadFile(s.file)
	if err != nil {
		return "", err
	}
	changed := filepath.Join(dir, "changed.go")
	if err := os.WriteFile(changed, slices.Concat(text[:s.begin], []byte(s.with), text[s.end:]), 0o600); err != nil {
		return "", err
	}
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {s.file: changed}})
	if err != nil {
		return "", err
	}
	file := filepath.Join(dir, "overlay.json")
	if err := os.WriteFile(file, overlay, 0o600); err != nil {
		return "", err
	}
	if exec.CommandContext(ctx, "go", "build", "-overlay", file, s.pkg).Run() != nil {
		return doesNotCompile, nil
	}
	asked := [][]string{}
	if s.tested {
		asked = append(asked, []string{s.pkg})
	}
	if users := h.users(s.pkg); len(users) > 0 {
		asked = append(asked, users[:min(4, len(users))])
		if len(users) > 4 {
			asked = append(asked, users[4:])
		}
	}
	for _, packages := range asked {
		args := append([]string{"test", "-overlay", file, "-count=1", "-failfast", "-vet=off", "-timeout", limit.String()}, packages...)
		out, err := exec.CommandContext(ctx, "go", args...).CombinedOutput()
		if err == nil {
			continue
		}
		for line := range strings.Lines(string(out)) {
			if what, failed := strings.CutPrefix(strings.TrimSpace(line), "--- FAIL: "); failed {
				by, _, _ = strings.Cut(what, " ")
				return by, nil
			}
		}
		return "the run of its tests ended", nil
	}
	return "", nil
}
