// Package stac finds rasters in SpatioTemporal Asset Catalogs: static catalogs and collections, single items, lists of items, and servers with a search of items.
// [Find] walks from any of them to the items that lie in a box and a time, and returns one asset of each.
package stac

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/text"
)

// Query says which items are wanted, and which asset of them.
type Query struct {
	Asset string      // its name; "" for the only raster of each item
	Box   *[4]float64 // west, south, east, north in degrees; nil for everywhere. West is greater than east across the antimeridian.
	From  time.Time   // items that end before are left out; zero for any
	To    time.Time   // items that begin then or later are left out; zero for any
}

// Item is an asset of an item.
type Item struct {
	ID     string
	Start  time.Time // of what it shows
	End    time.Time
	Href   string // of the asset: a path or a URL
	NoData *float64
}

// What is read at most.
const (
	mostDocuments = 20000
	mostItems     = 200000
)

type link struct{ Rel, Href, Type, Method string }

type asset struct {
	Href  string
	Type  string
	Roles []string
	Bands []band `json:"raster:bands"`
	Plain []band `json:"bands"`
}

type band struct {
	NoData any `json:"nodata"`
}

type document struct {
	Version    string `json:"stac_version"`
	Type       string
	ID         string
	Box        []float64 `json:"bbox"`
	Properties struct {
		At    *time.Time `json:"datetime"`
		Start *time.Time `json:"start_datetime"`
		End   *time.Time `json:"end_datetime"`
	}
	Assets   map[string]asset
	Links    []link
	Conforms []string   `json:"conformsTo"`
	Features []document `json:"features"`
}

// Is reports whether the text of a file is that of a catalog or of items.
func Is(data []byte) bool {
	if !bytes.Contains(data, []byte(`"stac_version"`)) {
		return false
	}
	var d document
	if json.Unmarshal(data, &d) != nil {
		return false
	}
	return d.Version != "" || d.Type == "FeatureCollection" && len(d.Features) > 0 && d.Features[0].Version != ""
}

// walk is a search.
type walk struct {
	from   files.System
	source string
	q      Query
	seen   map[string]bool
	ids    map[string]bool
	items  []Item
	passed int  // items that do not lie in the box or the time
	asked  bool // a server was asked for those that do
}

// Find finds the items of a query from a catalog, in the order of time and then of their names.
func Find(from files.System, where string, q Query) ([]Item, error) {
	w := &walk{from: from, source: where, q: q, seen: map[string]bool{}, ids: map[string]bool{}}
	if err := w.visit(where, 0); err != nil {
		return nil, err
	}
	if len(w.items) == 0 {
		if w.asked {
			return nil, fault.Errorf("%s: the server finds no items in the place and the time that are wanted: check the label of the epoch and the zones", where)
		}
		if w.passed > 0 {
			return nil, fault.Errorf("%s: none of its %s lies in the place and the time that are wanted: check the label of the epoch and the zones", where, text.Count(w.passed, "item"))
		}
		return nil, fault.Errorf("%s: it leads to no items: check the address", where)
	}
	slices.SortFunc(w.items, func(a, b Item) int {
		if c := a.Start.Compare(b.Start); c != 0 {
			return c
		}
		return strings.Compare(a.ID, b.ID)
	})
	return w.items, nil
}

// visit reads a document and what it leads to.
func (w *walk) visit(where string, depth int) error {
	if w.seen[where] {
		return nil
	}
	if w.seen[where] = true; len(w.seen) > mostDocuments || depth > 64 {
		return fault.Errorf("%s: it leads to more catalogs and pages than can be read: name one of its collections", w.source)
	}
	data, err := w.from.ReadFile(where)
	if err != nil {
		return err
	}
	var d document
	if err := json.Unmarshal(data, &d); err != nil {
		return fault.Errorf("%s: it is not a catalog that can be read (%v): tell its operator", where, err)
	}
	if next, err := w.search(where, &d); err != nil {
		return err
	} else if next != "" {
		return w.pages(next)
	}
	switch d.Type {
	case "Feature":
		return w.item(where, &d)
	case "FeatureCollection":
		return w.page(where, &d)
	}
	for _, l := range d.Links {
		if l.Rel != "child" && l.Rel != "item" {
			continue
		}
		next, err := files.Follow(w.from, where, l.Href)
		if err == nil {
			err = w.visit(next, depth+1)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// search is the address of a search on a server that has one, "" for others.
func (w *walk) search(where string, d *document) (string, error) {
	at := ""
	collection := ""
	for _, l := range d.Links {
		switch {
		case l.Rel == "search" && (l.Method == "" || strings.EqualFold(l.Method, "GET")) && slices.ContainsFunc(d.Conforms, func(c string) bool { return strings.HasSuffix(c, "/item-search") }):
			at = l.Href
		case l.Rel == "items" && d.Type == "Collection": // of a server's collection
			collection = l.Href
		}
	}
	if at == "" {
		at = collection
	}
	if at == "" {
		return "", nil
	}
	at, err := files.From(where, at)
	if err != nil {
		return "", err
	}
	u, err := url.Parse(at)
	if err != nil {
		return "", fault.Errorf("%s: its search has the address %q, which cannot be read: tell its operator", where, at)
	}
	w.asked = true
	v := u.Query()
	v.Set("limit", "100")
	if b := w.q.Box; b != nil {
		v.Set("bbox", fmt.Sprintf("%.7f,%.7f,%.7f,%.7f", b[0], b[1], b[2], b[3]))
	}
	if !w.q.From.IsZero() && !w.q.To.IsZero() {
		v.Set("datetime", w.q.From.UTC().Format(time.RFC3339)+"/"+w.q.To.Add(-time.Second).UTC().Format(time.RFC3339))
	}
	u.RawQuery = v.Encode()
	return files.Follow(w.from, where, u.String())
}

// pages reads the pages of a search from one on.
func (w *walk) pages(where string) error {
	data, err := w.from.ReadFile(where)
	if err != nil {
		return err
	}
	w.seen[where] = true
	var d document
	if err := json.Unmarshal(data, &d); err != nil || d.Type != "FeatureCollection" {
		return fault.Errorf("%s: the server's search does not send items: tell its operator", where)
	}
	return w.page(where, &d)
}

// page takes the items of a page, and those of the pages behind it.
func (w *walk) page(where string, d *document) error {
	for {
		for i := range d.Features {
			if err := w.item(where, &d.Features[i]); err != nil {
				return err
			}
		}
		next := ""
		for _, l := range d.Links {
			if l.Rel != "next" {
				continue
			}
			if l.Method != "" && !strings.EqualFold(l.Method, "GET") {
				return fault.Errorf("%s: its pages are asked for by %s, which is not supported: download the items as one file", w.source, l.Method)
			}
			var err error
			if next, err = files.Follow(w.from, where, l.Href); err != nil {
				return err
			}
		}
		if next == "" {
			return nil
		}
		if w.seen[next] || len(w.seen) > mostDocuments {
			return fault.Errorf("%s: the pages of the server do not end: tell its operator", w.source)
		}
		w.seen[next] = true
		data, err := w.from.ReadFile(next)
		if err != nil {
			return err
		}
		d, where = new(document), next
		if err := json.Unmarshal(data, d); err != nil || d.Type != "FeatureCollection" {
			return fault.Errorf("%s: a page of it holds no items: tell its operator", w.source)
		}
	}
}

// item takes an item, if it is wanted.
func (w *walk) item(where string, d *document) error {
	if d.Version == "" || d.Assets == nil {
		return fault.Errorf("%s: it is not an item of a catalog: check the address", where)
	}
	it := Item{ID: d.ID}
	p := d.Properties
	switch {
	case p.Start != nil && p.End != nil:
		it.Start, it.End = *p.Start, *p.End
	case p.At != nil:
		it.Start, it.End = *p.At, *p.At
	default:
		return fault.Errorf("%s: the item %s states no time: mend the catalog", where, d.ID)
	}
	if !w.q.To.IsZero() && !it.Start.Before(w.q.To) || !w.q.From.IsZero() && it.End.Before(w.q.From) || w.q.Box != nil && apart(*w.q.Box, d.Box) {
		w.passed++
		return nil
	}
	name, a, err := w.asset(d)
	if err != nil {
		return err
	}
	if a.Href == "" {
		return fault.Errorf("%s: the asset %s of the item %s has no address: mend the catalog", where, name, d.ID)
	}
	self := where
	for _, l := range d.Links { // hrefs of an item on a page are relative to the item
		if l.Rel == "self" && l.Href != "" {
			if self, err = files.From(where, l.Href); err != nil {
				return err
			}
		}
	}
	if it.Href, err = files.Follow(w.from, self, a.Href); err != nil {
		return err
	}
	if it.NoData, err = a.nodata(); err != nil {
		return fault.Errorf("%s: the asset %s of the item %s: %w", where, name, d.ID, err)
	}
	if w.ids[d.ID+"\n"+it.Href] {
		return nil
	}
	w.ids[d.ID+"\n"+it.Href] = true
	if w.items = append(w.items, it); len(w.items) > mostItems {
		return fault.Errorf("%s: it leads to more than %d items: name one of its collections", w.source, mostItems)
	}
	return nil
}

// asset is the asset of an item that is wanted.
func (w *walk) asset(d *document) (string, asset, error) {
	if w.q.Asset != "" {
		if a, ok := d.Assets[w.q.Asset]; ok {
			return w.q.Asset, a, nil
		}
		return "", asset{}, fault.Errorf("%s: the item %s has no asset %s (%s): name one of these", w.source, d.ID, w.q.Asset, text.List(names(d.Assets), 20))
	}
	var rasters []string
	for _, name := range names(d.Assets) {
		if t := d.Assets[name].Type; strings.HasPrefix(t, "image/tiff") {
			rasters = append(rasters, name)
		}
	}
	if len(rasters) == 1 {
		return rasters[0], d.Assets[rasters[0]], nil
	}
	return "", asset{}, fault.Errorf("%s: the item %s has %d rasters among its assets: name one, as %s#NAME (%s)", w.source, d.ID, len(rasters), w.source, text.List(names(d.Assets), 20))
}

func names(assets map[string]asset) (out []string) {
	for name := range assets {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// nodata is what an asset says stands for missing cells: of several bands only where all say the same.
func (a *asset) nodata() (*float64, error) {
	bands := a.Bands
	if len(bands) == 0 {
		bands = a.Plain
	}
	var out *float64
	for i, b := range bands {
		var v *float64
		switch n := b.NoData.(type) {
		case nil:
		case float64:
			v = &n
		case string: // "nan", "inf", "-inf"
			if !slices.Contains([]string{"nan", "inf", "-inf"}, n) {
				return nil, fmt.Errorf("its nodata value %q is neither a number nor nan", n)
			}
		default:
			return nil, fmt.Errorf("its nodata value is neither a number nor nan")
		}
		if i > 0 && (v == nil) != (out == nil) || v != nil && out != nil && *v != *out {
			return nil, nil
		}
		out = v
	}
	return out, nil
}

// apart reports whether two boxes have nothing in common; a box that is not stated may be anywhere.
func apart(a [4]float64, list []float64) bool {
	var b [4]float64
	switch len(list) {
	case 4:
		b = [4]float64(list)
	case 6:
		b = [4]float64{list[0], list[1], list[3], list[4]}
	default:
		return false
	}
	if a[1] > b[3] || b[1] > a[3] {
		return true
	}
	for _, turn := range []float64{-360, 0, 360} {
		aw, ae, bw, be := a[0], a[2], b[0]+turn, b[2]+turn
		if ae < aw {
			ae += 360
		}
		if be < bw {
			be += 360
		}
		if aw <= be && bw <= ae {
			return false
		}
	}
	return true
}
