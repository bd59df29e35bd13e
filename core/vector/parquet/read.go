// Package parquet reads and writes GeoParquet (version 1.1): Parquet files with outlines as well-known binary and a
// note about them in JSON.
package parquet

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
)

// geo is the note about outlines.
type geo struct {
	Version string               `json:"version"`
	Primary string               `json:"primary_column"`
	Columns map[string]geoColumn `json:"columns"`
}

type geoColumn struct {
	Encoding    string          `json:"encoding"`
	Types       []string        `json:"geometry_types"`
	CRS         json.RawMessage `json:"crs,omitempty"`
	Orientation string          `json:"orientation,omitempty"`
	Box         []float64       `json:"bbox,omitempty"`
}

// Read reads a file.
func Read(from files.System, path string) (*vector.Layer, error) {
	f, err := from.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	l := &vector.Layer{Source: path}
	if err := Decode(f, f.Size(), l); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return l, nil
}

// ReadTable reads a file as a table: features without outlines, whether it has some or not.
func ReadTable(from files.System, path string) (*vector.Layer, error) {
	f, err := from.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	l := &vector.Layer{Source: path, Plain: true}
	if err := Decode(f, f.Size(), l); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return l, nil
}

// Decode reads a file of the given size into a layer; of one that is plain, it needs no outlines.
func Decode(r io.ReaderAt, size int64, l *vector.Layer) (err error) {
	defer func() { // the library panics at some damages
		if p := recover(); p != nil {
			err = fmt.Errorf("it is damaged (%v)", p)
		}
	}()
	var tail [8]byte // the library takes memory for the footer before it knows that there is one
	if size < 12 {
		return errors.New("it is not a Parquet file: it is too short")
	}
	if _, err := r.ReadAt(tail[:], size-8); err != nil {
		return err
	}
	if n := int64(binary.LittleEndian.Uint32(tail[:])); string(tail[4:]) != "PAR1" || n > size-12 {
		return errors.New("it is not a Parquet file that can be read: it does not end like one, so it may be cut off")
	}
	f, err := parquet.OpenFile(r, size, parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true))
	if err != nil {
		return fmt.Errorf("it is not a Parquet file that can be read (%w)", err)
	}
	for _, group := range f.Metadata().RowGroups {
		for _, c := range group.Columns {
			// The library gives what lay in the memory before instead of what the page holds.
			if c.MetaData.Codec == format.Lz4Raw {
				return fmt.Errorf("its column %s is compressed by LZ4_RAW, which is not read: write the file again with Zstandard or Snappy", strings.Join(c.MetaData.PathInSchema, "."))
			}
		}
	}
	text, ok := f.Lookup("geo")
	if l.Plain {
		return rows(f, "", l)
	}
	if !ok {
		if column, stated, found := native(f); found {
			if l.CRS, err = nativeCRS(f, stated); err != nil {
				l.CRSProblem = err.Error()
			}
			return rows(f, column, l)
		}
		return errors.New("it is a Parquet file without a column of outlines, of the type GEOMETRY or with a note about it (geo)")
	}
	var note geo
	if err := json.Unmarshal([]byte(text), &note); err != nil {
		return fmt.Errorf("its note about outlines (geo) is not valid JSON (%w)", err)
	}
	column, ok := note.Columns[note.Primary]
	if !ok {
		return fmt.Errorf("its note about outlines (geo) does not describe its column %q", note.Primary)
	}
	if !strings.EqualFold(column.Encoding, "WKB") {
		return fmt.Errorf("its outlines are encoded as %q, but only WKB is read: write the file again with that encoding", column.Encoding)
	}
	if l.CRS, err = crs(column.CRS); err != nil {
		l.CRSProblem = err.Error()
	}
	return rows(f, note.Primary, l)
}

// crs reads the CRS of a column, a definition in PROJJSON; without it, it is longitude and latitude on WGS 84.
func crs(text json.RawMessage) (*earth.CRS, error) {
	if len(text) == 0 {
		return earth.Lookup(4326)
	}
	if string(text) == "null" {
		return nil, errors.New("it states that its CRS is not known")
	}
	var c struct {
		ID struct {
			Authority string
			Code      any
		}
	}
	if err := json.Unmarshal(text, &c); err != nil {
		return nil, fmt.Errorf("its CRS is not understood (%w)", err)
	}
	if code := fmt.Sprint(c.ID.Code); c.ID.Authority == "OGC" && (code == "CRS84" || code == "CRS84h") {
		return earth.Lookup(4326)
	} else if c.ID.Authority == "EPSG" {
		if found, err := earth.ParseCRS("EPSG:" + code); err == nil {
			return found, nil
		}
	}
	found, err := earth.ParsePROJJSON(text)
	if err != nil {
		return nil, fmt.Errorf("its CRS is not understood (%w)", err)
	}
	return found, nil
}

// native is the first column of the type GEOMETRY or GEOGRAPHY, and how it states its CRS.
func native(f *parquet.File) (column, crs string, found bool) {
	for _, path := range f.Schema().Columns() {
		leaf, ok := f.Schema().Lookup(path...)
		if !ok || len(path) > 1 {
			continue
		}
		t := leaf.Node.Type().LogicalType()
		if t == nil {
			continue
		}
		switch t := t.Value.(type) {
		case *format.GeometryType:
			return path[0], t.CRS, true
		case *format.GeographyType:
			return path[0], t.CRS, true
		}
	}
	return "", "", false
}

// nativeCRS finds the CRS of a native column: longitude and latitude where none is stated; a code; PROJJSON, or the key under which the file has it.
func nativeCRS(f *parquet.File, stated string) (*earth.CRS, error) {
	switch key, isKey := strings.CutPrefix(stated, "projjson:"); {
	case stated == "", strings.EqualFold(stated, "OGC:CRS84"):
		return earth.Lookup(4326)
	case isKey:
		text, ok := f.Lookup(key)
		if !ok {
			return nil, fmt.Errorf("it states its CRS under the key %q, which it does not have", key)
		}
		return crs(json.RawMessage(text))
	case strings.HasPrefix(stated, "{"):
		return crs(json.RawMessage(stated))
	}
	if code, is := strings.CutPrefix(stated, "srid:"); is {
		stated = "EPSG:" + code
	}
	return earth.ParseCRS(stated)
}

// rows reads the features.
func rows(f *parquet.File, primary string, l *vector.Layer) error {
	leaves := f.Schema().Columns()
	places := make([]int, len(leaves)) // by column: of the field; -1 for the outline, -2 for what is left out
	var left []string
	found := false
	converters := make([]func(parquet.Value) any, len(leaves))
	for i, path := range leaves {
		leaf, ok := f.Schema().Lookup(path...)
		switch {
		case len(path) > 1 || !ok || leaf.Node.Repeated():
			places[i] = -2
			if !slices.Contains(left, path[0]) && path[0] != "bbox" {
				left = append(left, path[0])
			}
		case path[0] == primary:
			places[i], found = -1, true
		default:
			places[i] = len(l.Fields)
			converters[i] = converter(leaf.Node)
			l.Fields = append(l.Fields, fieldOf(path[0], leaf.Node))
		}
	}
	if !found && !l.Plain {
		return fmt.Errorf("it has no column %q, which is to hold its outlines", primary)
	}
	if len(left) > 0 {
		l.Notes = append(l.Notes, "columns with lists or groups are left out: "+strings.Join(left, ", "))
	}
	buffer := make([]parquet.Row, 64)
	features := vector.NewBatches(vector.FromWKB)
	var arena []byte // for outlines, which the library holds for a short time only
	for _, group := range f.RowGroups() {
		r := group.Rows()
		for {
			n, err := r.ReadRows(buffer)
			for _, row := range buffer[:n] {
				feature := vector.Feature{Values: make([]any, len(l.Fields))}
				var raw []byte
				for _, v := range row {
					switch k := places[v.Column()]; {
					case v.IsNull() || k == -2:
					case k == -1:
						b := v.ByteArray()
						if cap(arena)-len(arena) < len(b) {
							arena = make([]byte, 0, max(1<<20, len(b)))
						}
						at := len(arena)
						arena = append(arena, b...)
						raw = arena[at:len(arena):len(arena)]
					default:
						feature.Values[k] = converters[v.Column()](v)
					}
				}
				features.Add(feature, raw)
			}
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil || n == 0 {
				r.Close()
				return fmt.Errorf("its rows cannot be read after feature %d (%w)", features.Len(), err)
			}
		}
		if err := r.Close(); err != nil {
			return err
		}
	}
	var err error
	if l.Features, err = features.Features(); err != nil {
		return err
	}
	l.Settle()
	return nil
}

// fieldOf is a field with what its column says of dates and decimals.
func fieldOf(name string, n parquet.Node) vector.Field {
	f := vector.Field{Name: name}
	if t := n.Type().LogicalType(); t != nil {
		switch t := t.Value.(type) {
		case *format.DateType:
			f.Form = vector.Date
		case *format.TimestampType:
			f.Form = vector.DateTime
		case *format.DecimalType:
			f.Decimals = int(t.Scale)
		}
	}
	return f
}

// converter turns values of a column into those of features.
func converter(n parquet.Node) func(parquet.Value) any {
	var logical format.LogicalTypeValue
	if t := n.Type().LogicalType(); t != nil {
		logical = t.Value
	}
	switch n.Type().Kind() {
	case parquet.Boolean:
		return func(v parquet.Value) any { return v.Boolean() }
	case parquet.Int32:
		switch t := logical.(type) {
		case *format.DateType:
			return func(v parquet.Value) any {
				return time.Unix(int64(v.Int32())*86400, 0).UTC().Format(time.DateOnly)
			}
		case *format.DecimalType:
			scale := math.Pow10(int(t.Scale))
			return func(v parquet.Value) any { return float64(v.Int32()) / scale }
		case *format.IntType:
			if !t.IsSigned {
				return func(v parquet.Value) any { return int64(uint32(v.Int32())) }
			}
		}
		return func(v parquet.Value) any { return int64(v.Int32()) }
	case parquet.Int64:
		switch t := logical.(type) {
		case *format.TimestampType:
			perSecond := int64(time.Second / t.Unit.Value.Duration())
			return func(v parquet.Value) any {
				return time.Unix(v.Int64()/perSecond, v.Int64()%perSecond*int64(time.Second)/perSecond).UTC().Format(time.RFC3339Nano)
			}
		case *format.DecimalType:
			scale := math.Pow10(int(t.Scale))
			return func(v parquet.Value) any { return float64(v.Int64()) / scale }
		}
		return func(v parquet.Value) any { return v.Int64() }
	case parquet.Float:
		return func(v parquet.Value) any { return float64(v.Float()) }
	case parquet.Double:
		return func(v parquet.Value) any { return v.Double() }
	case parquet.ByteArray, parquet.FixedLenByteArray:
		switch t := logical.(type) {
		case *format.UUIDType:
			return func(v parquet.Value) any {
				b := v.ByteArray()
				if len(b) != 16 {
					return nil
				}
				return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
			}
		case *format.DecimalType:
			return func(v parquet.Value) any { return decimal(v.ByteArray(), int(t.Scale)) }
		}
		return func(v parquet.Value) any {
			if b := v.ByteArray(); logical == nil && !printable(b) {
				return fmt.Sprintf("%d bytes", len(b))
			}
			return string(v.ByteArray())
		}
	}
	return func(v parquet.Value) any { return v.String() }
}

// decimal is a number of two's complement, the highest byte first, with a number of decimals.
func decimal(b []byte, scale int) float64 {
	n := new(big.Int).SetBytes(b)
	if len(b) > 0 && b[0]&0x80 != 0 {
		n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(8*len(b))))
	}
	v, _ := new(big.Rat).SetFrac(n, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(scale)), nil)).Float64()
	return v
}

func printable(b []byte) bool {
	return !slices.ContainsFunc(b, func(c byte) bool { return c < ' ' && c != '\t' && c != '\n' && c != '\r' })
}
