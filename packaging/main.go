// Command packaging makes of a built program what is installed: a Debian package and a tarball with units, settings, manual and completion,
// the bill of materials, the sums. What is in a package depends on the sources alone: every file has the time it is given.
package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"embed"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/goreleaser/nfpm/v2"
	"github.com/goreleaser/nfpm/v2/deb"
	nfpmfiles "github.com/goreleaser/nfpm/v2/files"
	docs "github.com/urfave/cli-docs/v3"

	"hylostat.example/internal/cli"
)

//go:embed files
var files embed.FS

// job is what is packaged.
type job struct {
	out     string // folder
	version string
	arch    string // Go's name for it
	program string // file: the program for that machine
	runs    string // file: the program for this machine
	root    string // of the project
	at      time.Time
}

// file is one file of what is installed.
type file struct {
	path string
	mode fs.FileMode
	body []byte
	kind string // of nfpm; empty: a plain file
}

func main() {
	var j job
	var at int64
	flag.StringVar(&j.out, "out", "build/package", "folder for what is made")
	flag.StringVar(&j.version, "version", "0.1.0", "of the package")
	flag.StringVar(&j.arch, "arch", "amd64", "of the program")
	flag.StringVar(&j.program, "program", "", "file")
	flag.StringVar(&j.runs, "runs", "", "the program for this machine, which writes its completion")
	flag.StringVar(&j.root, "root", "..", "of the project")
	flag.Int64Var(&at, "at", 0, "time of every file, seconds since 1970")
	sums := flag.Bool("sums", false, "write the sums of all that is in the folder, and nothing else")
	flag.Parse()
	j.at = time.Unix(at, 0).UTC()
	do := j.make
	if *sums {
		do = j.sums
	}
	if err := do(); err != nil {
		fmt.Fprintln(os.Stderr, "packaging:", err)
		os.Exit(1)
	}
}

func (j *job) make() error {
	all, err := j.files()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(j.out, 0o755); err != nil {
		return err
	}
	name := fmt.Sprintf("hylostat_%s_%s", j.version, j.arch)
	bill, err := j.bill()
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(j.out, name+".spdx.json"), bill, 0o644); err != nil {
		return err
	}
	all = append(all, file{path: "/usr/share/doc/hylostat/sbom.spdx.json", mode: 0o644, body: bill})
	if err := j.tarball(filepath.Join(j.out, name+".tar.gz"), all); err != nil {
		return err
	}
	return j.debian(filepath.Join(j.out, name+".deb"), all)
}

// files are all that is installed.
func (j *job) files() (all []file, err error) {
	add := func(path string, mode fs.FileMode, body []byte, wrong error) {
		all, err = append(all, file{path: path, mode: mode, body: body}), errors.Join(err, wrong)
	}
	body, wrong := os.ReadFile(j.program)
	add("/usr/bin/hylostat", 0o755, body, wrong)
	for from, to := range map[string]string{
		"hylostat.service": "/usr/lib/systemd/system/", "hylostat-bench.service": "/usr/lib/systemd/system/", "hylostat.yaml": "/etc/hylostat/",
	} {
		body, wrong := files.ReadFile("files/" + from)
		add(to+from, 0o644, body, wrong)
	}
	manual, wrong := docs.ToManWithSection(cli.New(cli.Starters{Version: j.version}), 1)
	add("/usr/share/man/man1/hylostat.1.gz", 0o644, packed([]byte(manual)), wrong)
	for shell, to := range map[string]string{
		"bash": "/usr/share/bash-completion/completions/hylostat", "zsh": "/usr/share/zsh/vendor-completions/_hylostat",
		"fish": "/usr/share/fish/vendor_completions.d/hylostat.fish",
	} {
		body, wrong := exec.Command(j.runs, "completion", shell).Output()
		add(to, 0o644, body, wrong)
	}
	body, wrong = os.ReadFile(filepath.Join(j.root, "LICENSE"))
	add("/usr/share/doc/hylostat/copyright", 0o644, body, wrong)
	body, wrong = os.ReadFile(filepath.Join(j.root, "CHANGELOG.md"))
	add("/usr/share/doc/hylostat/changelog.gz", 0o644, packed(body), wrong)
	for _, name := range []string{
		"operating.md", "policy.md", "people.md", "security.md", "rework.md", "handover.md", "sweeps.md", "glossary.md",
		"how-to/back-up-and-restore.md",
	} {
		body, wrong := os.ReadFile(filepath.Join(j.root, "docs", name))
		add("/usr/share/doc/hylostat/"+name, 0o644, body, wrong)
	}
	slices.SortFunc(all, func(a, b file) int { return strings.Compare(a.path, b.path) })
	return all, err
}

func packed(body []byte) []byte {
	var b bytes.Buffer
	z, _ := gzip.NewWriterLevel(&b, gzip.BestCompression) // it knows that level
	_, _ = z.Write(body)                                  // into memory
	_ = z.Close()
	return b.Bytes()
}

func (j *job) debian(to string, all []file) (err error) {
	dir, err := os.MkdirTemp("", "hylostat-package-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	place := func(f file) (string, error) {
		at := filepath.Join(dir, f.path)
		return at, errors.Join(os.MkdirAll(filepath.Dir(at), 0o755), os.WriteFile(at, f.body, f.mode))
	}
	var contents nfpmfiles.Contents
	for _, f := range all {
		at, err := place(f)
		if err != nil {
			return err
		}
		c := &nfpmfiles.Content{
			Source: at, Destination: f.path, FileInfo: &nfpmfiles.ContentFileInfo{Mode: f.mode, MTime: j.at, Owner: "root", Group: "root"},
		}
		if strings.HasPrefix(f.path, "/etc/") {
			c.Type = nfpmfiles.TypeConfigNoReplace
		}
		contents = append(contents, c)
	}
	script := func(name string) string {
		body, wrong := files.ReadFile("files/" + name)
		at, another := place(file{path: "/scripts/" + name, mode: 0o755, body: body})
		err = errors.Join(err, wrong, another)
		return at
	}
	info := nfpm.WithDefaults(&nfpm.Info{
		Name: "hylostat", Arch: j.arch, Platform: "linux", Version: j.version, Section: "admin", Priority: "optional", MTime: j.at,
		Maintainer: "Hylostat <packages@hylostat.example>",
		Description: "knows for every drive on the bench whether it is healthy, degrading or must be replaced\n" +
			" Service, command line and console for a shop that repairs computers: readings and\n" +
			" self-tests of ATA, NVMe and SCSI drives over time, sweeps of their surfaces, verdicts\n" +
			" with reasons, papers for their owners.",
		License: "see copyright",
		Overridables: nfpm.Overridables{
			Depends: []string{"passwd", "util-linux"}, Recommends: []string{"systemd"},
			Suggests: []string{"e2fsprogs", "ntfs-3g", "dosfstools", "exfatprogs"},
			Contents: contents,
			Scripts:  nfpm.Scripts{PostInstall: script("postinst"), PreRemove: script("prerm"), PostRemove: script("postrm")},
		},
	})
	if err != nil {
		return err
	}
	if err := nfpm.PrepareForPackager(info, "deb"); err != nil {
		return err
	}
	return written(to, func(w io.Writer) error { return deb.Default.Package(info, w) })
}

// tarball is what is installed, below a folder of its own.
func (j *job) tarball(to string, all []file) error {
	return written(to, func(w io.Writer) error {
		z := gzip.NewWriter(w)
		t := tar.NewWriter(z)
		for _, f := range all {
			err := t.WriteHeader(&tar.Header{
				Name: path.Join("hylostat-"+j.version, f.path), Mode: int64(f.mode.Perm()), Size: int64(len(f.body)), ModTime: j.at,
			})
			if err != nil {
				return err
			}
			if _, err := t.Write(f.body); err != nil {
				return err
			}
		}
		return errors.Join(t.Close(), z.Close())
	})
}

func written(to string, write func(w io.Writer) error) error {
	f, err := os.Create(to)
	if err != nil {
		return err
	}
	return errors.Join(write(f), f.Close())
}

// sums writes the SHA-256 of all that is in the folder, as sha256sum checks them.
func (j *job) sums() error {
	all, err := os.ReadDir(j.out)
	if err != nil {
		return err
	}
	var text strings.Builder
	for _, one := range all {
		if one.IsDir() || one.Name() == "SHA256SUMS" {
			continue
		}
		body, err := os.ReadFile(filepath.Join(j.out, one.Name()))
		if err != nil {
			return err
		}
		fmt.Fprintf(&text, "%x  %s\n", sha256.Sum256(body), one.Name())
	}
	return os.WriteFile(filepath.Join(j.out, "SHA256SUMS"), []byte(text.String()), 0o644)
}
