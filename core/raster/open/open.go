// Package open opens a raster of any format that is read, by what the file holds.
package open

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/asciigrid"
	"github.com/verdex-land/verdex/core/raster/geotiff"
)

// File is a raster that is to be closed.
type File interface {
	raster.Source
	io.Closer
}

// opened is a raster as its file means it.
type opened struct {
	raster.Source
	io.Closer
}

// Tiling is that of the raster.
func (o opened) Tiling() (cols, rows []int) { return raster.Tiling(o.Source) }

// Overviews are those of the raster.
func (o opened) Overviews() []raster.Source { return raster.Overviews(o.Source) }

// Raster opens band 1, 2, … of the file at path.
func Raster(from files.System, path string, band int) (File, error) {
	f, err := from.Open(path)
	if err != nil {
		return nil, err
	}
	head := make([]byte, 4096)
	n, err := f.ReadAt(head, 0)
	head = head[:n]
	f.Close()
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%s: it cannot be read (%w)", path, fault.Reason(err))
	}
	switch kind := Kind(head); {
	case kind == "TIFF":
		s, err := geotiff.Open(from, path, band)
		if err != nil {
			return nil, err
		}
		applied, err := s.Applied()
		if err != nil {
			s.Close()
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		return opened{applied, s}, nil
	case kind == "ASCII grid":
		if band != 1 {
			return nil, fmt.Errorf("%s: an ASCII grid has one band, and band %d was asked for", path, band)
		}
		return asciigrid.Open(from, path)
	case kind == "" && len(head) == 0:
		return nil, fmt.Errorf("%s: the file is empty: copy it again", path)
	case kind == "":
		return nil, fmt.Errorf("%s: its first bytes are those of no raster format that is known: convert it to GeoTIFF", path)
	default:
		return nil, fmt.Errorf("%s: it is %s; rasters are read from GeoTIFF and ASCII grids: convert it to GeoTIFF first", path, kind)
	}
}

// signatures are the first bytes of files that people take for rasters Verdex reads, or that are ones.
var signatures = []struct{ magic, name string }{
	{"II", "TIFF"}, {"MM\x00", "TIFF"}, // the reader says what is wrong with the rest
	{"\x89PNG", "a PNG image"}, {"\xff\xd8\xff", "a JPEG image"}, {"GIF8", "a GIF image"}, {"BM", "a BMP image"}, {"RIFF", "a WebP or other RIFF file"},
	{"\x89HDF\r\n\x1a\n", "an HDF5 or NetCDF-4 file"}, {"\x0e\x03\x13\x01", "an HDF4 file"},
	{"CDF\x01", "a NetCDF file"}, {"CDF\x02", "a NetCDF file"}, {"CDF\x05", "a NetCDF file"},
	{"\x00\x00\x00\x0cjP", "a JPEG 2000 file"}, {"\xff\x4f\xff\x51", "a JPEG 2000 file"}, {"GRIB", "a GRIB file"}, {"EHFA_HEADER_TAG", "an HFA file (.img)"},
	{"msid", "a wavelet-compressed raster (.sid)"}, {"NITF", "a NITF file"}, {"NSIF", "an NSIF file"},
	{"PK\x03\x04", "a ZIP archive (unpack it)"}, {"\x1f\x8b", "a gzipped file (unpack it)"}, {"7z\xbc\xaf", "a 7z archive (unpack it)"},
	{"SQLite format 3", "an SQLite database or GeoPackage"}, {"%PDF", "a PDF document"}, {"PAR1", "a Parquet file"},
	{"ENVI", "a header of a raw raster"}, {"DSAA", "a DSAA grid"}, {"DSBB", "a DSBB grid"}, {"\x00\x00\x27\x0a", "a shapefile"},
}

// Kind names what a file is by its first bytes: "TIFF", "ASCII grid", another format with its article,
// or nothing.
func Kind(head []byte) string {
	for _, s := range signatures {
		if strings.HasPrefix(string(head), s.magic) {
			return s.name
		}
	}
	if asciigrid.Sniff(head) {
		return "ASCII grid"
	}
	switch text := strings.TrimLeft(string(head[:min(len(head), 512)]), " \t\r\n\ufeff"); {
	case strings.HasPrefix(text, "{") || strings.HasPrefix(text, "["):
		return "JSON text"
	case strings.HasPrefix(text, "<"):
		return "XML or HTML text"
	}
	return ""
}

// Ahead implements [raster.Announced].
func (o opened) Ahead(windows []raster.Window) bool { return raster.Ahead(o.Source, windows) }

// Weight is that of the raster.
func (o opened) Weight(w raster.Window) int64 { return raster.Weight(o.Source, w) }
