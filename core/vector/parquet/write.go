package parquet

import (
	"encoding/json"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"

	"github.com/verdex-land/verdex/core/vector"
)

// group is a group of columns in the order that is wanted; the library's own is by name.
type group struct {
	parquet.Group
	order []string
}

// Fields implements [parquet.Node].
func (g group) Fields() []parquet.Field {
	out := g.Group.Fields()
	slices.SortStableFunc(out, func(a, b parquet.Field) int {
		return slices.Index(g.order, a.Name()) - slices.Index(g.order, b.Name())
	})
	return out
}

const geometryColumn = "geometry"

// Write writes a layer in longitude and latitude on WGS 84, or a plain table.
func Write(w io.Writer, l *vector.Layer) error {
	if !l.Plain && l.CRS.Code != 4326 {
		return fmt.Errorf("GeoParquet is written in EPSG:4326, not in %v", l.CRS)
	}
	g := group{Group: parquet.Group{}}
	taken := map[string]bool{geometryColumn: true}
	add := func(name string, n parquet.Node) {
		g.Group[name] = parquet.Compressed(n, &parquet.Zstd)
		g.order = append(g.order, name)
	}
	puts := make([]func(any) parquet.Value, len(l.Fields))
	for i, f := range l.Fields {
		puts[i] = func(v any) parquet.Value { return parquet.ValueOf(v) }
		name := strings.ReplaceAll(f.Name, ",", "_") // which the library does not take
		for taken[name] || name == "" {
			name += "_"
		}
		taken[name] = true
		var n parquet.Node
		switch f.Kind {
		case vector.Real:
			if n = parquet.Leaf(parquet.DoubleType); f.Decimals > 0 && fitsDecimal(l, i) {
				n, puts[i] = parquet.Decimal(f.Decimals, 18, parquet.Int64Type), func(v any) parquet.Value {
					return parquet.Int64Value(int64(math.Round(v.(float64) * math.Pow10(f.Decimals))))
				}
			}
		case vector.Text:
			n = parquet.String()
			if f.Form == vector.Plain || !l.AllDates(i) {
				break
			}
			day := func(v any) time.Time { t, _ := vector.ParseTime(v); return t } // AllDates has read it
			if n = parquet.Date(); f.Form == vector.Date {
				puts[i] = func(v any) parquet.Value { return parquet.Int32Value(int32(day(v).Unix() / 86400)) }
			} else {
				n, puts[i] = parquet.Timestamp(parquet.Microsecond), func(v any) parquet.Value { return parquet.Int64Value(day(v).UnixMicro()) }
			}
		case vector.Integer:
			n = parquet.Leaf(parquet.Int64Type)
		case vector.Boolean:
			n = parquet.Leaf(parquet.BooleanType)
		default:
			n = parquet.String()
		}
		add(name, parquet.Optional(n))
	}
	options := []parquet.WriterOption{parquet.CreatedBy("verdex", "", "")}
	name := l.Name
	if !l.Plain {
		name = "zones"
		add(geometryColumn, parquet.Optional(parquet.Leaf(parquet.ByteArrayType)))
		note, err := json.Marshal(describe(l))
		if err != nil {
			return err
		}
		options = append(options, parquet.KeyValueMetadata("geo", string(note)))
	}
	out := parquet.NewWriter(w, append(options, parquet.NewSchema(name, g))...)
	for i := range l.Features {
		f := &l.Features[i]
		row := make(parquet.Row, 0, len(l.Fields)+1)
		for k, v := range f.Values {
			var put parquet.Value
			if v != nil {
				put = puts[k](v)
			}
			row = append(row, cell(put, v == nil, k))
		}
		if !l.Plain {
			var outline parquet.Value
			if !f.Geometry.Empty() {
				outline = parquet.ByteArrayValue(f.Geometry.Geom(false).AppendWKB(nil))
			}
			row = append(row, cell(outline, f.Geometry.Empty(), len(l.Fields)))
		}
		if _, err := out.WriteRows([]parquet.Row{row}); err != nil {
			return err
		}
	}
	return out.Close()
}

// fitsDecimal reports whether all numbers of a field are what is left of them when they are stored with its number of decimals.
func fitsDecimal(l *vector.Layer, i int) bool {
	scale := math.Pow10(l.Fields[i].Decimals)
	for k := range l.Features {
		if v, ok := l.Features[k].Values[i].(float64); ok {
			if n := math.Round(v * scale); math.Abs(n) >= 1<<53 || n/scale != v {
				return false
			}
		}
	}
	return true
}

// cell puts a value of an optional column in its place.
func cell(v parquet.Value, null bool, column int) parquet.Value {
	if null {
		return parquet.NullValue().Level(0, 0, column)
	}
	return v.Level(0, 1, column)
}

// describe makes the note about the outlines.
func describe(l *vector.Layer) geo {
	box := []float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
	var types []string
	add := func(r vector.Ring) {
		b := vector.Box(r)
		box = []float64{math.Min(box[0], b[0]), math.Min(box[1], b[1]), math.Max(box[2], b[2]), math.Max(box[3], b[3])}
	}
	for i := range l.Features {
		g := &l.Features[i].Geometry
		if g.Empty() {
			continue
		}
		if t := g.Geom(false).Type().String(); !slices.Contains(types, t) {
			types = append(types, t)
		}
		for _, p := range g.Polygons {
			add(p[0])
		}
		if len(g.Points) > 0 {
			add(g.Points)
		}
	}
	if math.IsInf(box[0], 0) {
		box = nil
	}
	slices.Sort(types)
	return geo{Version: "1.1.0", Primary: geometryColumn, Columns: map[string]geoColumn{geometryColumn: {Encoding: "WKB", Types: append([]string{}, types...), Box: box}}}
}
