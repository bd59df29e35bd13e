// Package open reads a file of features, whichever of the formats it has, and writes one.
package open

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/delimited"
	"github.com/verdex-land/verdex/core/vector/features"
	"github.com/verdex-land/verdex/core/vector/geojson"
	"github.com/verdex-land/verdex/core/vector/geopackage"
	"github.com/verdex-land/verdex/core/vector/kml"
	"github.com/verdex-land/verdex/core/vector/parquet"
	"github.com/verdex-land/verdex/core/vector/shapefile"
	"github.com/verdex-land/verdex/core/vector/zipped"
)

// Readable are the endings of files that are read.
const Readable = ".geojson, .json, .geojsonl, .gpkg, .shp, .parquet, .kml, .kmz, .zip, .csv, .tsv"

// Split takes FILE#LAYER apart.
func Split(where string) (path, layer string) {
	if !files.IsURL(where) {
		if _, err := os.Stat(where); err == nil {
			return where, ""
		}
	}
	if i := strings.LastIndexByte(where, '#'); i > 0 {
		return where[:i], where[i+1:]
	}
	return where, ""
}

// SplitOutput takes FILE.gpkg#LAYER apart, the name of a layer that is to be written. Other formats hold one layer, so that a # in the
// name of such a file is a part of it.
func SplitOutput(where string) (path, layer string) {
	if i := strings.LastIndexByte(where, '#'); i > 0 && strings.EqualFold(filepath.Ext(where[:i]), ".gpkg") {
		return where[:i], where[i+1:]
	}
	return where, ""
}

// PartsOf are the files that features become at a path: of a shapefile several, the .shp last.
func PartsOf(path string) []string {
	if strings.ToLower(filepath.Ext(path)) != ".shp" {
		return []string{path}
	}
	var out []string
	base := strings.TrimSuffix(path, filepath.Ext(path))
	for _, e := range shapefile.Endings {
		out = append(out, base+e)
	}
	return out
}

// Kind is the format of a file by its first bytes, or for text by its ending: geojson, geopackage, shapefile, parquet, kml, zip or
// table; "" when it is none of them.
func Kind(from files.System, path string) (string, error) {
	f, err := from.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	head := make([]byte, 512)
	n, err := f.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", fault.Opening(path, err)
	}
	head = head[:n]
	ending := strings.ToLower(files.Ext(path))
	switch text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n\x1e"); {
	case bytes.HasPrefix(head, []byte("SQLite format 3\x00")):
		return "geopackage", nil
	case bytes.HasPrefix(head, []byte("PAR1")):
		return "parquet", nil
	case bytes.HasPrefix(head, []byte{0, 0, 0x27, 0x0a}):
		return "shapefile", nil
	case zipped.Is(head):
		return "zip", nil
	case kml.Is(head), ending == ".kml":
		return "kml", nil
	case bytes.HasPrefix(text, []byte("{")), slices.Contains([]string{".geojson", ".geojsonl", ".ndjson", ".json"}, ending):
		return "geojson", nil
	case ending == ".csv" || ending == ".tsv" || ending == ".txt":
		return "table", nil
	case ending == "" && bytes.ContainsAny(head, ",;\t") && !bytes.Contains(head, []byte{0}): // what comes from a stream has no ending
		return "table", nil
	}
	return "", nil
}

// Read reads a file, of which layer names the layer; "" is the only one.
func Read(from files.System, path, layer string) (*vector.Layer, error) {
	return ReadSome(from, path, layer, features.Query{})
}

// ReadSome reads a file as Read does; of a server's collection it reads only the features that a query asks for, or somewhat more.
func ReadSome(from files.System, path, layer string, q features.Query) (*vector.Layer, error) {
	l, err := read(from, path, layer, q)
	if err != nil {
		return nil, err
	}
	if err := l.CheckCoordinates(); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return l, nil
}

func read(from files.System, path, layer string, q features.Query) (*vector.Layer, error) {
	kind, err := Kind(from, path)
	if err != nil {
		return nil, err
	}
	if kind != "geopackage" && kind != "zip" && kind != "" && layer != "" {
		return nil, fmt.Errorf("%s: only GeoPackages have layers to be named with #", path)
	}
	switch kind {
	case "geojson":
		if !files.IsURL(path) {
			return geojson.Read(from, path)
		}
		data, err := from.ReadFile(path)
		if err != nil {
			return nil, err
		}
		if features.Is(data) {
			return features.Read(from, path, q)
		}
		return geojson.Parse(path, data)
	case "kml":
		return kml.Read(from, path)
	case "zip":
		return readZip(from, path, layer)
	case "geopackage":
		return geopackage.Read(from, path, layer)
	case "shapefile":
		return shapefile.Read(from, path)
	case "parquet":
		return parquet.Read(from, path)
	case "table":
		return delimited.Read(from, path)
	}
	if ending := strings.ToLower(files.Ext(path)); ending == ".dbf" || ending == ".shx" || ending == ".prj" {
		return nil, fmt.Errorf("%s: it is a part of a shapefile: name the .shp", path)
	}
	return nil, fmt.Errorf("%s: it is not a file of zones that is read (%s)", path, Readable)
}

// readZip reads the one file of features in an archive, or the one that layer names.
func readZip(from files.System, name, layer string) (*vector.Layer, error) {
	f, err := from.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	a, err := zipped.Open(name, f)
	if err != nil {
		return nil, err
	}
	var found []string
	for _, n := range a.Names() {
		if ending := strings.ToLower(filepath.Ext(n)); slices.Contains([]string{".shp", ".kml", ".geojson", ".json", ".parquet"}, ending) && (layer == "" || n == layer || filepath.Base(n) == layer || strings.TrimSuffix(filepath.Base(n), filepath.Ext(n)) == layer) {
			found = append(found, n)
		}
	}
	if strings.EqualFold(files.Ext(name), ".kmz") && layer == "" && len(found) > 1 { // its first file is what is meant; the others are linked
		found = slices.DeleteFunc(found, func(n string) bool { return n != "doc.kml" })
	}
	switch {
	case len(found) == 0 && layer != "":
		return nil, fmt.Errorf("%s: it has no file of zones %s (its files are %s)", name, layer, text.List(a.Names(), 10))
	case len(found) == 0:
		return nil, fmt.Errorf("%s: it has no file of zones that is read in an archive (.shp, .kml, .geojson, .parquet): unpack it", name)
	case len(found) > 1:
		return nil, fmt.Errorf("%s: it has %d files of zones: name one, as %s#%s (%s)", name, len(found), filepath.Base(name), found[0], text.List(found, 10))
	}
	inside := found[0]
	var l *vector.Layer
	switch strings.ToLower(filepath.Ext(inside)) {
	case ".shp":
		l, err = shapefile.Read(a, inside)
	case ".kml":
		l, err = kml.Read(a, inside)
	case ".parquet":
		l, err = parquet.Read(a, inside)
	default:
		l, err = geojson.Read(a, inside)
	}
	if err != nil {
		if !strings.HasPrefix(err.Error(), name) {
			err = fmt.Errorf("%s: in it, %w", name, err)
		}
		return nil, err
	}
	l.Source = name
	for i, note := range l.Notes {
		l.Notes[i] = name + ": in it, " + note
	}
	return l, nil
}

// Part is one file that is written.
type Part struct {
	Path  string
	Write func(w io.Writer) error
}

// Writable are the endings of files that are written.
const Writable = ".geojson, .geojsonl, .gpkg, .shp or .parquet"

// CanWrite refuses an ending that is not written.
func CanWrite(path string) error {
	if !slices.Contains([]string{".geojson", ".json", ".geojsonl", ".gpkg", ".shp", ".parquet"}, strings.ToLower(filepath.Ext(path))) {
		return fmt.Errorf("%s: features are written as %s: give the file one of these endings", path, Writable)
	}
	return nil
}

// Parts lists which files a layer becomes at a path, by its ending, and how they are written; what the format cannot hold
// is noted. GeoJSON holds longitude and latitude on WGS 84, to which outlines in another CRS are
// carried. A GeoPackage is written by its own package, for it is no stream.
func Parts(path string, l *vector.Layer) (parts []Part, notes []string, err error) {
	if err := CanWrite(path); err != nil {
		return nil, nil, err
	}
	ending := strings.ToLower(filepath.Ext(path))
	if ending == ".gpkg" {
		return nil, nil, fmt.Errorf("%s: a GeoPackage is written by geopackage.Write", path)
	}
	if ending == ".shp" {
		files, notes, err := shapefile.Encode(l)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", path, err)
		}
		for _, name := range PartsOf(path) {
			parts = append(parts, Part{name, func(w io.Writer) error {
				_, err := w.Write(files[strings.ToLower(filepath.Ext(name))])
				return err
			}})
		}
		return parts, notes, nil
	}
	if ending == ".parquet" {
		if l.CRS == nil && !l.Plain {
			return nil, nil, fmt.Errorf("%s: %s", l.Source, l.CRSProblem)
		}
		return []Part{{path, func(w io.Writer) error { return parquet.Write(w, l) }}}, nil, nil
	}
	wgs84, err := earth.Lookup(4326)
	if err != nil {
		return nil, nil, err
	}
	d, note, err := vector.Carry(l, wgs84)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", path, err)
	}
	if note != "" {
		notes = append(notes, note)
	}
	return []Part{{path, func(w io.Writer) error { return geojson.Write(w, d, ending == ".geojsonl") }}}, notes, nil
}
