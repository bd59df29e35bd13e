package job

import (
	"strings"

	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/open"
)

// LayerOptions name the rasters that are computed with.
type LayerOptions struct {
	Layers         []string `opt:"layer" in:"layer" help:"<NAME=RASTER>, or NAME=RASTER#BAND, once for each layer"`
	Grid           string   `opt:"grid" in:"grid" help:"the <RASTER> or the name of the layer on whose cells the layers meet"`
	CodesAsNumbers bool     `opt:"codes-as-numbers" help:"allow layers with a palette, whose values are codes, in arithmetic"`
}

// layers are rasters on one grid, by name.
type layers struct {
	*view.Layers
	files []open.File
	moved []*view.Aligned
	keys  []string // by layer
}

// Close closes the files of the layers.
func (l *layers) Close() {
	for _, f := range l.files {
		f.Close()
	}
}

// openLayers opens layers on one grid.
func (w *work) openLayers(o LayerOptions, from SourceOptions) (_ *layers, err error) {
	if len(o.Layers) == 0 {
		return nil, fault.Misusef("", "", "no layers are named").By("name each", "layer", "NAME=RASTER")
	}
	out := &layers{}
	defer func() {
		if err != nil {
			out.Close()
		}
	}()
	var list []view.Layer
	names := map[string]int{}
	for _, text := range o.Layers {
		name, arg, ok := strings.Cut(text, "=")
		if !ok || name == "" || arg == "" {
			return nil, fault.Misusef("layer", text, "does not have the form NAME=RASTER")
		}
		if _, twice := names[name]; twice {
			return nil, fault.Misusef("layer", text, "has the name of another layer")
		}
		names[name] = len(list)
		f, path, decided, err := w.oneRaster("layer", arg)
		if err != nil {
			return nil, err
		}
		out.files = append(out.files, f)
		nodata := nodataOf(name, from.NoData)
		s, err := w.adjust(f, path, nodata, from.CRS)
		if err != nil {
			return nil, err
		}
		key, err := w.rasterKey(decided, s.Header())
		if err != nil {
			return nil, err
		}
		out.keys = append(out.keys, name+" "+key)
		list = append(list, view.Layer{Name: name, Source: s})
	}
	if o.Grid != "" {
		g, err := w.gridOf(o.Grid, list, names)
		if err != nil {
			return nil, err
		}
		if err := out.onto(g, list); err != nil {
			return nil, err
		}
	}
	out.Layers, err = view.NewLayers(list)
	return out, err
}

// nodataOf is the nodata value of a layer among values and NAME=VALUE, "" for none.
func nodataOf(name string, values []string) (out string) {
	for _, v := range values {
		if value, ok := strings.CutPrefix(v, name+"="); ok {
			return value
		} else if out == "" && !strings.Contains(v, "=") {
			out = v
		}
	}
	return out
}

// gridOf finds a grid by the name of a layer or of a raster.
func (w *work) gridOf(where string, list []view.Layer, names map[string]int) (raster.Grid, error) {
	if k, ok := names[where]; ok {
		return list[k].Header().Grid, nil
	}
	if path, _ := open.Split(where); isRaster(w.env.files(), path) {
		return w.gridOfRaster(where)
	}
	return raster.Grid{}, fault.Misusef("grid", where, "is neither the name of a layer nor a raster")
}

// gridOfRaster reads the grid of a raster, which has a CRS.
func (w *work) gridOfRaster(where string) (raster.Grid, error) {
	path, band := open.Split(where)
	w.reads("grid", path)
	w.readsBeside("grid", path)
	f, err := open.Raster(w.env.files(), path, band)
	if err != nil {
		return raster.Grid{}, err
	}
	defer f.Close()
	h := f.Header()
	if h.Grid.CRS == nil {
		return raster.Grid{}, fault.Errorf("%s: %s", path, h.CRSProblem)
	}
	return h.Grid, nil
}

// onto moves layers onto a grid that do not lie on its cells.
func (l *layers) onto(g raster.Grid, list []view.Layer) error {
	for i, layer := range list {
		if g.Aligned(layer.Header().Grid) == nil {
			continue
		}
		how := view.Nearest
		if layer.Header().Type.Floating() {
			how = view.Bilinear
		}
		a, err := view.Align(layer.Source, g, how)
		if err != nil {
			return err
		}
		l.moved = append(l.moved, a)
		list[i].Source = a
	}
	return nil
}

// refuseCodes refuses layers whose values are codes in arithmetic.
func (l *layers) refuseCodes(o LayerOptions, exprs ...*cql.Expr) error {
	if o.CodesAsNumbers {
		return nil
	}
	for _, e := range exprs {
		for _, name := range e.Arithmetic() {
			for _, layer := range l.List {
				if layer.Name == name && len(layer.Header().Palette) > 0 {
					return fault.Errorf("the layer %s (%s) has a palette, so it holds codes of classes, and arithmetic with codes has no meaning", name, layer.Header().Name).
						Do("compare them (%s = 3)", name).By("allow it", "codes-as-numbers", "")
				}
			}
		}
	}
	return nil
}
