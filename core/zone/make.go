package zone

import (
	"fmt"
	"math"
	"strings"

	"github.com/peterstace/simplefeatures/geom"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/vector"
)

// Layer gives the zones as features with the fields zone_id and zone_name.
func (s *Set) Layer() *vector.Layer {
	l := &vector.Layer{Source: s.Source, CRS: s.CRS, Fields: []vector.Field{{Name: "zone_id"}, {Name: "zone_name"}}}
	for _, z := range s.Zones {
		l.Features = append(l.Features, vector.Feature{Values: []any{z.ID, z.Name}, Geometry: vector.Geometry{Type: "MultiPolygon", Polygons: z.Polygons}})
	}
	return l
}

// Buffer makes circles of a radius in metres on the ground around the points of a layer; a feature of several points
// becomes one circle for each, united. The fields stay.
func Buffer(l *vector.Layer, radius float64) (*vector.Layer, string, error) {
	wgs84, err := earth.Lookup(4326)
	if err != nil {
		return nil, "", err
	}
	out, note, err := vector.Carry(l, wgs84)
	if err != nil {
		return nil, "", err
	}
	found := false
	for i := range out.Features {
		g := &out.Features[i].Geometry
		if len(g.Polygons) > 0 || len(g.Points) == 0 && g.Type != "" && g.Type != "Point" {
			return nil, "", fmt.Errorf("%s: feature %d is a %s, but circles are made around points", l.Source, i+1, g.Type)
		}
		var circles []Polygon
		for _, p := range g.Points {
			c, err := Circle(p[0], p[1], radius)
			if err != nil {
				return nil, "", fmt.Errorf("%s: feature %d: %w", l.Source, i+1, err)
			}
			circles = append(circles, c.Zones[0].Polygons...)
			found = true
		}
		if len(circles) > 1 {
			if circles, err = unite(circles); err != nil {
				return nil, "", fmt.Errorf("%s: feature %d: its circles cannot be united (%w)", l.Source, i+1, err)
			}
		}
		*g = vector.Geometry{Type: "MultiPolygon", Polygons: circles}
	}
	if !found {
		return nil, "", fmt.Errorf("%s: it holds no points", l.Source)
	}
	return out, note, nil
}

// mostSquares is how many squares a grid of zones may have.
const mostSquares = 4 << 20

// Origin is the number that the first column and row of a grid of squares have. Up says that rows count upwards.
type Origin struct {
	Column, Row int
	Up          bool
	// Cells is the grid of whose cells the squares have Side × Side; those at its end have what is left. nil for squares that are cells themselves.
	Cells *raster.Grid
	Side  int
}

// corner is the upper left corner of a square.
func (o Origin) corner(g raster.Grid, col, row int) (x, y float64) {
	if o.Cells == nil {
		return g.Point(float64(col), float64(row))
	}
	return o.Cells.Point(float64(min(col*o.Side, o.Cells.Width)), float64(min(row*o.Side, o.Cells.Height)))
}

// Squares makes squares over the ground of the zones, on the lattice of a grid whose cells they are: those of which the
// zones cover some part. Their ids are the numbers of column and row from an origin, so that a square keeps its id
// whatever ground is asked for.
func Squares(s *Set, g raster.Grid, origin Origin) (*vector.Layer, error) {
	if g.Width < 1 || g.Height < 1 || g.Width > mostSquares || g.Height > mostSquares || g.Width*g.Height > 64*mostSquares {
		return nil, fmt.Errorf("the grid would have %d × %d squares: choose larger ones", g.Width, g.Height)
	}
	p, err := s.Place(g)
	if err != nil {
		return nil, err
	}
	l := &vector.Layer{Source: s.Source, CRS: g.CRS, Fields: []vector.Field{{Name: "zone_id", Kind: vector.Text}, {Name: "column", Kind: vector.Integer}, {Name: "row", Kind: vector.Integer}}}
	met := make([]bool, g.Width*g.Height)
	c := Cutter{Width: g.Width, Down: p.Down}
	for i := range p.Outlines {
		spans := c.Cut(&p.Outlines[i], i, 0, g.Height)
		from, to := spans.Rows()
		for row := from; row < to; row++ {
			full, edge := spans.Row(row)
			for _, r := range full {
				for col := max(0, r.From); col < min(r.To, int32(g.Width)); col++ {
					met[row*g.Width+int(col)] = true
				}
			}
			for _, e := range edge {
				met[row*g.Width+int(e.Col)] = met[row*g.Width+int(e.Col)] || e.Share > slack
			}
		}
		spans.Free()
	}
	for row := range g.Height {
		for col := range g.Width {
			if !met[row*g.Width+col] {
				continue
			}
			if len(l.Features) == mostSquares {
				return nil, fmt.Errorf("the grid would have more than %d squares: choose larger ones", mostSquares)
			}
			x0, y0 := origin.corner(g, col, row)
			x1, y1 := origin.corner(g, col+1, row+1)
			a, b := origin.Column+col, origin.Row+row
			if origin.Up {
				b = origin.Row - row
			}
			y0, y1 = math.Max(y0, y1), math.Min(y0, y1)
			l.Features = append(l.Features, vector.Feature{
				Values:   []any{fmt.Sprintf("%d_%d", a, b), int64(a), int64(b)},
				Geometry: vector.Geometry{Type: "Polygon", Polygons: []Polygon{{{{x0, y1}, {x1, y1}, {x1, y0}, {x0, y0}}}}},
			})
		}
	}
	if len(l.Features) == 0 {
		return nil, fmt.Errorf("no square meets %s", s.Source)
	}
	return l, nil
}

// Merge unites the features that share a value of a field. A field is kept when all features of a group agree in
// it; those of sum are added up, and of keep the first value is taken. The rest are left out and named.
func Merge(l *vector.Layer, by string, sum, keep []string) (out *vector.Layer, left []string, err error) {
	at, err := Need(l, by, "zone-id")
	if err != nil {
		return nil, nil, err
	}
	l.Written(at)
	groups := map[string][]int{}
	var order []string
	for i := range l.Features {
		id, err := l.ID(i, at)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: feature %d, field %s: %w", l.Source, i+1, by, err)
		}
		if id == "" {
			return nil, nil, fault.Errorf("%s: feature %d has no value in the field %q", l.Source, i+1, by).Do("fill it in").By("leave such features out", "where", "")
		}
		if len(groups[id]) == 0 {
			order = append(order, id)
		}
		groups[id] = append(groups[id], i)
	}
	out = &vector.Layer{Source: l.Source, Name: l.Name, CRS: l.CRS, CRSProblem: l.CRSProblem}
	how, err := mergedFields(l, at, groups, sum, keep)
	if err != nil {
		return nil, nil, err
	}
	for i, f := range l.Fields {
		if how[i] == leaveOut {
			left = append(left, f.Name)
		} else {
			out.Fields = append(out.Fields, f)
		}
	}
	for _, id := range order {
		f := vector.Feature{}
		for i := range l.Fields {
			if how[i] != leaveOut {
				f.Values = append(f.Values, mergedValue(l, groups[id], i, how[i]))
			}
		}
		if f.Geometry, err = dissolve(l, groups[id]); err != nil {
			return nil, nil, fmt.Errorf("%s: %s %s: %w", l.Source, by, id, err)
		}
		out.Features = append(out.Features, f)
	}
	out.Settle()
	return out, left, nil
}

const (
	leaveOut = iota
	takeFirst
	addUp
)

// mergedFields says what becomes of each field.
func mergedFields(l *vector.Layer, by int, groups map[string][]int, sum, keep []string) ([]int, error) {
	how := make([]int, len(l.Fields))
	for i := range how {
		how[i] = takeFirst
		for _, members := range groups {
			for _, m := range members[1:] {
				if l.Features[m].Values[i] != l.Features[members[0]].Values[i] {
					how[i] = leaveOut
				}
			}
		}
	}
	for _, name := range keep {
		i, err := Need(l, name, "keep")
		if err != nil {
			return nil, err
		}
		how[i] = takeFirst
	}
	for _, name := range sum {
		i, err := Need(l, name, "sum")
		if err != nil {
			return nil, err
		}
		if k := l.Fields[i].Kind; i == by || k != vector.Integer && k != vector.Real {
			return nil, fmt.Errorf("%s: the field %q holds no numbers to be added up", l.Source, name)
		}
		how[i] = addUp
	}
	return how, nil
}

func mergedValue(l *vector.Layer, members []int, field, how int) any {
	if how == takeFirst {
		return l.Features[members[0]].Values[field]
	}
	var whole int64
	var sum float64
	some := false
	for _, m := range members {
		v := l.Features[m].Values[field]
		if n, ok := v.(int64); ok {
			whole += n
		}
		if n, ok := vector.Number(v); ok {
			sum += n
			some = true
		}
	}
	switch {
	case !some:
		return nil
	case l.Fields[field].Kind == vector.Integer:
		return whole
	}
	return sum
}

// dissolve unites the outlines of features.
func dissolve(l *vector.Layer, members []int) (vector.Geometry, error) {
	var all []geom.Geometry
	for _, m := range members {
		for _, p := range l.Features[m].Geometry.Polygons {
			some, err := vector.Pieces(p)
			if err != nil {
				return vector.Geometry{}, fmt.Errorf("the outline of feature %d is not valid (%w)", m+1, err)
			}
			all = append(all, some...)
		}
		if g := &l.Features[m].Geometry; len(g.Polygons) == 0 && !strings.Contains(g.Type, "Polygon") && g.Type != "" {
			return vector.Geometry{}, fmt.Errorf("feature %d is a %s, but outlines are united", m+1, g.Type)
		}
	}
	if len(all) == 0 {
		return vector.Geometry{}, nil
	}
	u, err := vector.Union(all)
	if err != nil {
		return vector.Geometry{}, fmt.Errorf("its outlines cannot be united (%w)", err)
	}
	return vector.FromGeom(u), nil
}
