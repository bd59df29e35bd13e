package stac

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
)

// web are files in memory.
func web(texts map[string]string) files.Memory {
	m := files.Memory{}
	for name, text := range texts {
		m[name] = []byte(text)
	}
	return m
}

func day(text string) time.Time { t, _ := time.Parse(time.DateOnly, text); return t }
func item(id, day, box, assets, links string) string {
	return fmt.Sprintf(`{"type":"Feature","stac_version":"1.0.0","id":%q,"bbox":%s,"properties":{"datetime":"%sT00:00:00Z"},"assets":{%s},"links":[%s]}`, id, box, day, assets, links)
}

const (
	here  = "[12,58,13,59]"
	there = "[-70,-10,-69,-9]"
	cover = `"cover":{"href":"../tif/%s.tif","type":"image/tiff; application=geotiff","raster:bands":[{"nodata":0}]},"thumbnail":{"href":"t.png","type":"image/png"}`
)

func ids(items []Item) string {
	var out []string
	for _, it := range items {
		out = append(out, it.ID)
	}
	return strings.Join(out, " ")
}

func TestStaticCatalogs(t *testing.T) {
	w := web(map[string]string{
		"https://h.example/cat/catalog.json":      `{"type":"Catalog","stac_version":"1.0.0","id":"c","links":[{"rel":"child","href":"a/collection.json"},{"rel":"item","href":"late.json"},{"rel":"root","href":"catalog.json"},{"rel":"child","href":"catalog.json"}]}`,
		"https://h.example/cat/a/collection.json": `{"type":"Collection","stac_version":"1.0.0","id":"a","links":[{"rel":"item","href":"./x.json"},{"rel":"item","href":"/cat/a/y.json"}]}`,
		"https://h.example/cat/a/x.json":          item("x", "2012-06-18", here, fmt.Sprintf(cover, "x"), ""),
		"https://h.example/cat/a/y.json":          item("y", "2012-05-01", there, fmt.Sprintf(cover, "y"), ""),
		"https://h.example/cat/late.json":         item("late", "2020-07-09", here, fmt.Sprintf(cover, "late"), ""),
	})
	const root = "https://h.example/cat/catalog.json"
	all, err := Find(w, root, Query{})
	require.NoError(t, err)
	assert.Equal(t, "y x late", ids(all), "in the order of time")
	assert.Equal(t, "https://h.example/cat/tif/x.tif", all[1].Href)
	assert.Equal(t, 0.0, *all[1].NoData)
	some, err := Find(w, root, Query{From: day("2012-01-01"), To: day("2013-01-01"), Box: &[4]float64{12.5, 58.5, 12.6, 58.6}})
	require.NoError(t, err)
	assert.Equal(t, "x", ids(some))
	_, err = Find(w, root, Query{From: day("1999-01-01"), To: day("2000-01-01")})
	assert.ErrorContains(t, err, "none of its 3 items lies in the place and the time")
	_, err = Find(w, root, Query{Asset: "elevation"})
	assert.ErrorContains(t, err, "has no asset elevation (cover, thumbnail)")
	_, err = Find(w, root+"x", Query{})
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

// A catalog on the disk names files beside it.
func TestCatalogsOnTheDisk(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "i.json"), []byte(item("i", "2012-06-18", here, `"data":{"href":"i.tif","type":"image/tiff"}`, "")), 0o644))
	items, err := Find(files.Disk, filepath.Join(dir, "i.json"), Query{})
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, "i.tif"), items[0].Href)
	assert.Nil(t, items[0].NoData)
}

func TestSearches(t *testing.T) {
	const root = "https://h.example/"
	w := web(map[string]string{
		root: `{"type":"Catalog","stac_version":"1.0.0","id":"c","conformsTo":["https://api.stacspec.org/v1.0.0/item-search"],"links":[{"rel":"search","href":"search","method":"POST"},{"rel":"search","href":"search"}]}`,
		root + "search?bbox=12.0000000%2C58.0000000%2C13.0000000%2C59.0000000&datetime=2012-01-01T00%3A00%3A00Z%2F2012-12-31T23%3A59%3A59Z&limit=100": `{"type":"FeatureCollection","features":[` +
			item("b", "2012-02-01", here, `"d":{"href":"b.tif","type":"image/tiff"}`, `{"rel":"self","href":"items/b"}`) + `],"links":[{"rel":"next","href":"search?page=2"}]}`,
		root + "search?page=2": `{"type":"FeatureCollection","features":[` + item("a", "2012-02-01", here, `"d":{"href":"https://other.example/a.tif","type":"image/tiff"}`, "") + `],"links":[]}`,
	})
	items, err := Find(w, root, Query{From: day("2012-01-01"), To: day("2013-01-01"), Box: &[4]float64{12, 58, 13, 59}})
	require.NoError(t, err)
	assert.Equal(t, "a b", ids(items))
	assert.Equal(t, "https://other.example/a.tif", items[0].Href)
	assert.Equal(t, "https://h.example/items/b.tif", items[1].Href)
	// A server that pages for ever.
	w[root+"search?page=2"] = []byte(`{"type":"FeatureCollection","features":[],"links":[{"rel":"next","href":"search?page=2"}]}`)
	_, err = Find(w, root, Query{From: day("2012-01-01"), To: day("2013-01-01"), Box: &[4]float64{12, 58, 13, 59}})
	assert.ErrorContains(t, err, "pages of the server do not end")
	w[root+"search?page=2"] = []byte(`{"type":"FeatureCollection","features":[],"links":[{"rel":"next","href":"x","method":"POST"}]}`)
	_, err = Find(w, root, Query{From: day("2012-01-01"), To: day("2013-01-01"), Box: &[4]float64{12, 58, 13, 59}})
	assert.ErrorContains(t, err, "asked for by POST")
	for range 2 {
		w[root+"search?limit=100"] = []byte(`{"type":"FeatureCollection","features":[],"links":[]}`)
		_, err = Find(w, root, Query{})
		assert.ErrorContains(t, err, "the server finds no items")
	}
}

func TestWrongCatalogs(t *testing.T) {
	for text, want := range map[string]string{
		`{"type":"Catalog","stac_version":"1.0.0","links":[]}`:                                                          "it leads to no items",
		`{"type":"Feature","stac_version":"1.0.0","id":"x","properties":{"datetime":null},"assets":{"d":{"href":"a"}}}`: "states no time",
		item("x", "2012-01-01", here, `"d":{"type":"image/tiff"}`, ""):                                                  "has no address",
		item("x", "2012-01-01", here, `"d":{"href":"a","type":"image/tiff"},"e":{"href":"b","type":"image/tiff"}`, ""):  "has 2 rasters among its assets: name one, as c.json#NAME (d, e)",
		item("x", "2012-01-01", here, `"d":{"href":"a","type":"image/tiff","raster:bands":[{"nodata":"none"}]}`, ""):    `nodata value "none" is neither`,
		`{"type":"Catalog","stac_version":"1.0.0","links":[{"rel":"item","href":"c.json2"}]}`:                           "c.json2",
		`{"type":"FeatureCollection","stac_version":"1.0.0","features":[{"type":"Feature","id":"x"}]}`:                  "it is not an item",
		`{"type":"Catalog","stac_version":1}`:                                                                           "it is not a catalog that can be read",
	} {
		_, err := Find(files.Memory{"c.json": []byte(text)}, "c.json", Query{})
		assert.ErrorContains(t, err, want, text)
	}
	deep := files.Memory{}
	for i := range 100 {
		deep[fmt.Sprint("https://h.example/", i)] = fmt.Appendf(nil, `{"type":"Catalog","stac_version":"1.0.0","links":[{"rel":"child","href":"%d"}]}`, i+1)
	}
	_, err := Find(deep, "https://h.example/0", Query{})
	assert.ErrorContains(t, err, "more catalogs and pages than can be read")
	assert.True(t, Is([]byte(item("x", "2012-01-01", here, "", ""))))
	assert.False(t, Is([]byte(`{"type":"FeatureCollection","features":[]}`)))
	assert.False(t, Is([]byte(`"stac_version"`)))
}

func TestBoxes(t *testing.T) {
	assert.False(t, apart([4]float64{12, 58, 13, 59}, nil))
	assert.False(t, apart([4]float64{12, 58, 13, 59}, []float64{12.5, 58.5, 0, 20, 60, 100}), "with heights")
	assert.True(t, apart([4]float64{12, 58, 13, 59}, []float64{14, 58, 15, 59}))
	assert.True(t, apart([4]float64{12, 58, 13, 59}, []float64{12, 60, 13, 61}))
	assert.False(t, apart([4]float64{179, 0, -179, 1}, []float64{-179.5, 0, -178, 1}), "across the antimeridian")
	assert.True(t, apart([4]float64{179, 0, -179, 1}, []float64{10, 0, 20, 1}))
}

func FuzzFind(f *testing.F) {
	f.Add(item("x", "2012-01-01", here, `"d":{"href":"a","type":"image/tiff"}`, `{"rel":"self","href":"a"}`))
	f.Add(`{"type":"Catalog","stac_version":"1.0.0","links":[{"rel":"item","href":"c.json"}]}`)
	f.Fuzz(func(t *testing.T, text string) {
		Is([]byte(text))
		items, err := Find(files.Memory{"c.json": []byte(text)}, "c.json", Query{Box: &[4]float64{0, 0, 1, 1}})
		if err == nil && len(items) == 0 {
			t.Fatal("nothing is found, and nothing is wrong")
		}
	})
}
