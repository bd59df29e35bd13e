package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The same source makes the same bytes: archive, packages, image, bill. The package is installed and used, and so is the program of the image.
func TestRelease(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("packages for Debian are installed on Debian")
	}
	t.Chdir("../..")
	t.Setenv("VERSION", "v9.8.7")
	t.Setenv("SOURCE_DATE_EPOCH", "1764331200")
	only := "linux/" + runtime.GOARCH
	var made [2]map[string][]byte
	var dirs [2]string
	for i := range made {
		dirs[i] = filepath.Join(t.TempDir(), "dist")
		require.NoError(t, run(dirs[i], only, true))
		made[i] = map[string][]byte{}
		list, err := os.ReadDir(dirs[i])
		require.NoError(t, err)
		for _, e := range list {
			data, err := os.ReadFile(filepath.Join(dirs[i], e.Name()))
			require.NoError(t, err)
			made[i][e.Name()] = data
		}
	}
	require.Len(t, made[0], 6)
	for name, data := range made[0] {
		assert.True(t, bytes.Equal(data, made[1][name]), "%s is not the same again", name)
		if name != "SHA256SUMS" {
			sum := sha256.Sum256(data)
			assert.Contains(t, string(made[0]["SHA256SUMS"]), hex.EncodeToString(sum[:])+"  "+name)
		}
	}

	archive := untar(t, unzip(t, made[0]["verdex-9.8.7-linux-"+runtime.GOARCH+".tar.gz"]))
	for _, name := range []string{"verdex", "LICENSE", "LICENCES.txt", "README.md", "man/verdex-measure.1", "completions/verdex.bash", "completions/_verdex", "completions/verdex.fish", "completions/verdex.ps1"} {
		assert.Contains(t, archive, "verdex-9.8.7-linux-"+runtime.GOARCH+"/"+name)
	}
	licences := string(archive["verdex-9.8.7-linux-"+runtime.GOARCH+"/LICENCES.txt"])
	var bill struct {
		Packages []struct{ Name, VersionInfo string }
	}
	require.NoError(t, json.Unmarshal(made[0]["verdex-9.8.7.spdx.json"], &bill))
	assert.Greater(t, len(bill.Packages), 40)
	for _, p := range bill.Packages[2:] {
		assert.Contains(t, licences, p.Name+" "+p.VersionInfo+": ", "the terms of %s", p.Name)
	}

	// The image: its layout by the digests, its program run with nothing beside it.
	image := untar(t, made[0]["verdex-9.8.7-oci.tar"])
	for name, data := range image {
		if digest, is := strings.CutPrefix(name, "blobs/sha256/"); is {
			sum := sha256.Sum256(data)
			assert.Equal(t, digest, hex.EncodeToString(sum[:]))
		}
	}
	type descriptor struct{ MediaType, Digest string }
	at := func(d descriptor, into any) []byte {
		data := image["blobs/"+strings.Replace(d.Digest, ":", "/", 1)]
		require.NotEmpty(t, data, d.MediaType)
		if into != nil {
			require.NoError(t, json.Unmarshal(data, into))
		}
		return data
	}
	var index, platforms struct{ Manifests []descriptor }
	require.NoError(t, json.Unmarshal(image["index.json"], &index))
	at(index.Manifests[0], &platforms)
	var manifest struct{ Layers []descriptor }
	at(platforms.Manifests[0], &manifest)
	layer := untar(t, unzip(t, at(manifest.Layers[0], nil)))
	assert.Contains(t, string(layer["etc/ssl/certs/ca-certificates.crt"]), "BEGIN CERTIFICATE")
	root := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(root, "verdex"), layer["verdex"], 0o755))
	run := func(name string, args ...string) string {
		t.Helper()
		c := exec.Command(name, args...)
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	if os.Getuid() == 0 {
		assert.Equal(t, "verdex v9.8.7\n", run("chroot", root, "/verdex", "version"))
	}

	// The package is unpacked, or as root installed, and used.
	deb := filepath.Join(dirs[0], "verdex-9.8.7-"+runtime.GOARCH+".deb")
	assert.Contains(t, run("dpkg-deb", "--info", deb), "Version: 9.8.7")
	where := t.TempDir()
	if os.Getuid() == 0 {
		run("dpkg", "--install", deb)
		defer exec.Command("dpkg", "--purge", "verdex").Run() //nolint:errcheck // it is there to be taken away
		where = "/"
	} else {
		run("dpkg-deb", "--extract", deb, where)
	}
	program := filepath.Join(where, "usr/bin/verdex")
	world := filepath.Join(t.TempDir(), "orrin")
	run(program, "demo", "--files-only", world)
	out := run(program, "--quiet", "measure", filepath.Join(world, "cover_2020.tif"), "--zones", filepath.Join(world, "wards.geojson"), "--zone-id", "code", "--format", "csv")
	assert.Contains(t, out, "W1,Tarn Heights,class")
	assert.FileExists(t, filepath.Join(where, "usr/share/bash-completion/completions/verdex"))
	page, err := os.ReadFile(filepath.Join(where, "usr/share/man/man1/verdex-measure.1.gz"))
	if err == nil { // small systems leave manual pages out
		assert.Contains(t, string(unzip(t, page)), ".TH")
	}
}

func unzip(t *testing.T, data []byte) []byte {
	t.Helper()
	z, err := gzip.NewReader(bytes.NewReader(data))
	require.NoError(t, err)
	out, err := io.ReadAll(z)
	require.NoError(t, err)
	return out
}

func untar(t *testing.T, data []byte) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	r := tar.NewReader(bytes.NewReader(data))
	for {
		h, err := r.Next()
		if err == io.EOF {
			return out
		}
		require.NoError(t, err)
		out[h.Name], err = io.ReadAll(r)
		require.NoError(t, err)
	}
}
