package vector

import (
	"math"
	"testing"

	"github.com/peterstace/simplefeatures/geom"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Well-known binary as the library writes it, of every kind and with heights and measures, is read as its text is.
func TestWKBIsReadAsItsText(t *testing.T) {
	for _, text := range []string{
		"POINT(1 2)", "POINT EMPTY", "POINT Z(1 2 3)", "MULTIPOINT((1 2),(3 4))", "LINESTRING(1 2,3 4)", "POLYGON EMPTY",
		"POLYGON((0 0,4 0,4 4,0 0),(1 0.5,2 0.5,2 1,1 0.5))", "POLYGON Z((0 0 1,4 0 2,4 4 3,0 0 1))", "POLYGON ZM((0 0 1 9,4 0 2 9,4 4 3 9,0 0 1 9))",
		"POLYGON M((0 0 1,4 0 2,4 4 3,0 0 1))", "MULTIPOLYGON(((0 0,4 0,4 4,0 0)),((10 0,14 0,14 4,10 0),(11 0.5,12 0.5,12 1,11 0.5)))",
		"GEOMETRYCOLLECTION(POINT(1 2),POLYGON((0 0,4 0,4 4,0 0)),GEOMETRYCOLLECTION(POINT(5 6)))", "MULTILINESTRING((1 2,3 4))",
	} {
		g, err := geom.UnmarshalWKT(text)
		require.NoError(t, err)
		want, err := FromWKT(text)
		require.NoError(t, err)
		b := g.AsBinary()
		got, err := FromWKB(b)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
		for n := range b { // cut off anywhere, it is refused
			_, err := FromWKB(b[:n])
			assert.Error(t, err, "%s: %d", text, n)
		}
	}
}

func TestNest(t *testing.T) {
	clockwise := func(x, y, d float64) Ring { return Ring{{x, y}, {x, y + d}, {x + d, y + d}, {x + d, y}} }
	other := func(x, y, d float64) Ring { return Ring{{x, y}, {x + d, y}, {x + d, y + d}, {x, y + d}} }
	island := clockwise(4, 4, 2)
	got := Nest([]Ring{other(1, 1, 8), clockwise(0, 0, 10), island, other(20, 0, 1), {}})
	assert.Equal(t, []Polygon{{clockwise(0, 0, 10), other(1, 1, 8)}, {island}, {other(20, 0, 1)}}, got)
	// A hole that touches its shell at a corner.
	assert.Len(t, Nest([]Ring{clockwise(0, 0, 10), other(0, 0, 3)}), 1)
}

// Whole numbers that a float64 does not hold stay apart, whatever stands beside them.
func TestLargeIDs(t *testing.T) {
	for text, want := range map[string]any{"9007199254740993": int64(9007199254740993), "18446744073709551615": "18446744073709551615", "1.5": 1.5, "-3": int64(-3), "1e300": 1e300} {
		got, err := ParseNumber(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := ParseNumber("x")
	assert.Error(t, err)
	l := &Layer{Fields: []Field{{Name: "id"}}, Features: []Feature{{Values: []any{int64(9007199254740993)}}, {Values: []any{int64(9007199254740992)}}, {Values: []any{1.5}}}}
	l.Settle()
	assert.Equal(t, []any{"9007199254740993", "9007199254740992", "1.5"}, []any{l.Features[0].Values[0], l.Features[1].Values[0], l.Features[2].Values[0]})
	l = &Layer{Fields: []Field{{Name: "id", Kind: Real}, {Name: "code", Kind: Real, Decimals: 2}}, Features: []Feature{{Values: []any{9007199254740992.0, 1.1}}, {Values: []any{12.0, 2.25}}}}
	_, err = l.ID(0, 0)
	assert.ErrorContains(t, err, "different ids look the same")
	id, err := l.ID(1, 0)
	require.NoError(t, err)
	assert.Equal(t, "12", id)
	assert.Equal(t, "1.10", l.Cell(0, 1), "as the file has it")
}

// A hole without points is none, and a coordinate that is not a number is refused before anything is computed with it.
func TestDamagedGeometry(t *testing.T) {
	p := Geometry{Type: "Polygon", Polygons: []Polygon{{{{0, 0}, {1, 0}, {1, 1}}}}}
	b := p.Geom(false).AppendWKB(nil)
	b[5] = 2 // rings
	b = append(b, 0, 0, 0, 0)
	g, err := FromWKB(b)
	require.NoError(t, err)
	require.Len(t, g.Polygons, 1)
	assert.Len(t, g.Polygons[0], 1)
	for _, bad := range []float64{math.NaN(), math.Inf(1), 1e300, -1e11} {
		l := &Layer{Features: []Feature{{Geometry: p}, {Geometry: Geometry{Polygons: []Polygon{{{{0, 0}, {bad, 0}, {1, 1}}}}}}}}
		assert.ErrorContains(t, l.CheckCoordinates(), "feature 2: it has a point at", "%v", bad)
		l.Features[1].Geometry = Geometry{Points: []Point{{0, bad}}}
		assert.Error(t, l.CheckCoordinates())
	}
	require.NoError(t, (&Layer{Features: []Feature{{Geometry: p}}}).CheckCoordinates())
}
