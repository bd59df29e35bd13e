package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/x509roots/fallback/bundle"
)

// archive packs the program for a system with the pages and scripts: a ZIP archive for Windows, a compressed tar archive for others.
func (r *release) archive(t target, program string) error {
	data, err := os.ReadFile(program)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("verdex-%s-%s-%s", r.plain, t.os, t.arch)
	files := append([]file{{filepath.Base(program), data, 0o755}}, r.shared...)
	for i := range files {
		files[i].name = name + "/" + files[i].name
	}
	if t.os == "windows" {
		data, err = zipped(files, r.at)
		name += ".zip"
	} else {
		data, err = tarred(files, r.at, true)
		name += ".tar.gz"
	}
	if err != nil {
		return err
	}
	return r.write(name, data)
}

func tarred(files []file, at time.Time, compress bool) ([]byte, error) {
	var plain bytes.Buffer
	w := tar.NewWriter(&plain)
	for _, f := range files {
		h := &tar.Header{Name: f.name, Mode: int64(f.mode.Perm()), Size: int64(len(f.data)), ModTime: at, Typeflag: tar.TypeReg, Format: tar.FormatUSTAR}
		if strings.HasSuffix(f.name, "/") {
			h.Typeflag = tar.TypeDir
		}
		if f.mode&os.ModeSticky != 0 {
			h.Mode |= 0o1000
		}
		if err := w.WriteHeader(h); err != nil {
			return nil, err
		}
		if _, err := w.Write(f.data); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	if !compress {
		return plain.Bytes(), nil
	}
	var out bytes.Buffer
	z, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	if _, err := z.Write(plain.Bytes()); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func zipped(files []file, at time.Time) ([]byte, error) {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range files {
		h := &zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: at}
		h.SetMode(f.mode)
		e, err := w.CreateHeader(h)
		if err != nil {
			return nil, err
		}
		if _, err := e.Write(f.data); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// blob is a part of an image, which is named by its digest.
type blob struct {
	MediaType string    `json:"mediaType"`
	Digest    string    `json:"digest"`
	Size      int       `json:"size"`
	Platform  *platform `json:"platform,omitempty"`
}

type platform struct {
	Architecture string `json:"architecture"`
	OS           string `json:"os"`
}

// image makes a container image of the programs for Linux as an OCI layout (image specification 1.1) in a tar archive: the program, its licences, certificates, and a folder for temporary
// files; nothing else is in it.
func (r *release) image(made map[target]string) error {
	var files []file
	add := func(media string, data []byte) blob {
		sum := sha256.Sum256(data)
		digest := hex.EncodeToString(sum[:])
		files = append(files, file{"blobs/sha256/" + digest, data, 0o644})
		return blob{MediaType: media, Digest: "sha256:" + digest, Size: len(data)}
	}
	var manifests []blob
	for _, arch := range []string{"amd64", "arm64"} {
		path, ok := made[target{"linux", arch}]
		if !ok {
			continue
		}
		program, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		content := []file{{"etc/", nil, 0o755}, {"etc/ssl/", nil, 0o755}, {"etc/ssl/certs/", nil, 0o755}, {"etc/ssl/certs/ca-certificates.crt", authorities(), 0o644},
			{"tmp/", nil, 0o777 | os.ModeSticky}, {"work/", nil, 0o777}, {"verdex", program, 0o755}}
		for _, f := range r.shared {
			if f.name == "LICENSE" || f.name == "LICENCES.txt" {
				content = append(content, f)
			}
		}
		plain, err := tarred(content, r.at, false)
		if err != nil {
			return err
		}
		layer, err := tarred(content, r.at, true)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(plain)
		config, err := json.Marshal(map[string]any{
			"architecture": arch, "os": "linux", "created": r.at.Format(time.RFC3339),
			"config": map[string]any{"Entrypoint": []string{"/verdex"}, "WorkingDir": "/work", "Env": []string{"PATH=/", "HOME=/tmp"},
				"Labels": map[string]string{"org.opencontainers.image.title": "verdex", "org.opencontainers.image.version": r.version, "org.opencontainers.image.licenses": "Apache-2.0"}},
			"rootfs":  map[string]any{"type": "layers", "diff_ids": []string{"sha256:" + hex.EncodeToString(sum[:])}},
			"history": []map[string]any{{"created": r.at.Format(time.RFC3339), "created_by": "verdex " + r.version}},
		})
		if err != nil {
			return err
		}
		manifest, err := json.Marshal(map[string]any{"schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json",
			"config": add("application/vnd.oci.image.config.v1+json", config), "layers": []blob{add("application/vnd.oci.image.layer.v1.tar+gzip", layer)}})
		if err != nil {
			return err
		}
		one := add("application/vnd.oci.image.manifest.v1+json", manifest)
		one.Platform = &platform{arch, "linux"}
		manifests = append(manifests, one)
	}
	if len(manifests) == 0 {
		return nil
	}
	both, err := json.Marshal(map[string]any{"schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json", "manifests": manifests})
	if err != nil {
		return err
	}
	top := map[string]any{"mediaType": "application/vnd.oci.image.index.v1+json", "annotations": map[string]string{"org.opencontainers.image.ref.name": r.plain}}
	entry := add("application/vnd.oci.image.index.v1+json", both)
	top["digest"], top["size"] = entry.Digest, entry.Size
	index, err := json.Marshal(map[string]any{"schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json", "manifests": []any{top}})
	if err != nil {
		return err
	}
	files = append(files, file{"index.json", index, 0o644}, file{"oci-layout", []byte(`{"imageLayoutVersion":"1.0.0"}`), 0o644})
	data, err := tarred(files, r.at, false)
	if err != nil {
		return err
	}
	return r.write(fmt.Sprintf("verdex-%s-oci.tar", r.plain), data)
}

// authorities are the certificates by which servers of the web are known.
func authorities() []byte {
	var b bytes.Buffer
	for root := range bundle.Roots() {
		if root.Constraint == nil { // a file of certificates cannot say that one is good for some only
			_ = pem.Encode(&b, &pem.Block{Type: "CERTIFICATE", Bytes: root.Certificate}) // a buffer takes everything
		}
	}
	return b.Bytes()
}

// zippedPage is a page of the manual as packages have it.
func zippedPage(page []byte) ([]byte, error) {
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	if _, err := z.Write(page); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
