package plan

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/vector/geojson"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/internal/demo"
)

// banded writes a TIFF of two bands of bytes in UTM, interleaved by pixel in one strip.
func banded(t *testing.T, path string, width, height int, value func(band, c, r int) byte) {
	var b bytes.Buffer
	b.Write([]byte{'I', 'I', 42, 0, 0, 0, 0, 0})
	for r := range height {
		for c := range width {
			b.Write([]byte{value(0, c, r), value(1, c, r)})
		}
	}
	doubles := func(v ...float64) int {
		at := b.Len()
		for _, x := range v {
			b.Write(binary.LittleEndian.AppendUint64(nil, math.Float64bits(x)))
		}
		return at
	}
	scale, tie := doubles(30, 30, 0), doubles(0, 0, 0, 500000, 6480000, 0)
	keys := b.Len()
	for _, k := range []uint16{1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, 32633} {
		b.Write(binary.LittleEndian.AppendUint16(nil, k))
	}
	dir := b.Len()
	entries := [][4]int{{256, 3, 1, width}, {257, 3, 1, height}, {258, 3, 2, 8 | 8<<16}, {259, 3, 1, 1}, {262, 3, 1, 1}, {273, 4, 1, 8}, {277, 3, 1, 2},
		{278, 3, 1, height}, {279, 4, 1, 2 * width * height}, {33550, 12, 3, scale}, {33922, 12, 6, tie}, {34735, 3, 16, keys}}
	b.Write([]byte{byte(len(entries)), 0})
	for _, e := range entries {
		for i, size := range []int{2, 2, 4, 4} {
			for k := range size {
				b.WriteByte(byte(e[i] >> (8 * k)))
			}
		}
	}
	b.Write([]byte{0, 0, 0, 0})
	out := b.Bytes()
	binary.LittleEndian.PutUint32(out[4:], uint32(dir))
	require.NoError(t, os.WriteFile(path, out, 0o644))
}

// draftOf makes the draft of the working folder, writes it there, and reads it.
func draftOf(t *testing.T) (string, *Draft, *Plan) {
	t.Helper()
	d, err := NewDraft(t.Context(), job.Env{}, ".")
	require.NoError(t, err)
	for _, f := range d.Files {
		require.NoError(t, os.WriteFile(f.Name, f.Data, 0o644))
	}
	text := string(d.Files[0].Data)
	p, err := Parse(files.Disk, "plan.yaml", d.Files[0].Data, commands)
	require.NoError(t, err, text)
	return text, d, p
}

// Scenes of several bands and dates become an index with limits to fill in.
func TestDraftOfScenes(t *testing.T) {
	t.Chdir(t.TempDir())
	for _, year := range []int{2004, 2012} {
		banded(t, fmt.Sprintf("scene_%d.tif", year), 8, 6, func(band, c, r int) byte { return byte(10 + 40*band + c + r + year%7) })
	}
	text, d, p := draftOf(t)
	assert.Contains(t, text, "# scene_{epoch}.tif of each date: 2 bands")
	assert.Contains(t, text, "DECIDE: which band of scene_{epoch}.tif is which")
	assert.Contains(t, text, `find: "scene_{date}.tif"`)
	assert.Contains(t, text, "There is no file of zones here")
	assert.Equal(t, []string{"plan.yaml", "legend.csv", "limits.csv"}, []string{d.Files[0].Name, d.Files[1].Name, d.Files[2].Name})
	assert.Equal(t, []string{"extents 2004", "extents 2012", "change", "matrix", "account"}, names(p))
	m := p.Steps[0].Options.(*measureOptions)
	m.Legend = ""
	r, err := job.Measure(t.Context(), job.Env{Maker: Maker{p}}, m.MeasureOptions)
	require.NoError(t, err, "the draft can be run as it is")
	total := 0.0
	for _, row := range r.Zones[0].Rows() {
		total += row.Cells
	}
	assert.InDelta(t, 48, total, 1e-9)
}

// A shapefile whose zones are in several pieces, and that does not state its CRS.
func TestDraftOfPieces(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, demo.Write(".", true))
	l, err := geojson.Read(files.Disk, "wards.geojson")
	require.NoError(t, err)
	var parts []string
	files, _, err := vectors.Parts("county.shp", l)
	require.NoError(t, err)
	for _, f := range files {
		var b bytes.Buffer
		require.NoError(t, f.Write(&b))
		require.NoError(t, os.WriteFile(f.Path, b.Bytes(), 0o644))
		parts = append(parts, f.Path)
	}
	assert.Contains(t, parts, "county.prj")
	for _, name := range []string{"county.prj", "wards.geojson", "catchments.geojson", "orrin.yaml", "terrain.yaml"} {
		require.NoError(t, os.Remove(name))
	}
	text, _, _ := draftOf(t)
	assert.Contains(t, text, "Some features of county.shp share their value of code: they are pieces of one zone.")
	assert.Contains(t, text, "zone-id: code")
	assert.Contains(t, text, "zone-name: name")
	assert.Contains(t, text, "DECIDE: the CRS of county.shp, which does not state one")
}

func TestDraftOfTheSampleWorld(t *testing.T) {
	inWorld(t)
	text, d, p := draftOf(t)
	for _, want := range []string{"# yaml-language-server: $schema=plan.schema.json", "legend: legend.csv", "crosswalk: codes_2004.csv", `cover: "cover_2012_?.tif"`, "nodata: 0",
		"slope: {slope: elevation.tif, in: percent}", "checks: {control: known_totals.csv}", "flows: flows.csv"} {
		assert.Contains(t, text, want)
	}
	assert.Len(t, d.Decide, 1)
	assert.Len(t, p.Epochs, 3)
	assert.Equal(t, "2004", dateIn("cover_2004.tif"))
	assert.Equal(t, "20120612", dateIn("S2_20120612_T33.tif"))
	assert.Equal(t, "2012-06-12", dateIn("x2012-06-12.tif"))
	assert.Equal(t, "", dateIn("tile_123456.tif"))
	assert.Equal(t, "2012-06-12", labelOf("20120612"))
	assert.Equal(t, "201206", labelOf("201206"))
}

func TestDraftOfNothing(t *testing.T) {
	t.Chdir(t.TempDir())
	_, err := NewDraft(t.Context(), job.Env{}, ".")
	assert.ErrorContains(t, err, "there is no raster in it")
	require.NoError(t, os.WriteFile("broken.tif", []byte("II*\x00"), 0o644))
	_, err = NewDraft(t.Context(), job.Env{}, ".")
	assert.ErrorContains(t, err, "what was found cannot be read: broken.tif")
}
