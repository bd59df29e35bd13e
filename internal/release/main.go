// Command release makes what is published of a version: archives for each system, packages for Debian and RPM, a container image, checksums and a bill of materials. The same
// source makes the same bytes: every time in them is that of the commit.
package main

import (
	"crypto/sha256"
	"encoding/hex"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// target is a system that the program is built for.
type target struct{ os, arch string }

var targets = []target{{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"}, {"windows", "amd64"}, {"windows", "arm64"}}

// packager is the program that makes .deb and .rpm files; it is fetched for that and is no part of the module.
const packager = "github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.44.1"

// release is a version that is published.
type release struct {
	version string // as tagged, such as v1.2.0
	plain   string // without the v
	at      time.Time
	out     string
	shared  []file // that go into every archive: the licences, the pages, the completions
	modules []module
}

// file is a file of an archive.
type file struct {
	name string
	data []byte
	mode os.FileMode
}

func main() {
	out := flag.String("out", "dist", "folder for what is made; what is in it is replaced")
	only := flag.String("only", "", "make this system only, such as linux/amd64")
	packages := flag.Bool("packages", true, "make .deb and .rpm files too")
	flag.Parse()
	if err := run(*out, *only, *packages); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

func run(out, only string, packages bool) error {
	r := &release{out: out}
	if err := r.describe(); err != nil {
		return err
	}
	if err := os.RemoveAll(out); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(out, "build"), 0o755); err != nil {
		return err
	}
	if err := r.collect(); err != nil {
		return err
	}
	made := map[target]string{}
	for _, t := range targets {
		if only != "" && only != t.os+"/"+t.arch {
			continue
		}
		path, err := r.build(t)
		if err != nil {
			return err
		}
		made[t] = path
		if err := r.archive(t, path); err != nil {
			return err
		}
	}
	if err := r.image(made); err != nil {
		return err
	}
	for _, arch := range []string{"amd64", "arm64"} {
		path, ok := made[target{"linux", arch}]
		if !ok || !packages {
			continue
		}
		if err := r.pack(arch, path); err != nil {
			return err
		}
	}
	if err := r.write(fmt.Sprintf("verdex-%s.spdx.json", r.plain), r.bill()); err != nil {
		return err
	}
	if err := os.RemoveAll(filepath.Join(out, "build")); err != nil {
		return err
	}
	return r.sums()
}

// describe takes the version and its time from git, or, where the source is no checkout, from VERSION and SOURCE_DATE_EPOCH.
func (r *release) describe() error {
	r.version = os.Getenv("VERSION")
	if r.version == "" {
		text, err := output("git", "describe", "--tags", "--always")
		if err != nil {
			return fmt.Errorf("the version is not known (%w): give it as VERSION", err)
		}
		r.version = text
	}
	r.plain = strings.TrimPrefix(r.version, "v")
	if r.plain == "" || r.plain[0] < '0' || r.plain[0] > '9' { // before the first tag: packages need a number first
		r.plain = "0.0.0+" + r.plain
	}
	seconds := os.Getenv("SOURCE_DATE_EPOCH")
	if seconds == "" {
		var err error
		if seconds, err = output("git", "log", "-1", "--format=%ct"); err != nil {
			return fmt.Errorf("the time of the version is not known (%w): give it as SOURCE_DATE_EPOCH", err)
		}
	}
	n, err := strconv.ParseInt(seconds, 10, 64)
	if err != nil {
		return fmt.Errorf("SOURCE_DATE_EPOCH is %q, and has to be seconds since 1970", seconds)
	}
	r.at = time.Unix(n, 0).UTC()
	return nil
}

func output(name string, args ...string) (string, error) {
	out, err := exec.Command(name, args...).Output()
	return strings.TrimSpace(string(out)), err
}

// keepApart keeps the compiler from fusing products and sums on processors that can, so that results have the same digits on all.
const keepApart = "-gcflags=all=-d=fmahash=n"

// build builds the program for a system.
func (r *release) build(t target) (string, error) {
	path := filepath.Join(r.out, "build", t.os+"-"+t.arch, "verdex")
	if t.os == "windows" {
		path += ".exe"
	}
	arguments := []string{"build", "-trimpath"}
	if t.arch != "amd64" {
		arguments = append(arguments, keepApart)
	}
	c := exec.Command("go", append(arguments, "-ldflags", "-s -w -buildid= -X main.version="+r.version, "-o", path, "./cmd/verdex")...)
	c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+t.os, "GOARCH="+t.arch, "GOAMD64=v1", "GOARM64=v8.0")
	if text, err := c.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%s/%s: %w\n%s", t.os, t.arch, err, text)
	}
	return path, nil
}

func (r *release) write(name string, data []byte) error {
	return os.WriteFile(filepath.Join(r.out, name), data, 0o644)
}

// sums lists the checksums of all that was made.
func (r *release) sums() error {
	list, err := os.ReadDir(r.out)
	if err != nil {
		return err
	}
	var b strings.Builder
	for _, e := range list {
		data, err := os.ReadFile(filepath.Join(r.out, e.Name()))
		if err != nil {
			return err
		}
		sum := sha256.Sum256(data)
		fmt.Fprintf(&b, "%s  %s\n", hex.EncodeToString(sum[:]), e.Name())
		fmt.Printf("%10d  %s\n", len(data), e.Name())
	}
	return r.write("SHA256SUMS", []byte(b.String()))
}

// collect gathers what goes into every archive.
func (r *release) collect() error {
	var err error
	if r.modules, err = modules(); err != nil {
		return err
	}
	licences, err := r.licences()
	if err != nil {
		return err
	}
	r.shared = []file{{"LICENCES.txt", licences, 0o644}}
	for _, name := range []string{"LICENSE", "README.md"} {
		data, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		r.shared = append(r.shared, file{name, data, 0o644})
	}
	pages, err := filepath.Glob("docs/man/*.1")
	if err != nil || len(pages) == 0 {
		return fmt.Errorf("docs/man has no pages: run go generate ./internal/cli")
	}
	for _, p := range pages {
		data, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		r.shared = append(r.shared, file{"man/" + filepath.Base(p), data, 0o644})
	}
	for source, name := range completions {
		data, err := os.ReadFile(filepath.Join("internal/cli", source))
		if err != nil {
			return err
		}
		r.shared = append(r.shared, file{"completions/" + name, data, 0o644})
	}
	slices.SortFunc(r.shared, func(a, b file) int { return strings.Compare(a.name, b.name) })
	return nil
}

// completions are the scripts for shells, and what they are called in an archive.
var completions = map[string]string{"completion.bash": "verdex.bash", "completion.zsh": "_verdex", "completion.fish": "verdex.fish", "completion.ps1": "verdex.ps1"}
