package tally

import (
	"context"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// held is what a tally holds, by values instead of slots: what must be the same however it was made.
func held(t *Tally) any {
	type row struct {
		values []float64
		extent Extent
	}
	out := [][][]row{}
	for g, zones := range t.Groups {
		var list [][]row
		for _, z := range zones {
			var rows []row
			for i, v := range z.Values {
				r := row{extent: z.Extents[i]}
				for k, s := range t.Slots(g, &v) {
					r.values = append(r.values, -1)
					if s != Missing {
						r.values[k] = t.Number(g, k, s)
					}
				}
				rows = append(rows, r)
			}
			list = append(list, rows)
		}
		out = append(out, list)
	}
	return []any{out, t.Quantum, t.Overlaps, t.ManyOverlaps}
}

// Requests that are done together, split by groups, kept as bytes and joined are the same as each by itself.
func TestTogetherIsEachByItself(t *testing.T) {
	for name, g := range grids(t) {
		random := rand.New(rand.NewPCG(7, 9))
		noData := 0.0
		cover := func(kind raster.CellType, block int) raster.Source {
			m := fill(g, kind, block, block, func(c, r int) float64 { return float64(random.IntN(5)) })
			m.SetNoData(&noData)
			return m
		}
		layers := []raster.Source{cover(raster.Uint8, 32), cover(raster.Uint8, 64), cover(raster.Uint16, 16), cover(raster.Uint8, 32), cover(raster.Uint8, 64)}
		keys := []string{"a", "b", "c", "d", "e"}
		w, h := float64(g.Width), float64(g.Height)
		one := inCells(g, []zone.Ring{rect(3.3, 2.2, w/2+0.3, h-4.4)}, []zone.Ring{rect(w/2+0.3, 2.2, w-1.7, h-4.4)}, []zone.Ring{rect(w/3, h/3, w/2, h/2)})
		two := inCells(g, []zone.Ring{{{1.5, 1.5}, {w - 3, 7.7}, {w / 2, h - 2.2}}})
		request := func(s *zone.Set, zones string, centres bool, groups [][]int, picked ...int) Keyed {
			p, err := s.Place(g)
			require.NoError(t, err)
			k := Keyed{Request: Request{Zones: s, Placement: p, Centres: centres, Groups: groups}, ZonesKey: zones}
			for _, n := range picked {
				k.Layers, k.LayerKeys = append(k.Layers, layers[n]), append(k.LayerKeys, keys[n])
			}
			return k
		}
		reqs := []Keyed{
			request(one, "one", false, nil, 0),
			request(one, "one", true, nil, 0),
			request(two, "two", false, nil, 1),
			request(one, "one", false, [][]int{{0, 1, 2}}, 0, 1, 2),
			request(one, "one", false, [][]int{{0, 1, 2}, {1, 2, 3}, {0, 3}}, 0, 1, 2, 3),
			request(two, "two", false, [][]int{{1, 0}}, 2, 0),
			request(two, "two", false, nil, 3),
			request(one, "one", false, [][]int{{0, 1, 2, 3}}, 0, 1, 3, 4),
			request(one, "one", false, [][]int{{0, 1, 2}, {1, 2, 3}, {0, 1, 2, 3, 4}}, 4, 3, 2, 1, 0),
			request(two, "two", true, [][]int{{3, 1, 0, 2}}, 0, 1, 2, 3),
		}
		reqs[3].Sets = []Set{{}, {First: 1, Centres: true}}
		got, errs := Together(context.Background(), reqs)
		var split []Keyed
		for i, r := range reqs {
			require.NoError(t, errs[i])
			want, err := Measure(context.Background(), r.Request)
			require.NoError(t, err)
			assert.Equal(t, held(want), held(got[i]), "%s: request %d", name, i)
			split = append(split, Split(r)...)
		}
		parts, errs := Together(context.Background(), split)
		for i, p := range parts {
			require.NoError(t, errs[i])
			b, err := p.AppendBinary(nil)
			require.NoError(t, err)
			parts[i], err = Decode(b)
			require.NoError(t, err)
			for range 20 { // what is not whole is no tally
				_, err := Decode(b[:random.IntN(len(b))])
				require.Error(t, err)
			}
		}
		for i, r := range reqs {
			n := len(r.groups())
			assert.Equal(t, held(got[i]), held(Join(r, parts[:n])), "%s: request %d joined", name, i)
			parts = parts[n:]
		}
	}
}

// A tile is read once for all requests that need it, and a request that fails does not spoil the others.
func TestTogetherReadsOnce(t *testing.T) {
	g := grids(t)["UTM"]
	a, b := &counted{fill(g, raster.Uint8, 50, 50, func(c, r int) float64 { return float64(c % 3) }), nil}, &counted{fill(g, raster.Uint8, 50, 50, func(c, r int) float64 { return float64(r % 3) }), nil}
	set, place, err := Whole(g)
	require.NoError(t, err)
	request := func(layers []raster.Source, keys ...string) Keyed {
		return Keyed{Request: Request{Layers: layers, Zones: set, Placement: place, Threads: 1}, LayerKeys: keys, ZonesKey: "whole"}
	}
	reqs := []Keyed{request([]raster.Source{a}, "a"), request([]raster.Source{a, b}, "a", "b"), request([]raster.Source{b}, "b")}
	_, errs := Together(context.Background(), reqs)
	assert.Equal(t, []error{nil, nil, nil}, errs)
	assert.Len(t, a.reads, 8)
	assert.Len(t, b.reads, 8)
	assert.Len(t, slices.Compact(slices.Sorted(slices.Values(a.reads))), 8)
	b.reads = nil
	wrong := g
	wrong.X0++
	reqs[1].Layers = []raster.Source{a, fill(wrong, raster.Uint8, 50, 50, func(c, r int) float64 { return 0 })}
	reqs[1].LayerKeys = []string{"a", "wrong"}
	got, errs := Together(context.Background(), reqs)
	assert.ErrorContains(t, errs[1], "does not lie on the grid")
	assert.NoError(t, errs[0])
	assert.NotNil(t, got[0])
	assert.Len(t, b.reads, 8)
}

// counted is a raster that notes which windows are read.
type counted struct {
	*raster.Memory
	reads []int
}

func (c *counted) NewReader() raster.Reader { return c }

func (c *counted) Read(w raster.Window, dst *raster.Cells) error {
	c.reads = append(c.reads, w.Row*1000+w.Col)
	return c.Memory.Read(w, dst)
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, b []byte) {
		if got, err := Decode(b); err == nil {
			again, err := got.AppendBinary(nil)
			require.NoError(t, err)
			same, err := Decode(again)
			require.NoError(t, err)
			assert.Equal(t, len(got.Zones), len(same.Zones))
		}
	})
}
