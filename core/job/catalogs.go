package job

import (
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/epoch"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/stac"
	"github.com/verdex-land/verdex/core/text"
)

// A catalog stands for the rasters that its items have in the place and the time that a job is about: CATALOG#ASSET, where a raster may stand.

// search is what is known of the rasters that are wanted of catalogs, and what catalogs have said of those that were found.
type search struct {
	label  string            // of the epoch; "" for any time
	zones  *ZoneOptions      // that are measured; nil for everywhere
	box    *[4]float64       // of the zones, once it was needed
	nodata map[string]stated // by raster
	said   map[string]bool   // notes on nodata values that were made
	is     map[string]bool   // of names that were asked about: whether they are those of catalogs
}

// stated is the nodata value that a catalog states for a raster, nil for none.
type stated struct {
	value   *float64
	catalog string
}

// about says what is wanted of the catalogs that are named next.
func (w *work) about(label string, zones *ZoneOptions) {
	w.search.label = label
	if zones != nil {
		w.search.zones = zones
	}
}

// isCatalog reports whether a name may be that of a catalog, and divides it into that and the asset.
func (w *work) isCatalog(name string) (where, asset string, is bool) {
	if w.env.Maker != nil && w.env.Maker.Defines(name) {
		return "", "", false
	}
	where = name
	if i := strings.LastIndexByte(name, '#'); i > 0 {
		where, asset = name[:i], name[i+1:]
	}
	switch strings.ToLower(files.Ext(where)) {
	case ".json", ".geojson":
	default:
		if !files.IsURL(where) || files.Ext(where) != "" {
			return "", "", false
		}
	}
	is, known := w.search.is[where]
	if !known {
		data, err := w.env.files().ReadFile(where)
		is = err == nil && stac.Is(data)
		if w.search.is == nil {
			w.search.is = map[string]bool{}
		}
		w.search.is[where] = is
	}
	if !is {
		return "", "", false
	}
	return where, asset, true
}

// expand puts the rasters of catalogs in the places of their names.
func (w *work) expand(args []string) (out []string, err error) {
	for _, arg := range args {
		name, _ := open.Split(arg)
		suffix := arg[len(name):] // a band
		where, asset, is := w.isCatalog(name)
		if !is {
			out = append(out, arg)
			continue
		}
		items, err := w.find(where, asset)
		if err != nil {
			return nil, err
		}
		for _, it := range items {
			out = append(out, it.Href+suffix)
		}
	}
	return out, nil
}

// find finds the items of a catalog that the job is about.
func (w *work) find(where, asset string) ([]stac.Item, error) {
	q := stac.Query{Asset: asset}
	if label := w.search.label; label != "" {
		from, year, ok := epoch.When(label)
		if !ok {
			return nil, fault.Errorf("%s: it is a catalog, of which the items of an epoch are wanted, and the label %s is neither a year nor a date", where, label).Do("label the epoch with its year or date")
		}
		q.From = from
		switch {
		case year:
			q.To = from.AddDate(1, 0, 0)
		case len(label) == len("2006-01"):
			q.To = from.AddDate(0, 1, 0)
		default:
			q.To = from.AddDate(0, 0, 1)
		}
	}
	var err error
	if q.Box, err = w.boxOfZones(); err != nil {
		return nil, err
	}
	w.reads("catalog", where)
	items, err := stac.Find(w.noting("catalog"), where, q)
	if err != nil {
		return nil, err
	}
	if w.search.label == "" {
		for _, it := range items[1:] {
			if !it.Start.Equal(items[0].Start) {
				return nil, fault.Errorf("%s: its items are of several times, from %s to %s", where, items[0].Start.Format(time.DateOnly), items[len(items)-1].Start.Format(time.DateOnly)).
					Do("say which epoch is wanted, or name one item")
			}
		}
	}
	w.note(where + ": " + text.Count(len(items), "raster") + " of " + items[0].Start.Format(time.DateOnly) + dateTo(items))
	if w.search.nodata == nil {
		w.search.nodata = map[string]stated{}
	}
	for _, it := range items {
		w.search.nodata[it.Href] = stated{it.NoData, where}
	}
	return items, nil
}

func dateTo(items []stac.Item) string {
	if last := items[len(items)-1].Start; !last.Equal(items[0].Start) {
		return " to " + last.Format(time.DateOnly)
	}
	return ""
}

// boxOfZones is the box around the zones of the job in degrees, nil where there are none, or they go around the Earth.
func (w *work) boxOfZones() (*[4]float64, error) {
	o := w.search.zones
	if w.search.box != nil || o == nil || o.Zones == "" {
		return w.search.box, nil
	}
	set, err := w.loadZones("zones", o.Zones, o.SelectionOptions, o.ZoneNames)
	if err != nil {
		return nil, err
	}
	box := [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
	for _, z := range set.Zones {
		for _, p := range z.Polygons {
			for _, r := range p {
				for _, q := range r {
					lon, lat, ok := set.CRS.ToGeographic(q[0], q[1])
					if !ok {
						return nil, nil
					}
					lon, lat = lon*180/math.Pi, lat*180/math.Pi
					box = [4]float64{math.Min(box[0], lon), math.Min(box[1], lat), math.Max(box[2], lon), math.Max(box[3], lat)}
				}
			}
		}
	}
	if box[0] > box[2] || box[2]-box[0] > 180 { // around the other side of the Earth, perhaps
		return nil, nil
	}
	const margin = 0.001 // an edge between two corners may bend beyond them
	edge := margin + (box[3]-box[1]+box[2]-box[0])/50
	w.search.box = &[4]float64{box[0] - edge, math.Max(-90, box[1]-edge), box[2] + edge, math.Min(90, box[3]+edge)}
	return w.search.box, nil
}

// scenesOf are the dates of a catalog, each with its rasters.
func (w *work) scenesOf(where, asset string) (out []Scene, err error) {
	items, err := w.find(where, asset)
	if err != nil {
		return nil, err
	}
	for _, it := range items {
		date := it.Start.Format(time.DateOnly)
		if n := len(out); n == 0 || out[n-1].Date != date {
			out = append(out, Scene{Date: date})
		}
		last := &out[len(out)-1]
		last.Paths = append(last.Paths, it.Href)
	}
	return out, nil
}

// statedFile is a raster whose nodata value its catalog states.
type statedFile struct {
	raster.Source
	io.Closer
}

// Tiling is that of the raster.
func (f statedFile) Tiling() (cols, rows []int) { return raster.Tiling(f.Source) }

// Overviews are those of the raster.
func (f statedFile) Overviews() []raster.Source { return raster.Overviews(f.Source) }

// Ahead implements [raster.Announced].
func (f statedFile) Ahead(windows []raster.Window) bool { return raster.Ahead(f.Source, windows) }

// asStated gives a raster the nodata value that its catalog states, where the file states none. Where they differ the file counts.
func (w *work) asStated(f open.File, path string) open.File {
	by := w.search.nodata[path]
	v := by.value
	if v == nil {
		return f
	}
	switch has := f.Header().NoData; {
	case has == nil && f.Header().Type.Holds(*v):
		if text := fmt.Sprintf("%s: it says that %v is nodata, which the files do not state", by.catalog, *v); !w.search.said[text] { // once for all tiles
			if w.search.said == nil {
				w.search.said = map[string]bool{}
			}
			w.search.said[text] = true
			w.note(text)
		}
		return statedFile{raster.WithNoData(f, *v), f}
	case has == nil:
		w.warn(fmt.Sprintf("%s: its catalog says that %v is nodata, which its cells cannot hold", path, *v))
	case *has != *v:
		w.warn(fmt.Sprintf("%s: the file says that %v is nodata, and its catalog says that %v is; the file counts", path, *has, *v))
	}
	return f
}
