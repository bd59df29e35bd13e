package job

import (
	"context"

	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/zone"
)

// MosaicOptions are those of [Mosaic].
type MosaicOptions struct {
	Rasters        []string `arg:"RASTER..." in:"cover"`
	RasterOptions  `group:"rasters"`
	ListOption     `group:"rasters"`
	OverrideOption `group:"rasters"`
}

// Mosaic puts rasters that have one CRS and one cell size together, without moving a cell unless it is allowed.
func Mosaic(ctx context.Context, env Env, o MosaicOptions) (*Raster, error) {
	w, _, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	src, err := w.openAll(o.Rasters, o.ListOption, o.RasterOptions)
	if err != nil {
		return nil, err
	}
	return w.view(src, o.Measurements, src.Close), nil
}

// openAll opens the rasters of arguments and a list as one.
func (w *work) openAll(args []string, list ListOption, o RasterOptions) (*cells, error) {
	if list.FromList != "" {
		w.reads("list of rasters", list.FromList)
	}
	paths, err := Rasters(w.env.files(), args, list.FromList)
	if err != nil {
		return nil, err
	}
	return w.openCells("cover", paths, o)
}

// ClipOptions are those of [Clip].
type ClipOptions struct {
	Rasters          []string `arg:"RASTER..." in:"cover"`
	To               string   `opt:"to" in:"place to clip to" help:"<WHERE>: a file of zones, bbox:W,S,E,N, geo:LAT,LON;u=METRES, WKT, or another raster"`
	Shrink           bool     `opt:"shrink" help:"cut to the smallest extent on the same grid"`
	SelectionOptions `group:"zones"`
	RasterOptions    `group:"rasters"`
	ListOption       `group:"rasters"`
	OverrideOption   `group:"rasters"`
}

// Clip makes cells nodata whose centres lie outside a place. No cell is moved.
func Clip(ctx context.Context, env Env, o ClipOptions) (_ *Raster, err error) {
	w, _, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	if o.To == "" {
		return nil, fault.Misusef("", "", "nothing says where to cut").By("name the place", "to", "WHERE")
	}
	src, err := w.openAll(o.Rasters, o.ListOption, o.RasterOptions)
	if err != nil {
		return nil, err
	}
	s, err := w.clipTo(src, &o)
	if err != nil {
		src.Close()
		return nil, err
	}
	return w.view(s, o.Measurements, src.Close), nil
}

// clipTo makes the view of a clip.
func (w *work) clipTo(src *cells, o *ClipOptions) (raster.Source, error) {
	if err := src.needCRS(); err != nil {
		return nil, err
	}
	if path, _ := open.Split(o.To); isRaster(w.env.files(), path) {
		g, err := w.gridOfRaster(o.To)
		if err != nil {
			return nil, err
		}
		return clipToGrid(src, g, path, o.Shrink)
	}
	set, err := w.loadZones("place to clip to", o.To, o.SelectionOptions, "")
	if err != nil {
		return nil, err
	}
	place, err := set.Place(src.Header().Grid)
	if err != nil {
		return nil, err
	}
	w.note(set.Notes...)
	w.note(place.Notes...)
	return cutTo(src, place, set.Source, o.Shrink)
}

// cutTo masks by placed zones, and shrinks.
func cutTo(src *cells, place *zone.Placement, name string, shrunk bool) (raster.Source, error) {
	window := place.Window()
	if window.Width == 0 {
		return nil, fault.Errorf("%s: no cell of %s has its centre in it", name, src.path).Do("check that both lie in the same place and that their CRSs are right")
	}
	s, err := zone.Mask(src, place)
	if err != nil || !shrunk {
		return s, err
	}
	return shrink(s, window)
}

func shrink(s raster.Source, w raster.Window) (raster.Source, error) {
	g := s.Header().Grid
	g.X0, g.Y0 = g.Point(float64(w.Col), float64(w.Row))
	g.Width, g.Height = w.Width, w.Height
	return view.Crop(s, g)
}

// clipToGrid cuts to the extent of another grid, whose outline is a rectangle in its own CRS.
func clipToGrid(src *cells, other raster.Grid, name string, shrunk bool) (raster.Source, error) {
	west, south, east, north := other.Bounds()
	ring := zone.Ring{{west, south}, {east, south}, {east, north}, {west, north}}
	set := &zone.Set{Source: name, CRS: other.CRS, Zones: []zone.Zone{{ID: "extent", Polygons: []zone.Polygon{{ring}}}}}
	g := src.Header().Grid
	place, err := set.Place(g)
	if err != nil {
		return nil, err
	}
	window := place.Window()
	if shrunk && other.CRS.Same(g.CRS) && len(place.Outlines[0].Rings) > 0 && window.Width > 0 {
		return shrink(src, window) // a rectangle of the grid: nothing lies outside
	}
	return cutTo(src, place, name, shrunk)
}

// AlignOptions are those of [Align].
type AlignOptions struct {
	Rasters        []string `arg:"RASTER..." in:"cover"`
	Grid           string   `opt:"grid" in:"grid" help:"the <RASTER> whose grid is taken"`
	SourceOptions  `group:"rasters"`
	Overlap        string `opt:"overlap" choose:"last,first,majority,mean,min,max" help:"where rasters overlap, the <one> that counts: last, first or majority; for measurements also mean, min or max"`
	Resample       string `opt:"resample" choose:"nearest,majority,bilinear" help:"which value a cell takes: that of the <nearest> centre, of the majority of its area, or bilinear for measurements"`
	Measurements   bool   `opt:"measurements" help:"the cells are measurements, not classes"`
	ListOption     `group:"rasters"`
	OverrideOption `group:"rasters"`
}

// Align brings a raster onto the cells of another one, also across CRSs. Classes take the nearest centre, or the class that covers
// most of the cell; only measurements are interpolated.
func Align(ctx context.Context, env Env, o AlignOptions) (_ *Raster, err error) {
	w, _, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	if o.Grid == "" {
		return nil, fault.Misusef("", "", "nothing says whose grid is taken").By("name a raster", "grid", "RASTER")
	}
	src, err := w.openAll(o.Rasters, o.ListOption, RasterOptions{SourceOptions: o.SourceOptions, Overlap: o.Overlap, Measurements: o.Measurements})
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			src.Close()
		}
	}()
	if err := src.needCRS(); err != nil {
		return nil, err
	}
	g, err := w.gridOfRaster(o.Grid)
	if err != nil {
		return nil, err
	}
	how := view.Nearest
	switch o.Resample {
	case "majority":
		how = view.Heaviest
	case "bilinear":
		if how = view.Bilinear; !o.Measurements && !src.Header().Type.Floating() {
			return nil, wouldMakeUp(src.path)
		}
	}
	a, err := view.Align(src, g, how)
	if err != nil {
		return nil, err
	}
	w.note(a.Notes...)
	out := w.view(a, o.Measurements, src.Close)
	out.after = append(out.after, func() { w.noteMoves([]*view.Aligned{a}) })
	return out, nil
}
