package job

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"path/filepath"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/zone"
)

// Counter measures for jobs, such as several at once, or from what it has kept. Its methods may be called concurrently.
type Counter interface {
	// Count does requests as [tally.Together] does. A layer whose key begins with a tilde is in this request only.
	Count(ctx context.Context, requests []tally.Keyed) ([]*tally.Tally, []error)
	// Digest returns a digest of the content of a file.
	Digest(path string) (string, error)
}

// Maker makes the rasters and zones that a plan defines, under the names by which options refer to them.
type Maker interface {
	// Raster makes a raster, which is closed by whoever asked for it, and its key: rasters with the same key have the same cells. It
	// returns nil for a name that is not defined.
	Raster(ctx context.Context, env Env, name string) (*Raster, string, error)
	// Zones makes features, nil for a name that is not defined.
	Zones(ctx context.Context, env Env, name string) (*Features, error)
	// Defines reports whether there is a raster or a set of zones of a name.
	Defines(name string) bool
}

// count measures, with progress under a name: one pass over each raster for all requests.
func (w *work) count(what string, requests ...tally.Keyed) ([]*tally.Tally, error) {
	var out []*tally.Tally
	var errs []error
	for i := range requests {
		requests[i].Threads = w.env.Threads
	}
	if w.env.Counter != nil {
		out, errs = w.env.Counter.Count(w.ctx, requests)
	} else {
		tell, end := w.progress(what)
		for i := range requests {
			requests[i].Progress = tell
		}
		out, errs = tally.Together(w.ctx, requests)
		end()
	}
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// keyOf is a key of what is described by some values.
func keyOf(values ...any) string {
	b, err := json.Marshal(values)
	if err != nil {
		panic(err) // texts, numbers and lists of them
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// ownKey is the key of the n-th layer of a job, which is in one request only.
func (w *work) ownKey(n int) string { return fmt.Sprintf("~%p %d", w, n) }

// digest is a digest of the content of a file, "" for no file; without someone who makes digests it is the path.
func (w *work) digest(path string) (string, error) {
	if path == "" || w.env.Counter == nil {
		return path, nil
	}
	if files.IsURL(path) { // all of it may never be read
		f, err := w.env.files().Open(path)
		if err != nil {
			return "", err
		}
		defer f.Close()
		return keyOf("url", path, f.Size(), f.Validator()), nil
	}
	return w.env.Counter.Digest(path)
}

// digests are those of files.
func (w *work) digests(paths ...string) (out []string, err error) {
	for _, path := range paths {
		d, err := w.digest(path)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, nil
}

// decided is what decided the cells of a raster that was opened: the key of one that a plan defines, or a band and all files that were looked for.
type decided struct {
	made string
	band int
	seen *files.Recorder
}

// rasterKey is the key of the cells of a raster: of the content of its files, of those that are not there and would be read too, and of its header, as options have left it.
func (w *work) rasterKey(d decided, h raster.Header) (string, error) {
	g := h.Grid
	said := []any{h.Type, g.Width, g.Height, fmt.Sprint(g.X0, g.Y0, g.DX, g.DY), g.CRS.Key(), "no nodata"}
	if h.NoData != nil {
		said[len(said)-1] = fmt.Sprint(*h.NoData)
	}
	if d.seen == nil {
		return keyOf(d.made, said), nil
	}
	found := d.seen.Found()
	digests, err := w.digests(found...)
	if err != nil {
		return "", err
	}
	for _, name := range found { // the state that was opened is the one that has the digest
		opened := d.seen.Validator(name)
		if opened == "" || w.env.Counter == nil {
			continue
		}
		f, err := w.env.files().Open(name)
		if err != nil {
			return "", err
		}
		now := f.Validator()
		if f.Close(); now != opened {
			return "", fmt.Errorf("%s: it was changed while it was read: run the command again", name)
		}
	}
	var absent []string
	for _, name := range d.seen.Absent() { // wherever the program was started
		absent = append(absent, filepath.Base(name))
	}
	return keyOf(digests, d.band, absent, said), nil
}

// classesKey is the key of a layer with a crosswalk of intervals applied to its cells; without one it is that of the layer.
func (w *work) classesKey(key string, before, after raster.Source, paths ...string) (string, error) {
	if before == after {
		return key, nil
	}
	digests, err := w.digests(paths...)
	return keyOf("classes", key, digests), err
}

// zonesKey is the key of zones on a grid: of all that decides which ground is in which of them. Where nothing is kept from one job to another, which placement it is
// says as much.
func (w *work) zonesKey(p *zone.Placement) string {
	if w.env.Counter == nil {
		return fmt.Sprintf("~%p", p)
	}
	h := sha256.New()
	g := p.Grid
	fmt.Fprintf(h, "%d %d %x %x %x %x %s %v %d", g.Width, g.Height, g.X0, g.Y0, g.DX, g.DY, g.CRS.Key(), p.Down, len(p.Outlines))
	var b []byte
	for i := range p.Outlines {
		o := &p.Outlines[i]
		b = binary.LittleEndian.AppendUint32(b[:0], uint32(len(o.Rings)))
		for _, r := range o.Rings {
			b = binary.LittleEndian.AppendUint32(b, uint32(len(r)))
			for _, q := range r {
				b = binary.LittleEndian.AppendUint64(b, math.Float64bits(q[0]))
				b = binary.LittleEndian.AppendUint64(b, math.Float64bits(q[1]))
			}
		}
		h.Write(b)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// request is a request for one layer or several in zones.
func (w *work) request(set *zone.Set, place *zone.Placement, key string, layers []raster.Source, keys []string) tally.Keyed {
	return tally.Keyed{Request: tally.Request{Layers: layers, Zones: set, Placement: place}, LayerKeys: keys, ZonesKey: key}
}

// madeRaster makes a raster that a plan defines, nil where there is none of that name.
func (w *work) madeRaster(name string) (*Raster, string, error) {
	if w.env.Maker == nil || !w.env.Maker.Defines(name) {
		return nil, "", nil
	}
	r, key, err := w.env.Maker.Raster(w.ctx, w.env, name)
	if r != nil {
		w.report.Inputs = append(w.report.Inputs, r.Inputs...)
	}
	return r, key, err
}

// madeZones makes features that a plan defines, nil where there are none of that name.
func (w *work) madeZones(name string) (*vector.Layer, error) {
	if w.env.Maker == nil || !w.env.Maker.Defines(name) {
		return nil, nil
	}
	f, err := w.env.Maker.Zones(w.ctx, w.env, name)
	if f == nil || err != nil {
		return nil, err
	}
	w.report.Inputs = append(w.report.Inputs, f.Inputs...)
	return f.Layer, nil
}

// madeFile is a raster that a plan defines, as a file.
type madeFile struct {
	raster.Source
	made *Raster
}

// Tiling is that of the raster.
func (m madeFile) Tiling() (cols, rows []int) { return raster.Tiling(m.Source) }

// Close closes the files that the raster is computed from.
func (m madeFile) Close() error {
	m.made.Close()
	return nil
}

// Ahead implements [raster.Announced].
func (m madeFile) Ahead(windows []raster.Window) bool { return raster.Ahead(m.Source, windows) }
