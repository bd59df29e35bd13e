package open

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geopackage"
	"github.com/verdex-land/verdex/core/vector/shapefile"
)

// sample is a layer with all that the formats have in common.
func sample(t *testing.T, code int) *vector.Layer {
	t.Helper()
	crs, err := earth.Lookup(code)
	require.NoError(t, err)
	x, y, d := 12.5, 58.25, 0.25
	if !crs.Geographic() {
		x, y, d = 4321000, 3210000, 1000
	}
	square := func(x, y, d float64) vector.Ring { return vector.Ring{{x, y}, {x + d, y}, {x + d, y + d}, {x, y + d}} }
	hole := func(x, y, d float64) vector.Ring { return vector.Ring{{x, y}, {x, y + d}, {x + d, y + d}, {x + d, y}} }
	return &vector.Layer{Name: "wards", CRS: crs,
		Fields: []vector.Field{{Name: "code", Kind: vector.Text}, {Name: "people", Kind: vector.Integer}, {Name: "share", Kind: vector.Real}, {Name: "coast", Kind: vector.Boolean}, {Name: "größe", Kind: vector.Text}},
		Features: []vector.Feature{
			{Values: []any{"007", int64(1800), 0.1, true, "Ærø, \"north\"\nline"}, Geometry: vector.Geometry{Polygons: []vector.Polygon{{square(x, y, d), hole(x+d/4, y+d/4, d/8), hole(x+d/2, y+d/2, d/8)}}}},
			{Values: []any{"W2", int64(math.MaxInt64), -1e-7, false, nil}, Geometry: vector.Geometry{Polygons: []vector.Polygon{{square(x+2*d, y, d), hole(x+2*d+d/4, y+d/4, d/2)}, {square(x+2*d+d*3/8, y+d*3/8, d/8)}}}},
			{Values: []any{nil, nil, nil, nil, "x"}},
		}}
}

func write(t *testing.T, path string, l *vector.Layer) []string {
	t.Helper()
	if filepath.Ext(path) == ".gpkg" {
		require.NoError(t, geopackage.Write(path, l, time.Unix(1e9, 0)))
		return nil
	}
	parts, notes, err := Parts(path, l)
	require.NoError(t, err)
	for _, p := range parts {
		var b bytes.Buffer
		require.NoError(t, p.Write(&b))
		require.NoError(t, os.WriteFile(p.Path, b.Bytes(), 0o644))
	}
	return notes
}

// What is written in a format is read again: values with their kinds, and outlines with their holes.
func TestThereAndBack(t *testing.T) {
	for _, code := range []int{4326, 3035} {
		for _, name := range []string{"a.geojson", "a.geojsonl", "a.gpkg", "a.shp", "a.parquet"} {
			t.Run(fmt.Sprint(name, code), func(t *testing.T) {
				path := filepath.Join(t.TempDir(), name)
				l := sample(t, code)
				write(t, path, l)
				got, err := Read(files.Disk, path, "")
				require.NoError(t, err)
				fields := got.Fields
				shift := 0
				if name == "a.gpkg" {
					assert.Equal(t, "wards", got.Name)
					assert.Equal(t, "fid", fields[0].Name)
					shift = 1
				}
				require.Equal(t, l.Fields, fields[shift:])
				degrees := code == 4326 || strings.HasPrefix(name, "a.geojson")
				if degrees {
					assert.Equal(t, 4326, got.CRS.Code)
				} else {
					assert.Equal(t, code, got.CRS.Code)
				}
				require.Len(t, got.Features, 3)
				for i, f := range got.Features {
					want := l.Features[i].Values
					if name == "a.shp" && i == 0 {
						want = append([]any{}, want...)
					}
					assert.Equal(t, want, f.Values[shift:], "feature %d", i+1)
					require.Len(t, f.Geometry.Polygons, len(l.Features[i].Geometry.Polygons))
					for k, p := range f.Geometry.Polygons {
						require.Len(t, p, len(l.Features[i].Geometry.Polygons[k]))
						for n, r := range p {
							a, ok := l.CRS.OutlineArea(l.Features[i].Geometry.Polygons[k][n])
							b, ok2 := got.CRS.OutlineArea(r)
							require.True(t, ok && ok2)
							tolerance := 1e-12
							if code != got.CRS.Code { // carried, with nine decimals of a degree
								tolerance = 2e-6
							}
							assert.InEpsilon(t, math.Abs(a), math.Abs(b), tolerance+1e-9)
						}
					}
				}
			})
		}
	}
}

// The same layer makes the same bytes.
func TestSameBytes(t *testing.T) {
	for _, name := range []string{"a.geojson", "a.gpkg", "a.dbf", "a.shp", "a.parquet"} {
		var both [2][]byte
		for i := range both {
			dir := t.TempDir()
			out := name
			if name == "a.dbf" {
				out = "a.shp"
			}
			write(t, filepath.Join(dir, out), sample(t, 4326))
			b, err := os.ReadFile(filepath.Join(dir, name))
			require.NoError(t, err)
			both[i] = b
		}
		assert.True(t, bytes.Equal(both[0], both[1]), name)
	}
}

func TestLimitsOfShapefiles(t *testing.T) {
	l := sample(t, 4326)
	l.Fields[1].Name, l.Fields[2].Name = "population_2020", "population_2012"
	l.Features[0].Values[0] = string(bytes.Repeat([]byte("æ"), 200))
	path := filepath.Join(t.TempDir(), "a.shp")
	notes := write(t, path, l)
	require.Len(t, notes, 2)
	assert.Contains(t, notes[0], "population_2020 → popul_2020, population_2012 → popul_2012")
	assert.Contains(t, notes[1], "longer ones are cut in code")
	got, err := Read(files.Disk, path, "")
	require.NoError(t, err)
	assert.Len(t, got.Features[0].Values[0], 254)
	for range 300 {
		l.Fields = append(l.Fields, vector.Field{Name: "x"})
	}
	_, _, err = Parts(path, l)
	assert.ErrorContains(t, err, "at most 255 fields")
	krovak, err := earth.Lookup(5514)
	require.NoError(t, err)
	l = sample(t, 4326)
	l.CRS = krovak
	_, _, err = Parts(path, l)
	assert.ErrorContains(t, err, "cannot be written in a .prj file")
}

func TestEncodingsOfTables(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.shp")
	l := sample(t, 4326)
	l.Fields[4].Name = "name"
	write(t, path, l)
	dbf := filepath.Join(dir, "a.dbf")
	b, err := os.ReadFile(dbf)
	require.NoError(t, err)
	b = bytes.Replace(b, []byte("Ærø"), []byte("\xc6r\xf8  "), 1)
	require.NoError(t, os.WriteFile(dbf, b, 0o644))
	for cpg, want := range map[string]string{"ISO-8859-1": "Ærø", "1252": "Ærø", "ANSI 1252": "Ærø", "CP1251": "Жrш", "88591": "Ærø"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.cpg"), []byte(cpg), 0o644))
		got, err := Read(files.Disk, path, "")
		require.NoError(t, err, cpg)
		assert.Contains(t, got.Features[0].Values[4], want, cpg)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.cpg"), []byte("EBCDIC-XX"), 0o644))
	_, err = Read(files.Disk, path, "")
	assert.ErrorContains(t, err, `the encoding "EBCDIC-XX", which is not known`)
	require.NoError(t, os.Remove(filepath.Join(dir, "a.cpg")))
	got, err := Read(files.Disk, path, "")
	require.NoError(t, err)
	assert.Contains(t, got.Features[0].Values[4], "Ærø")
	assert.Contains(t, got.Notes[0], "taken for Windows-1252")
}

// Files whose counts lie, that are cut off, or that are something else.
func TestDamagedFiles(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"a.geojson", "a.gpkg", "a.shp", "a.parquet"} {
		write(t, filepath.Join(dir, name), sample(t, 4326))
	}
	read := func(name string, change func(b []byte) []byte) error {
		b, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), change(append([]byte{}, b...)), 0o644))
		_, got := Read(files.Disk, filepath.Join(dir, "a"+map[bool]string{true: ".shp", false: filepath.Ext(name)}[filepath.Ext(name) == ".dbf"]), "")
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), b, 0o644))
		return got
	}
	put := func(at int, v uint32) func([]byte) []byte {
		return func(b []byte) []byte { binary.LittleEndian.PutUint32(b[at:], v); return b }
	}
	half := func(b []byte) []byte { return b[:len(b)/2] }
	for _, c := range []struct {
		name   string
		change func([]byte) []byte
		want   string
	}{
		{"a.shp", half, "cut off"},
		{"a.shp", put(100+8+36, 0xffffffff), "counts more than it holds"}, // parts
		{"a.shp", put(100+8+40, 0x7fffffff), "counts more than it holds"}, // points
		{"a.shp", put(100+8+44, 0x7fffffff), "counts more than it holds"}, // the first part
		{"a.shp", put(104, 0xffffffff), "more than the file has"},         // the length of a record
		{"a.shp", put(108, 77), "of a kind (77)"},                         // the kind of a shape
		{"a.dbf", half, "cut off"},                                        //
		{"a.dbf", put(4, 0xffffffff), "do not belong together"},           // rows
		{"a.dbf", func(b []byte) []byte { b[8], b[9] = 0, 0; return b }, "head is damaged"},
		{"a.dbf", func(b []byte) []byte { b[32+16] = 255; return b }, "reaches beyond the row"},
		{"a.parquet", half, "may be cut off"},
		{"a.parquet", func(b []byte) []byte { copy(b[len(b)-8:], "\xff\xff\xff\x0f"); return b }, "may be cut off"},
		{"a.geojson", half, "ends too early"},
		{"a.gpkg", func(b []byte) []byte { return b[:4096] }, "a.gpkg"},
		{"a.gpkg", func(b []byte) []byte { return bytes.ReplaceAll(b, []byte("GP\x00"), []byte("XX\x00")) }, "does not begin as the standard says"},
	} {
		assert.ErrorContains(t, read(c.name, c.change), c.want, c.name)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.bin"), []byte("nothing"), 0o644))
	_, err := Read(files.Disk, filepath.Join(dir, "b.bin"), "")
	assert.ErrorContains(t, err, "it is not a file of zones that is read")
	_, err = Read(files.Disk, filepath.Join(dir, "a.dbf"), "")
	assert.ErrorContains(t, err, "name the .shp")
	_, err = Read(files.Disk, filepath.Join(dir, "a.gpkg"), "lakes")
	assert.ErrorContains(t, err, `it has no layer "lakes" (layers: wards)`)
	_, err = Read(files.Disk, dir, "")
	assert.ErrorContains(t, err, "it is a folder")
	assert.ErrorContains(t, CanWrite("x.kml"), "features are written as")
}

// A shapefile without its .prj has no CRS, without its .dbf no attributes, and both are said.
func TestPartsOfAShapefile(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "a.shp"), sample(t, 3035))
	require.NoError(t, os.Remove(filepath.Join(dir, "a.prj")))
	got, err := Read(files.Disk, filepath.Join(dir, "a.shp"), "")
	require.NoError(t, err)
	assert.Nil(t, got.CRS)
	assert.Contains(t, got.CRSProblem, "no .prj file")
	require.NoError(t, os.Remove(filepath.Join(dir, "a.dbf")))
	got, err = Read(files.Disk, filepath.Join(dir, "a.shp"), "")
	require.NoError(t, err)
	assert.Empty(t, got.Fields)
	assert.Contains(t, got.Notes[0], "no .dbf file")
}

func TestNullShapesAndPoints(t *testing.T) {
	l := sample(t, 4326)
	l.Features[0].Geometry = vector.Geometry{Points: []vector.Point{{12, 58}}}
	l.Features[1].Geometry = vector.Geometry{Points: []vector.Point{{13, 58.5}}}
	for _, name := range []string{"p.geojson", "p.gpkg", "p.shp", "p.parquet"} {
		path := filepath.Join(t.TempDir(), name)
		write(t, path, l)
		got, err := Read(files.Disk, path, "")
		require.NoError(t, err)
		require.Len(t, got.Features, 3, name)
		assert.Equal(t, []vector.Point{{13, 58.5}}, got.Features[1].Geometry.Points, name)
		assert.True(t, got.Features[2].Geometry.Empty(), name)
	}
	l.Features[0].Geometry.Points = append(l.Features[0].Geometry.Points, vector.Point{14, 59})
	files, _, err := shapefile.Encode(l)
	require.NoError(t, err)
	assert.EqualValues(t, 8, files[".shp"][32])
	l.Features[2].Geometry = sample(t, 4326).Features[0].Geometry
	_, _, err = shapefile.Encode(l)
	assert.ErrorContains(t, err, "either points or polygons")
}

func TestTables(t *testing.T) {
	dir := t.TempDir()
	table := func(text string) (*vector.Layer, error) {
		path := filepath.Join(dir, "t.csv")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return Read(files.Disk, path, "")
	}
	l, err := table("id;name;people;WKT\n007;A;12;POLYGON((12 58,13 58,13 59,12 58))\n008;B;;\"MULTIPOLYGON(((14 58,15 58,15 59,14 58)))\"\n")
	require.NoError(t, err)
	assert.Equal(t, []vector.Field{{Name: "id", Kind: vector.Text}, {Name: "name", Kind: vector.Text}, {Name: "people", Kind: vector.Integer}}, l.Fields)
	assert.Equal(t, []any{"007", "A", int64(12)}, l.Features[0].Values)
	assert.Equal(t, []any{"008", "B", nil}, l.Features[1].Values)
	assert.Contains(t, l.Notes[0], "taken as longitude and latitude")
	l, err = table("geom,v\n\"SRID=3035;POLYGON((4321000 3210000,4322000 3210000,4322000 3211000,4321000 3210000))\",0.5\n")
	require.NoError(t, err)
	assert.Equal(t, 3035, l.CRS.Code)
	l, err = table("name,lat,lon\nwell,58.3,12.5\n")
	require.NoError(t, err)
	assert.Equal(t, []vector.Point{{12.5, 58.3}}, l.Features[0].Geometry.Points)
	l, err = table("name,X,Y\nwell,4321000,3210000.5\n") // nothing says in which CRS
	require.NoError(t, err)
	assert.Equal(t, []vector.Point{{4321000, 3210000.5}}, l.Features[0].Geometry.Points)
	assert.Nil(t, l.CRS)
	l, err = table("easting,northing\n12.5,58.3\n")
	require.NoError(t, err)
	assert.Contains(t, l.Notes[0], "taken as longitude and latitude")
	l, err = table("wkt\n\"POLYGON((4321000 3210000,4322000 3210000,4322000 3211000,4321000 3210000))\"\n")
	require.NoError(t, err)
	assert.Nil(t, l.CRS)
	for text, want := range map[string]string{
		"":                                    "it is empty",
		"a,b\n1,2\n":                          "no column of outlines",
		"wkt,a\n\"POLYGON((1 2\",3\n":         "is not valid WKT",
		"wkt,a\n\"POINT(1 2)\"\n":             "but the line of names has",
		"x,y\n1e999,4\n":                      "are not coordinates",
		"x,y\nnan,4\n":                        "are not coordinates",
		"lat,lon\n98,4\n":                     "not a longitude and a latitude",
		"wkt\n\xef\xbb\n\x81":                 "neither UTF-8 nor",
		"wkt\n\"SRID=99999999;POINT(1 2)\"\n": "EPSG:99999999",
		"wkt\n\"SRID=3035;POINT(1 2)\"\n\"SRID=4326;POINT(1 2)\"\n": "but rows before it",
	} {
		_, err := table(text)
		assert.ErrorContains(t, err, want, text)
	}
}

// Dates, times and decimals stay what they are from one format to another that has them, and texts that say the same elsewhere.
func TestDatesAndDecimalsThereAndBack(t *testing.T) {
	dir := t.TempDir()
	l := sample(t, 4326)
	l.Fields = []vector.Field{{Name: "day", Form: vector.Date}, {Name: "moment", Form: vector.DateTime}, {Name: "price", Kind: vector.Real, Decimals: 2}, {Name: "odd", Form: vector.Date}}
	l.Features = l.Features[:2]
	l.Features[0].Values = []any{"2020-02-29", "2020-06-30T00:00:00.000Z", 12.34, "2020-01-01"}
	l.Features[1].Values = []any{"1931-12-01", nil, -0.5, "soon"}
	path := filepath.Join(dir, "0.gpkg")
	write(t, path, l)
	for i, ending := range []string{".parquet", ".gpkg", ".parquet", ".gpkg"} {
		got, err := Read(files.Disk, path, "")
		require.NoError(t, err)
		for k, want := range l.Fields {
			f := got.Field(want.Name)
			require.GreaterOrEqual(t, f, 0)
			switch {
			case want.Name == "odd": // which is not a date
				assert.Equal(t, vector.Plain, got.Fields[f].Form, path)
			case want.Name == "price":
				assert.Equal(t, vector.Real, got.Fields[f].Kind, path)
			default:
				assert.Equal(t, want.Form, got.Fields[f].Form, "%s %s", path, want.Name)
			}
			for n := range l.Features {
				have := got.Features[n].Values[f]
				if text, ok := have.(string); ok {
					have = strings.Replace(text, "00Z", "00.000Z", 1)
					have = strings.Replace(have.(string), ".000.000Z", ".000Z", 1)
				}
				assert.Equal(t, l.Features[n].Values[k], have, "%s %s", path, want.Name)
			}
		}
		path = filepath.Join(dir, fmt.Sprint(i+1)+ending)
		write(t, path, got)
	}
	path = filepath.Join(dir, "x.shp")
	write(t, path, l)
	got, err := Read(files.Disk, path, "")
	require.NoError(t, err)
	assert.Equal(t, vector.Date, got.Fields[0].Form)
	assert.Equal(t, "2020-02-29", got.Features[0].Values[0])
	path = filepath.Join(dir, "d.parquet")
	l.Name = ""
	write(t, path, l)
	got, err = Read(files.Disk, path, "")
	require.NoError(t, err)
	assert.Equal(t, 2, got.Fields[2].Decimals)
	assert.Equal(t, -0.5, got.Features[1].Values[2])
}
