package main

import (
	"bytes"
	"debug/buildinfo"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	spdxjson "github.com/spdx/tools-golang/json"
	"github.com/spdx/tools-golang/spdx"
	"github.com/spdx/tools-golang/spdx/v2/common"
)

// part is a library that is in the program.
type part struct{ name, version, url, sum string }

// bill is the program's bill of materials, SPDX 2.3 in JSON: the modules that its own build information lists, and the packages of the
// console, as its lock file has them.
func (j *job) bill() ([]byte, error) {
	parts, err := modules(j.program)
	if err != nil {
		return nil, err
	}
	packages, err := j.packages()
	if err != nil {
		return nil, err
	}
	parts = append(parts, packages...)
	slices.SortFunc(parts, func(a, b part) int { return strings.Compare(a.url, b.url) })
	doc := &spdx.Document{
		SPDXVersion: spdx.Version, DataLicense: spdx.DataLicense, SPDXIdentifier: "DOCUMENT",
		DocumentName:      fmt.Sprintf("hylostat-%s-%s", j.version, j.arch),
		DocumentNamespace: fmt.Sprintf("https://hylostat.example/sbom/%s/%s", j.version, j.arch),
		CreationInfo: &spdx.CreationInfo{
			Created: j.at.Format("2006-01-02T15:04:05Z"), Creators: []common.Creator{{CreatorType: "Tool", Creator: "hylostat-packaging"}},
		},
	}
	add := func(p part) common.ElementID {
		id := common.ElementID("Package-" + regexp.MustCompile(`[^A-Za-z0-9.]+`).ReplaceAllString(p.name+"-"+p.version, "-"))
		one := &spdx.Package{
			PackageName: p.name, PackageSPDXIdentifier: id, PackageVersion: p.version, PackageDownloadLocation: "NOASSERTION",
			PackageLicenseConcluded: "NOASSERTION", PackageLicenseDeclared: "NOASSERTION", PackageCopyrightText: "NOASSERTION",
		}
		if p.url != "" {
			one.PackageExternalReferences = []*spdx.PackageExternalReference{
				{Category: common.CategoryPackageManager, RefType: common.TypePackageManagerPURL, Locator: p.url},
			}
			one.PackageComment = p.sum
		}
		doc.Packages = append(doc.Packages, one)
		return id
	}
	relate := func(a, b common.ElementID, how string) {
		doc.Relationships = append(doc.Relationships, &spdx.Relationship{
			RefA: common.MakeDocElementID("", string(a)), RefB: common.MakeDocElementID("", string(b)), Relationship: how,
		})
	}
	self := add(part{name: "hylostat", version: j.version})
	relate("DOCUMENT", self, common.TypeRelationshipDescribe)
	for _, p := range parts {
		relate(self, add(p), common.TypeRelationshipContains)
	}
	var b bytes.Buffer
	if err := spdxjson.Write(doc, &b, spdxjson.Indent("  ")); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// modules are those a program was built of.
func modules(program string) (all []part, err error) {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return nil, fmt.Errorf("reading what %s is built of: %w", program, err)
	}
	all = append(all, part{name: "go", version: strings.TrimPrefix(info.GoVersion, "go"), url: "pkg:golang/std@" + info.GoVersion})
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		all = append(all, part{m.Path, m.Version, "pkg:golang/" + m.Path + "@" + m.Version, m.Sum})
	}
	return all, nil
}

// packages are those whose code is in the console.
func (j *job) packages() (all []part, err error) {
	body, err := os.ReadFile(filepath.Join(j.root, "console", "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version   string `json:"version"`
			Integrity string `json:"integrity"`
			Dev       bool   `json:"dev"`
			Optional  bool   `json:"optional"`
		} `json:"packages"`
	}
	if err := json.Unmarshal(body, &lock); err != nil {
		return nil, fmt.Errorf("reading the console's lock file: %w", err)
	}
	for place, p := range lock.Packages {
		_, name, ok := strings.Cut(place, "node_modules/")
		if i := strings.LastIndex(name, "node_modules/"); i >= 0 {
			name = name[i+len("node_modules/"):]
		}
		if ok && !p.Dev && !p.Optional {
			all = append(all, part{name, p.Version, "pkg:npm/" + strings.Replace(name, "@", "%40", 1) + "@" + p.Version, p.Integrity})
		}
	}
	return all, nil
}
