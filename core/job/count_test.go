package job_test

import (
	"context"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster"
)

// madeLayers makes rasters that count which of their windows are read.
type madeLayers map[string]*countedRaster

func (m madeLayers) Defines(name string) bool { return m[name] != nil }

func (m madeLayers) Raster(_ context.Context, _ job.Env, name string) (*job.Raster, string, error) {
	return &job.Raster{Source: m[name], Report: &job.Report{}}, name, nil
}

func (m madeLayers) Zones(context.Context, job.Env, string) (*job.Features, error) { return nil, nil }

type countedRaster struct {
	*raster.Memory
	mu    sync.Mutex
	reads map[raster.Window]int
}

func (c *countedRaster) NewReader() raster.Reader { return c }

func (c *countedRaster) Read(w raster.Window, dst *raster.Cells) error {
	c.mu.Lock()
	c.reads[w]++
	c.mu.Unlock()
	return c.Memory.Read(w, dst)
}

// Comparing three epochs reads each tile once, with the check for single cells; so does measuring with the check of edges.
func TestEachTileIsReadOnce(t *testing.T) {
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	layers := madeLayers{}
	for k, name := range []string{"a", "b", "c"} {
		m := raster.NewMemory(name, raster.Grid{Width: 500, Height: 400, X0: 4000000, Y0: 3000000, DX: 10, DY: -10, CRS: crs}, raster.Uint8, 128, 128)
		for r := range 400 {
			for c := range 500 {
				m.Set(c, r, float64((c/9+r/7*k)%3+1))
			}
		}
		layers[name] = &countedRaster{Memory: m, reads: map[raster.Window]int{}}
	}
	env := job.Env{Maker: layers, Threads: 2}
	r, err := job.Change(t.Context(), env, job.ChangeOptions{Epochs: []string{"2000=a", "2010=b", "2020=c"}})
	require.NoError(t, err)
	defer r.Close()
	require.NotNil(t, r.Flips[0].Lone)
	once := func(name string) {
		assert.Len(t, layers[name].reads, 16, name)
		for w, n := range layers[name].reads {
			assert.Equal(t, 1, n, "%s %v", name, w)
		}
		clear(layers[name].reads)
	}
	for _, name := range []string{"a", "b", "c"} {
		once(name)
	}
	m, err := job.Measure(t.Context(), env, job.MeasureOptions{Covers: []string{"a"}, ZoneOptions: job.ZoneOptions{Zones: "bbox:5.53,49.99,5.58,50.02"}})
	require.NoError(t, err)
	require.Contains(t, checkNames(m.Checks), "edges")
	once("a")
}

func checkNames(checks []check.Check) (out []string) {
	for _, c := range checks {
		if c.Outcome != check.NotMade {
			out = append(out, c.Name)
		}
	}
	return out
}
