package zone

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/vector"
)

func crsOf(t *testing.T, code int) *earth.CRS {
	t.Helper()
	crs, err := earth.Lookup(code)
	require.NoError(t, err)
	return crs
}

func rectangle(x0, y0, x1, y1 float64) Polygon {
	return Polygon{{{x0, y0}, {x1, y0}, {x1, y1}, {x0, y1}}}
}

// parishes are strips of 1 km across a county each, in EPSG:3035, with fields.
func parishes(t *testing.T) *vector.Layer {
	l := &vector.Layer{Source: "parishes.gpkg", CRS: crsOf(t, 3035), Fields: []vector.Field{{Name: "id"}, {Name: "county"}, {Name: "people", Kind: vector.Integer}, {Name: "head"}}}
	for i := range 12 {
		x := 4e6 + 1e3*float64(i)
		l.Features = append(l.Features, vector.Feature{Values: []any{fmt.Sprintf("P%02d", i), []string{"North", "South", "East"}[i/5], int64(10 * i), fmt.Sprintf("H%d", i/5)},
			Geometry: vector.Geometry{Type: "Polygon", Polygons: []Polygon{rectangle(x, 3e6, x+1e3, 3.002e6)}}})
	}
	return l
}

// Merged features have the ground of their parts; fields in which they agree stay, numbers are added up, and the rest is named.
func TestMergeKeepsTheGround(t *testing.T) {
	l := parishes(t)
	out, left, err := Merge(l, "county", []string{"people"}, nil)
	require.NoError(t, err)
	require.Len(t, out.Features, 3)
	assert.Equal(t, []string{"id"}, left)
	for i, want := range []struct {
		county string
		people int64
		head   string
		km2    float64
	}{{"North", 100, "H0", 10}, {"South", 350, "H1", 10}, {"East", 210, "H2", 4}} {
		f := &out.Features[i]
		assert.Equal(t, want.county, f.Values[out.Field("county")])
		assert.EqualValues(t, want.people, f.Values[out.Field("people")])
		assert.Equal(t, want.head, f.Values[out.Field("head")])
		m2, ok := vector.Area(out.CRS, &f.Geometry)
		require.True(t, ok)
		assert.InDelta(t, want.km2*1e6, m2, 1e-3)
		assert.Len(t, f.Geometry.Polygons, 1, "neighbours become one outline")
	}
	out, left, err = Merge(l, "county", nil, []string{"id", "people"})
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.Equal(t, "P05", out.Features[1].Values[out.Field("id")])
	_, _, err = Merge(l, "county", []string{"head"}, nil)
	assert.ErrorContains(t, err, "holds no numbers to be added up")
	_, _, err = Merge(l, "shire", nil, nil)
	assert.Error(t, err)
	l.Features[3].Values[1] = nil
	_, _, err = Merge(l, "county", nil, nil)
	assert.ErrorContains(t, err, "feature 4 has no value")
}

// A condition picks what it holds for, and says which values there are when it picks nothing.
func TestPick(t *testing.T) {
	l := parishes(t)
	pick := func(text string) ([]int, error) {
		e, err := cql.ParseCondition(text)
		require.NoError(t, err)
		return Pick(l, e)
	}
	got, err := pick("county = 'East' AND people > 100")
	require.NoError(t, err)
	assert.Equal(t, []int{11}, got)
	all, err := Pick(l, nil)
	require.NoError(t, err)
	assert.Len(t, all, 12)
	_, err = pick("county = 'Nowhere'")
	assert.ErrorContains(t, err, "the condition picks none of its 12 features")
	assert.ErrorContains(t, err, "North")
	_, err = pick("shire = 'North'")
	assert.ErrorContains(t, err, "shire")
}

// Squares of a lattice are those that a zone covers some part of, they tile it, and keep their ids whatever zone is asked for.
func TestSquaresCoverTheZone(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 3))
	g := raster.Grid{Width: 40, Height: 40, X0: 4e6, Y0: 3.04e6, DX: 1000, DY: -1000, CRS: crsOf(t, 3035)}
	names := map[string][4]float64{}
	for range 30 {
		x, y, r := 4.005e6+3e4*rng.Float64(), 3.005e6+3e4*rng.Float64(), 500+4000*rng.Float64()
		ring := make(Ring, 7)
		for i := range ring {
			s, c := math.Sincos(2 * math.Pi * float64(i) / 7)
			ring[i] = Point{x + r*c, y + r*s}
		}
		s := &Set{Source: "zone", CRS: g.CRS, Zones: []Zone{{ID: "a", Polygons: []Polygon{{ring}}}}}
		l, err := Squares(s, g, Origin{})
		require.NoError(t, err)
		place, err := s.Place(g)
		require.NoError(t, err)
		covered := 0.0
		for _, f := range l.Features {
			b := vector.Box(f.Geometry.Polygons[0][0])
			assert.InDelta(t, 1000, b[2]-b[0], 1e-6)
			id := f.Values[l.Field("zone_id")].(string)
			if before, known := names[id]; known {
				assert.Equal(t, before, b, "the square %s", id)
			}
			names[id] = b
			one := &Set{Source: "square", CRS: g.CRS, Zones: []Zone{{ID: id, Polygons: f.Geometry.Polygons}}}
			_, share, err := Within(one, s)
			require.NoError(t, err)
			assert.Greater(t, share[0], 0.0, "the square %s holds nothing of the zone", id)
			covered += share[0] * 1e6
		}
		assert.InEpsilon(t, place.Outlines[0].Area, covered, 1e-9, "the squares hold all of the zone")
	}
	far := &Set{Source: "far", CRS: g.CRS, Zones: []Zone{{ID: "a", Polygons: []Polygon{rectangle(1e6, 1e6, 1.1e6, 1.1e6)}}}}
	_, err := Squares(far, g, Origin{})
	assert.ErrorContains(t, err, "no square meets far")
	g.Width = 1 << 30
	_, err = Squares(far, g, Origin{})
	assert.ErrorContains(t, err, "choose larger ones")
}

// The unit of a zone is the one that holds most of it, whatever the CRS of the units.
func TestWithinByHand(t *testing.T) {
	zones := &Set{Source: "zones", CRS: crsOf(t, 3035), Zones: []Zone{
		{ID: "a", Polygons: []Polygon{rectangle(4e6, 3e6, 4.001e6, 3.001e6)}},       // wholly in the first
		{ID: "b", Polygons: []Polygon{rectangle(4.0097e6, 3e6, 4.0107e6, 3.001e6)}}, // 30 % in the first, 70 % in the second
		{ID: "c", Polygons: []Polygon{rectangle(5e6, 3e6, 5.001e6, 3.001e6)}},       // in none
	}}
	units := &Set{Source: "units", CRS: zones.CRS, Zones: []Zone{
		{ID: "U1", Polygons: []Polygon{rectangle(3.99e6, 2.99e6, 4.01e6, 3.01e6)}}, {ID: "U2", Polygons: []Polygon{rectangle(4.01e6, 2.99e6, 4.03e6, 3.01e6)}}}}
	for _, code := range []int{3035, 4326} {
		other := *units
		if code != 3035 {
			l, _, err := vector.Carry(units.Layer(), crsOf(t, code))
			require.NoError(t, err)
			other.CRS = l.CRS
			other.Zones = nil
			for i, f := range l.Features {
				other.Zones = append(other.Zones, Zone{ID: units.Zones[i].ID, Polygons: f.Geometry.Polygons})
			}
		}
		unit, share, err := Within(zones, &other)
		require.NoError(t, err)
		assert.Equal(t, []int{0, 1, -1}, unit)
		assert.InDelta(t, 1, share[0], 1e-4)
		assert.InDelta(t, 0.7, share[1], 1e-3)
	}
}

// A table joins by its keys; what is left over on either side is listed, and keys of several rows too.
func TestAttachByHand(t *testing.T) {
	l := parishes(t)
	l.Features = l.Features[:4]
	gathered, ids, err := Gather(l, Selection{IDField: "id"})
	require.NoError(t, err)
	assert.Equal(t, []string{"P00", "P01", "P02", "P03"}, ids)
	table := &vector.Layer{Source: "t.csv", Plain: true, Fields: []vector.Field{{Name: "key"}, {Name: "people", Kind: vector.Integer}}, Features: []vector.Feature{
		{Values: []any{"P01", int64(7)}}, {Values: []any{"P03", int64(9)}}, {Values: []any{"P99", int64(1)}}}}
	out, m, err := Attach(gathered, ids, table, "key")
	require.NoError(t, err)
	assert.Equal(t, &Match{Zones: 4, Rows: 3, Matched: 2, WithoutRow: []string{"P00", "P02"}, WithoutZone: []string{"P99"}}, m)
	assert.True(t, m.Partial())
	column := -1
	for i, f := range out.Fields {
		if i >= len(l.Fields) && f.Kind == vector.Integer {
			column = i
			assert.NotEqual(t, "people", f.Name, "the zones have such a field already")
		}
	}
	require.Positive(t, column)
	assert.Nil(t, out.Features[0].Values[column])
	assert.Equal(t, int64(9), out.Features[3].Values[column])
	table.Features = append(table.Features, table.Features[0])
	_, m, err = Attach(gathered, ids, table, "key")
	if err == nil {
		assert.Equal(t, []string{"P01"}, m.Twice)
	} else {
		assert.ErrorContains(t, err, "several rows have the same")
	}
	_, _, err = Attach(gathered, ids, table, "none")
	assert.Error(t, err)
}

// Gathered, features that share an id have all pieces, and fields in which they agree.
func TestGather(t *testing.T) {
	out, ids, err := Gather(parishes(t), Selection{IDField: "county"})
	require.NoError(t, err)
	assert.Equal(t, []string{"North", "South", "East"}, ids)
	assert.Len(t, out.Features[0].Geometry.Polygons, 5)
	assert.Equal(t, "H1", out.Features[1].Values[out.Field("head")])
	assert.Nil(t, out.Features[1].Values[out.Field("id")])
}

// What the fields of a file hold, and which could identify zones.
func TestDescribe(t *testing.T) {
	fields := Describe(parishes(t))
	require.Len(t, fields, 4)
	assert.Equal(t, Field{Name: "id", Kind: "text", Values: 12, Distinct: 12, Example: "P00", ID: true}, fields[0])
	assert.Equal(t, Field{Name: "people", Kind: "whole number", Values: 12, Distinct: 12, Example: "0", ID: fields[2].ID}, fields[2])
}

// A raster of ids becomes zones whose outlines hold exactly the cells of each value.
func TestZonesOfARaster(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	g := raster.Grid{Width: 30, Height: 20, X0: 4e6, Y0: 3e6, DX: 100, DY: -100, CRS: crsOf(t, 3035)}
	m := raster.NewMemory("ids.tif", g, raster.Uint8, 8, 8)
	none, cells := 0.0, map[string]float64{}
	m.SetNoData(&none)
	for row := range 20 {
		for col := range 30 {
			v := float64(rng.IntN(4))
			m.Set(col, row, v)
			if v != 0 {
				cells[fmt.Sprint(v)]++
			}
		}
	}
	l, err := FromRaster(context.Background(), m, map[int64]string{2: "Two"})
	require.NoError(t, err)
	s, err := FromLayer(l, Selection{IDField: "zone_id", NameField: "zone_name"})
	require.NoError(t, err)
	require.Len(t, s.Zones, 3)
	place, err := s.Place(g)
	require.NoError(t, err)
	c := Cutter{Width: g.Width, Down: place.Down}
	for i, z := range s.Zones {
		assert.InDelta(t, cells[z.ID]*1e4, place.Outlines[i].Area, 1e-3, z.ID)
		spans := c.Cut(&place.Outlines[i], i, 0, g.Height)
		from, to := spans.Rows()
		for row := from; row < to; row++ {
			whole, edge := spans.Row(row)
			assert.Empty(t, edge, "outlines run along borders of cells")
			for _, r := range whole {
				for col := r.From; col < r.To; col++ {
					assert.Equal(t, z.ID, fmt.Sprint(m.At(int(col), row)))
				}
			}
		}
	}
	assert.Equal(t, "Two", s.Zones[1].Name)
	_, err = FromRaster(context.Background(), raster.NewMemory("real.tif", g, raster.Float32, 8, 8), nil)
	assert.ErrorContains(t, err, "ids of zones are whole numbers")
}

// Circles around points have the area of circles; those of one feature are united.
func TestBuffer(t *testing.T) {
	l := &vector.Layer{Source: "wells.csv", CRS: crsOf(t, 3035), Fields: []vector.Field{{Name: "id"}}, Features: []vector.Feature{
		{Values: []any{"a"}, Geometry: vector.Geometry{Type: "Point", Points: []Point{{4e6, 3e6}}}},
		{Values: []any{"b"}, Geometry: vector.Geometry{Type: "MultiPoint", Points: []Point{{4.1e6, 3e6}, {4.2e6, 3e6}}}},
		{Values: []any{"c"}, Geometry: vector.Geometry{Type: "MultiPoint", Points: []Point{{4.3e6, 3e6}, {4.3e6, 3e6}}}}}}
	out, _, err := Buffer(l, 1000)
	require.NoError(t, err)
	for i, circles := range []float64{1, 2, 1} {
		m2, ok := vector.Area(out.CRS, &out.Features[i].Geometry)
		require.True(t, ok)
		assert.InEpsilon(t, circles*math.Pi*1e6, m2, 1e-6)
		assert.Equal(t, l.Features[i].Values, out.Features[i].Values)
	}
	_, _, err = Buffer(parishes(t), 1000)
	assert.ErrorContains(t, err, "circles are made around points")
}
