package job

import (
	"fmt"
	"math"
	"os"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/open"
)

// SourceOptions state what a raster file leaves out.
type SourceOptions struct {
	CRS    string   `opt:"crs" in:"CRS" help:"<CRS> of the rasters, such as EPSG:3035, WKT or a .prj file, for files that do not state one"`
	NoData []string `opt:"nodata" help:"<VALUE> that means no data, whatever the files state; LABEL=VALUE for one epoch or layer of several"`
}

// RasterOptions say how rasters are read, several as one.
type RasterOptions struct {
	SourceOptions
	Overlap      string `opt:"overlap" choose:"last,first,majority,mean,min,max" help:"where rasters overlap, the <one> that counts: last, first or majority; for measurements also mean, min or max"`
	Resample     string `opt:"resample" choose:",nearest,bilinear" help:"allow cells to be moved onto another grid, by <nearest>, or bilinear for measurements"`
	Measurements bool   `opt:"measurements" help:"the cells are measurements, not classes"`
}

// OverrideOption allows a CRS that is given to replace one that a file states.
type OverrideOption struct {
	OverrideCRS bool `opt:"override-crs" help:"let a CRS that is given replace the one that a file states"`
}

// ListOption names rasters by a list.
type ListOption struct {
	FromList string `opt:"from-list" in:"list of rasters" help:"<FILE> with one raster on each line, in addition to those that are named"`
}

// cover is one raster, or several as one, with the CRS and the nodata value of the options.
type cells struct {
	raster.Source
	files []open.File
	path  string // for messages
	key   string // rasters with the same key have the same cells
}

// Tiling is that of the raster.
func (c *cells) Tiling() (cols, rows []int) { return raster.Tiling(c.Source) }

// Overviews are those of the raster.
func (c *cells) Overviews() []raster.Source { return raster.Overviews(c.Source) }

// Ahead implements [raster.Announced].
func (c *cells) Ahead(windows []raster.Window) bool { return raster.Ahead(c.Source, windows) }

// Close closes the files.
func (c *cells) Close() {
	for _, f := range c.files {
		f.Close()
	}
}

// oneNodata returns the nodata value of a job in which all rasters have one, "" for none.
func oneNodata(values []string) (string, error) {
	switch len(values) {
	case 0:
		return "", nil
	case 1:
		return values[0], nil
	}
	return "", fault.Misusef("nodata", "", "is given %d times", len(values)).Do("give one value")
}

// openCells opens rasters as one, each FILE or FILE#BAND.
func (w *work) openCells(role string, paths []string, o RasterOptions) (*cells, error) {
	nodata, err := oneNodata(o.NoData)
	if err != nil {
		return nil, err
	}
	return w.openWith(role, paths, nodata, o)
}

// openWith opens rasters as one, with a nodata value or "".
func (w *work) openWith(role string, args []string, nodata string, o RasterOptions) (_ *cells, err error) {
	paths, err := matching(w.env.files(), args)
	if err == nil {
		paths, err = w.expand(paths)
	}
	if err != nil {
		return nil, err
	}
	if len(paths) == 0 {
		return nil, fault.Misusef("", "", "no raster is named")
	}
	out := &cells{path: paths[0]}
	defer func() {
		if err != nil {
			out.Close()
		}
	}()
	var sources []raster.Source
	assumed := ""
	parts := make([]string, len(paths))
	for i, arg := range paths {
		f, path, decided, err := w.oneRaster(role, arg)
		if err != nil {
			return nil, err
		}
		out.files = append(out.files, f)
		s, err := w.adjust(f, path, nodata, o.CRS)
		if err != nil {
			return nil, err
		}
		for _, n := range f.Header().Notes {
			w.note(path + ": " + n)
		}
		if a := s.Header().Grid.Assumed(); assumed == "" && a != "" {
			assumed = a
			w.note(path + ": " + a)
		}
		if parts[i], err = w.rasterKey(decided, s.Header()); err != nil {
			return nil, err
		}
		sources = append(sources, s)
	}
	out.key = keyOf("cells", parts, o.Overlap, o.Resample, o.Measurements)
	m, err := mosaicOptions(o, sources[0].Header(), paths[0])
	if err != nil {
		return nil, err
	}
	if len(sources) == 1 {
		out.Source = sources[0]
		return out, nil
	}
	j, err := view.Mosaic(sources, m)
	if err != nil {
		return nil, err
	}
	w.note(j.Notes...)
	w.warn(j.Warnings...)
	out.Source, out.path = j.Source, j.Header().Name
	return out, nil
}

// mosaicOptions says how rasters become one, of which the first is described by its header.
func mosaicOptions(o RasterOptions, first raster.Header, path string) (out view.MosaicOptions, err error) {
	out.Overlap = view.Overlap(max(0, slices.Index([]string{"last", "first", "majority", "mean", "min", "max"}, o.Overlap)))
	out.Resample = o.Resample != ""
	values := first.Type.Floating() || o.Measurements
	if o.Resample == "bilinear" {
		out.How = view.Bilinear
		if !values {
			return out, wouldMakeUp(path)
		}
	}
	if out.Overlap >= view.Mean && !values {
		return out, fault.Misusef("overlap", o.Overlap, "is for measurements, but %s holds whole numbers, which may be classes", path).
			Do("choose last, first or majority").By("state that they are measurements", "measurements", "")
	}
	return out, nil
}

// wouldMakeUp refuses to interpolate codes of classes.
func wouldMakeUp(path string) error {
	return fault.Misusef("resample", "bilinear", "interpolates, which would invent classes between others, and %s holds whole numbers", path).
		Do("choose nearest").By("state that they are measurements", "measurements", "")
}

// oneRaster opens FILE or FILE#BAND whose cells are wanted. A file of several bands is not read by its first one without
// being asked. What a plan defines is opened by its name.
func (w *work) oneRaster(role, arg string) (f open.File, path string, d decided, err error) {
	if made, key, err := w.madeRaster(arg); made != nil || err != nil {
		if err != nil {
			return nil, arg, d, err
		}
		return madeFile{made.Source, made}, arg, decided{made: key}, nil
	}
	path, band := open.Split(arg)
	w.reads(role, path)
	d = decided{band: band, seen: files.Record(w.env.files())}
	f, err = open.Raster(d.seen, path, band)
	if err != nil {
		if before, _, ok := strings.Cut(path, "#"); ok {
			if _, e := os.Stat(before); e == nil {
				err = fault.Errorf("%s: there is no such file, and a band is named by its number", arg).Do("write %s#1 for the first", before)
			}
		}
		return nil, path, d, err
	}
	for _, name := range d.seen.Found() {
		w.reads(role, name)
	}
	h := f.Header()
	bands := h.Bands
	if h.Alpha > 0 {
		bands--
	}
	switch {
	case h.CellsProblem != "":
		err = fault.Errorf("%s: %s", path, h.CellsProblem)
	case h.Unplaced: // nothing that is done with it would be true
		err = noCRS(path, h)
	case bands > 1 && path == arg:
		err = fault.Errorf("%s: it has %d bands, and nothing says which of them holds the values", path, bands).Do("name it, the first as %s#1", path)
	}
	if err != nil {
		f.Close()
		return nil, path, d, err
	}
	return w.asStated(f, path), path, d, nil
}

// noCRS says why a raster has no CRS, or no place at all.
func noCRS(path string, h raster.Header) error {
	what := h.CRSProblem
	if what == "" {
		what = "it has no CRS"
	}
	e := fault.Errorf("%s: %s", path, what)
	if h.Unplaced {
		return e
	}
	return e.By("give its CRS", "crs", "EPSG:NUMBER")
}

// needCRS refuses cells that cannot be placed on the Earth.
func (c *cells) needCRS() error {
	if h := c.Header(); h.Grid.CRS == nil {
		return noCRS(c.path, h)
	}
	return nil
}

// parseCRS reads a CRS: a code, WKT, or the name of a file with WKT.
func (w *work) parseCRS(text string) (*earth.CRS, error) {
	if strings.HasSuffix(strings.ToLower(text), ".prj") {
		w.reads("CRS", text)
		b, err := w.env.files().ReadFile(text)
		if err != nil {
			return nil, err
		}
		return earth.ParseCRS(string(b))
	}
	return earth.ParseCRS(text)
}

// replaceCRS decides whether the CRS of an option may be given to a file that states another one.
func (w *work) replaceCRS(option, path string, stated, given *earth.CRS) error {
	switch {
	case stated == nil || stated.Same(given):
		return nil
	case !w.override:
		return fault.Errorf("%s: it states %v, but %v is given for it", path, stated, given).
			By("leave out %, which is for files that state no CRS", option, "").By("if the file is wrong, add %", "override-crs", "")
	}
	w.warn(path + ": its CRS, " + stated.String() + ", is replaced by " + given.String() + ", on which all areas depend")
	return nil
}

// adjust applies a CRS and a nodata value, "" for none.
func (w *work) adjust(f raster.Source, path, nodata, crsText string) (raster.Source, error) {
	s := f
	if crsText != "" {
		crs, err := w.parseCRS(crsText)
		if err != nil {
			return nil, err
		}
		if f.Header().Unplaced {
			return nil, fault.Errorf("%s: %s; a CRS alone does not place it", path, f.Header().CRSProblem)
		}
		g := f.Header().Grid
		if err := w.replaceCRS("crs", path, g.CRS, crs); err != nil {
			return nil, err
		}
		g.CRS = crs
		if err := g.Check(); err != nil {
			return nil, fault.Errorf("%s: %w: is %s its CRS?", path, err, crsText)
		}
		s = raster.WithGrid(s, g)
	}
	if nodata != "" {
		v, err := decimal.Parse(nodata)
		if err != nil || math.IsInf(v, 0) {
			return nil, fault.Misusef("nodata", nodata, "is not a number")
		}
		if t := f.Header().Type; !t.Holds(v) && t != raster.Float32 {
			return nil, fault.Misusef("nodata", nodata, "cannot occur in %s: its cells are %s", path, t)
		} else if t == raster.Float32 {
			v = float64(float32(v))
		}
		if stated := f.Header().NoData; stated != nil && *stated != v && !w.replaced[*stated] {
			if w.replaced == nil {
				w.replaced = map[float64]bool{}
			}
			w.replaced[*stated] = true
			w.warn(fmt.Sprintf("%s: it states that %s means no data, and %s is given instead: cells of %s count like those of any other value", path, cover.ValueText(*stated), nodata, cover.ValueText(*stated)))
		}
		s = raster.WithNoData(s, v)
	}
	return s, nil
}

// isRaster reports whether a file is one of the rasters that are read.
func isRaster(from files.System, path string) bool {
	f, err := from.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 512)
	n, _ := f.ReadAt(head, 0)
	kind := open.Kind(head[:n])
	return kind == "TIFF" || kind == "ASCII grid"
}
