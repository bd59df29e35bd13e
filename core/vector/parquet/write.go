package parquet

import (
	"encoding/json"
	"io"
	"iter"
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

// rowsAtOnce is how many rows are handed to the library at once, and rowsInGroup how many it keeps in memory.
const (
	rowsAtOnce  = 512
	rowsInGroup = 1 << 17
)

// table writes rows of columns that may be empty.
type table struct {
	columns group
	taken   map[string]bool
	puts    []func(any) parquet.Value
	out     *parquet.GenericWriter[any]
	batch   []parquet.Row
}

func newTable(names ...string) *table {
	t := &table{columns: group{Group: parquet.Group{}}, taken: map[string]bool{}}
	for _, n := range names {
		t.taken[n] = true
	}
	return t
}

// add adds a column with what makes its values.
func (t *table) add(name string, n parquet.Node, put func(any) parquet.Value) {
	t.columns.Group[name] = parquet.Compressed(parquet.Optional(n), &parquet.Zstd)
	t.columns.order = append(t.columns.order, name)
	t.puts = append(t.puts, put)
}

// addField adds the column of a field, under a name that is free.
func (t *table) addField(f vector.Field, n parquet.Node, put func(any) parquet.Value) {
	name := strings.ReplaceAll(f.Name, ",", "_") // which the library does not take
	for t.taken[name] || name == "" {
		name += "_"
	}
	t.taken[name] = true
	if put == nil {
		put = func(v any) parquet.Value { return parquet.ValueOf(v) }
	}
	t.add(name, n, put)
}

func (t *table) begin(w io.Writer, name string, options ...parquet.WriterOption) {
	options = append([]parquet.WriterOption{parquet.CreatedBy("verdex", "", ""), parquet.MaxRowsPerRowGroup(rowsInGroup)}, options...)
	t.out = parquet.NewGenericWriter[any](w, append(options, parquet.NewSchema(name, t.columns))...)
}

// write writes a row: a value, or nil, for each column.
func (t *table) write(values ...any) error {
	row := make(parquet.Row, len(values))
	for k, v := range values {
		var put parquet.Value
		if v != nil {
			put = t.puts[k](v)
		}
		row[k] = cell(put, v == nil, k)
	}
	if t.batch = append(t.batch, row); len(t.batch) < rowsAtOnce {
		return nil
	}
	return t.flush()
}

func (t *table) flush() error {
	_, err := t.out.WriteRows(t.batch)
	t.batch = t.batch[:0]
	return err
}

func (t *table) close() error {
	if err := t.flush(); err != nil {
		return err
	}
	return t.out.Close()
}

// plainNode is the type of a column of values of a kind.
func plainNode(k vector.Kind) parquet.Node {
	switch k {
	case vector.Real:
		return parquet.Leaf(parquet.DoubleType)
	case vector.Integer:
		return parquet.Leaf(parquet.Int64Type)
	case vector.Boolean:
		return parquet.Leaf(parquet.BooleanType)
	}
	return parquet.String()
}

// WriteTable writes rows without outlines: nil, string, int64, float64 or bool for each field. A row serves until the next one.
func WriteTable(w io.Writer, name string, fields []vector.Field, rows iter.Seq[[]any]) error {
	t := newTable()
	for _, f := range fields {
		t.addField(f, plainNode(f.Kind), nil)
	}
	t.begin(w, name)
	for row := range rows {
		if err := t.write(row...); err != nil {
			return err
		}
	}
	return t.close()
}

// Write writes a layer in its own CRS, which is stated as PROJJSON, or a plain table.
func Write(w io.Writer, l *vector.Layer) error {
	t := newTable(geometryColumn)
	for i, f := range l.Fields {
		n, put := nodeOf(l, i)
		t.addField(f, n, put)
	}
	name := l.Name
	var options []parquet.WriterOption
	if !l.Plain {
		name = "zones"
		t.add(geometryColumn, parquet.Leaf(parquet.ByteArrayType), func(v any) parquet.Value { return parquet.ByteArrayValue(v.([]byte)) })
		note, err := json.Marshal(describe(l))
		if err != nil {
			return err
		}
		options = append(options, parquet.KeyValueMetadata("geo", string(note)))
	}
	t.begin(w, name, options...)
	for i := range l.Features {
		f := &l.Features[i]
		row := f.Values
		if !l.Plain {
			outline := any(nil)
			if !f.Geometry.Empty() {
				outline = f.Geometry.Geom(false).AppendWKB(nil)
			}
			row = append(slices.Clip(row), outline)
		}
		if err := t.write(row...); err != nil {
			return err
		}
	}
	return t.close()
}

// nodeOf is the type of the column of a field, and what makes its values, nil for the usual way.
func nodeOf(l *vector.Layer, i int) (parquet.Node, func(any) parquet.Value) {
	f := l.Fields[i]
	switch {
	case f.Kind == vector.Real && f.Decimals > 0 && fitsDecimal(l, i):
		return parquet.Decimal(f.Decimals, 18, parquet.Int64Type), func(v any) parquet.Value {
			return parquet.Int64Value(int64(math.Round(v.(float64) * math.Pow10(f.Decimals))))
		}
	case f.Kind == vector.Text && f.Form != vector.Plain && l.AllDates(i):
		day := func(v any) time.Time { t, _ := vector.ParseTime(v); return t } // AllDates has read it
		if f.Form == vector.Date {
			return parquet.Date(), func(v any) parquet.Value { return parquet.Int32Value(int32(day(v).Unix() / 86400)) }
		}
		return parquet.Timestamp(parquet.Microsecond), func(v any) parquet.Value { return parquet.Int64Value(day(v).UnixMicro()) }
	}
	return plainNode(f.Kind), nil
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
	column := geoColumn{Encoding: "WKB", Types: append([]string{}, types...), Box: box}
	if l.CRS.Code != 4326 { // which is what a file without one means
		column.CRS = l.CRS.PROJJSON()
	}
	return geo{Version: "1.1.0", Primary: geometryColumn, Columns: map[string]geoColumn{geometryColumn: column}}
}
