package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"
)

// module is a module that is part of the program.
type module struct{ path, version, dir string }

// modules are those of the packages that the program is built of, on any of its systems.
func modules() (out []module, err error) {
	for _, t := range targets {
		c := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}}\t{{.Version}}\t{{.Dir}}{{end}}{{end}}", "./cmd/verdex")
		c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+t.os, "GOARCH="+t.arch)
		text, err := c.Output()
		if err != nil {
			return nil, fmt.Errorf("go list: %w", err)
		}
		for line := range strings.Lines(string(text)) {
			f := strings.Split(strings.TrimSpace(line), "\t")
			if len(f) == 3 {
				m := module{f[0], f[1], f[2]}
				if !slices.Contains(out, m) {
					out = append(out, m)
				}
			}
		}
	}
	slices.SortFunc(out, func(a, b module) int { return strings.Compare(a.path, b.path) })
	return out, nil
}

// licenceName is what files with terms are called.
var licenceName = regexp.MustCompile(`(?i)^((un)?licen[cs]e|copying|notice|ofl)([-._].*)?$`)

// licences are the terms of all modules and of Go itself, one after another; a module without any is an error.
func (r *release) licences() ([]byte, error) {
	var b bytes.Buffer
	b.WriteString("Verdex is under the terms of the file LICENSE. It is built of what follows, each under its own terms.\n")
	add := func(title, dir string) error {
		list, err := os.ReadDir(dir)
		if err != nil {
			return err
		}
		found := false
		for _, e := range list {
			if e.IsDir() || !licenceName.MatchString(e.Name()) {
				continue
			}
			data, err := os.ReadFile(filepath.Join(dir, e.Name()))
			if err != nil {
				return err
			}
			found = true
			fmt.Fprintf(&b, "\n%s\n%s: %s\n%s\n\n%s\n", strings.Repeat("=", 80), title, e.Name(), strings.Repeat("=", 80), strings.TrimSpace(strings.ReplaceAll(string(data), "\r\n", "\n")))
		}
		if !found {
			return fmt.Errorf("%s: no file in %s states its terms", title, dir)
		}
		return nil
	}
	root, err := output("go", "env", "GOROOT")
	if err != nil {
		return nil, err
	}
	if err := add("Go "+runtime.Version(), root); err != nil {
		return nil, err
	}
	if err := add("tables of the EPSG dataset", "core/earth/registry"); err != nil {
		return nil, err
	}
	for _, m := range r.modules {
		if err := add(m.path+" "+m.version, m.dir); err != nil {
			return nil, err
		}
	}
	return b.Bytes(), nil
}

// bill is the bill of materials, as SPDX 2.3.
func (r *release) bill() []byte {
	type object = map[string]any
	packages := []object{{"SPDXID": "SPDXRef-verdex", "name": "verdex", "versionInfo": r.version, "downloadLocation": "NOASSERTION", "filesAnalyzed": false, "licenseDeclared": "Apache-2.0", "primaryPackagePurpose": "APPLICATION"}}
	relations := []object{{"spdxElementId": "SPDXRef-DOCUMENT", "relationshipType": "DESCRIBES", "relatedSpdxElement": "SPDXRef-verdex"}}
	name := regexp.MustCompile(`[^A-Za-z0-9.-]+`)
	sum := sha256.New()
	for _, m := range append([]module{{"std", strings.TrimPrefix(runtime.Version(), "go"), ""}}, r.modules...) {
		id := "SPDXRef-" + name.ReplaceAllString(m.path, "-")
		packages = append(packages, object{"SPDXID": id, "name": m.path, "versionInfo": m.version, "downloadLocation": "NOASSERTION", "filesAnalyzed": false, "primaryPackagePurpose": "LIBRARY",
			"externalRefs": []object{{"referenceCategory": "PACKAGE-MANAGER", "referenceType": "purl", "referenceLocator": "pkg:golang/" + m.path + "@" + m.version}}})
		relations = append(relations, object{"spdxElementId": "SPDXRef-verdex", "relationshipType": "DEPENDS_ON", "relatedSpdxElement": id})
		fmt.Fprintln(sum, m.path, m.version)
	}
	b, err := json.MarshalIndent(object{"spdxVersion": "SPDX-2.3", "dataLicense": "CC0-1.0", "SPDXID": "SPDXRef-DOCUMENT", "name": "verdex-" + r.plain,
		"documentNamespace": "https://spdx.org/spdxdocs/verdex-" + r.plain + "-" + hex.EncodeToString(sum.Sum(nil))[:16],
		"creationInfo":      object{"created": r.at.Format(time.RFC3339), "creators": []string{"Tool: verdex-release"}},
		"packages":          packages, "relationships": relations}, "", "  ")
	if err != nil {
		panic(err) // texts only
	}
	return append(b, '\n')
}

// pack makes the .deb and the .rpm of the program for Linux on a processor.
func (r *release) pack(arch, program string) error {
	dir := filepath.Join(r.out, "build", "package-"+arch)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	var contents strings.Builder
	entry := func(from, to string, mode string) {
		fmt.Fprintf(&contents, "  - src: %q\n    dst: %q\n    file_info: {mode: %s, mtime: %s}\n", from, to, mode, r.at.Format(time.RFC3339))
	}
	entry(program, "/usr/bin/verdex", "0755")
	places := map[string]string{"verdex.bash": "/usr/share/bash-completion/completions/verdex", "_verdex": "/usr/share/zsh/site-functions/_verdex", "verdex.fish": "/usr/share/fish/vendor_completions.d/verdex.fish",
		"LICENSE": "/usr/share/doc/verdex/LICENSE", "LICENCES.txt": "/usr/share/doc/verdex/LICENCES.txt", "README.md": "/usr/share/doc/verdex/README.md"}
	for _, f := range r.shared {
		base := filepath.Base(f.name)
		data, to := f.data, places[base]
		if strings.HasPrefix(f.name, "man/") {
			var err error
			if data, err = zippedPage(f.data); err != nil {
				return err
			}
			base += ".gz"
			to = "/usr/share/man/man1/" + base
		}
		if to == "" {
			continue
		}
		if err := os.WriteFile(filepath.Join(dir, base), data, 0o644); err != nil {
			return err
		}
		entry(filepath.Join(dir, base), to, "0644")
	}
	config := fmt.Sprintf(`name: verdex
arch: %s
platform: linux
version: %q
version_schema: none
section: science
priority: optional
maintainer: The Verdex developers <verdex@example.org>
description: |
  Accounts of land from classified maps.
  Reclassifies categorical rasters, measures the true extent of each class in zones, and reports
  composition and change between years in shared tables.
license: Apache-2.0
mtime: %s
contents:
%s`, arch, strings.ReplaceAll(r.plain, "-", "~"), r.at.Format(time.RFC3339), contents.String())
	path := filepath.Join(dir, "nfpm.yaml")
	if err := os.WriteFile(path, []byte(config), 0o644); err != nil {
		return err
	}
	for _, kind := range []string{"deb", "rpm"} {
		to := filepath.Join(r.out, fmt.Sprintf("verdex-%s-%s.%s", r.plain, arch, kind))
		c := exec.Command("go", "run", packager, "pkg", "--packager", kind, "--config", path, "--target", to)
		c.Env = append(os.Environ(), "CGO_ENABLED=0", fmt.Sprintf("SOURCE_DATE_EPOCH=%d", r.at.Unix()))
		if text, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("%s for %s: %w\n%s", kind, arch, err, text)
		}
	}
	return nil
}
