package shapefile

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/verdex-land/verdex/core/planar"
	"github.com/verdex-land/verdex/core/vector"
)

// Files are the parts of a shapefile by their endings: .shp, .shx, .dbf, .cpg and .prj.
type Files map[string][]byte

// Endings are those that Encode gives, the .shp last: once it is there, the others are too.
var Endings = []string{".prj", ".cpg", ".dbf", ".shx", ".shp"}

const longest = math.MaxInt32 // bytes of one part

// Encode makes the parts of a shapefile. What the form cannot hold is an error or, where it is only shortened, a note:
// names of fields have ten bytes, texts 254, a part two gigabytes.
func Encode(l *vector.Layer) (Files, []string, error) {
	prj, ok := l.CRS.WKT1()
	if !ok {
		return nil, nil, fmt.Errorf("the CRS %v cannot be written in a .prj file: choose GeoPackage or GeoParquet", l.CRS)
	}
	shp, shx, err := encodeShapes(l)
	if err != nil {
		return nil, nil, err
	}
	dbf, notes, err := encodeTable(l)
	if err != nil {
		return nil, nil, err
	}
	for _, part := range [][]byte{shp, dbf} {
		if len(part) > longest {
			return nil, nil, fmt.Errorf("a shapefile holds at most 2 GiB, and this would be %d MiB: choose GeoPackage", len(part)>>20)
		}
	}
	return Files{".shp": shp, ".shx": shx, ".dbf": dbf, ".cpg": []byte("UTF-8\n"), ".prj": []byte(prj)}, notes, nil
}

func encodeShapes(l *vector.Layer) (shp, shx []byte, err error) {
	kind := shapePolygon
	if slices.ContainsFunc(l.Features, func(f vector.Feature) bool { return len(f.Geometry.Points) > 0 }) {
		kind = shapeMultiPoint
		if slices.ContainsFunc(l.Features, func(f vector.Feature) bool { return len(f.Geometry.Polygons) > 0 }) {
			return nil, nil, fmt.Errorf("a shapefile holds either points or polygons, and here are both: choose GeoPackage")
		}
		if !slices.ContainsFunc(l.Features, func(f vector.Feature) bool { return len(f.Geometry.Points) > 1 }) {
			kind = shapePoint
		}
	}
	var body, index []byte
	whole := emptyBox()
	le := binary.LittleEndian
	for i := range l.Features {
		record, box := encodeShape(&l.Features[i].Geometry, kind)
		whole = joinBoxes(whole, box)
		head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, uint32(i+1)), uint32(len(record)/2))
		index = binary.BigEndian.AppendUint32(index, uint32((100+len(body))/2))
		index = binary.BigEndian.AppendUint32(index, uint32(len(record)/2))
		body = append(append(body, head...), record...)
		if len(body) > longest {
			return nil, nil, fmt.Errorf("a shapefile holds at most 2 GiB, and this would be more: choose GeoPackage")
		}
	}
	if math.IsInf(whole[0], 0) {
		whole = [4]float64{}
	}
	header := func(length int) []byte {
		h := make([]byte, 36, 100)
		binary.BigEndian.PutUint32(h, 9994)
		binary.BigEndian.PutUint32(h[24:], uint32(length/2))
		le.PutUint32(h[28:], 1000)
		le.PutUint32(h[32:], uint32(kind))
		for _, v := range append(whole[:], 0, 0, 0, 0) {
			h = le.AppendUint64(h, math.Float64bits(v))
		}
		return h
	}
	return append(header(100+len(body)), body...), append(header(100+len(index)), index...), nil
}

func emptyBox() [4]float64 {
	return [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
}

func joinBoxes(a, b [4]float64) [4]float64 {
	return [4]float64{math.Min(a[0], b[0]), math.Min(a[1], b[1]), math.Max(a[2], b[2]), math.Max(a[3], b[3])}
}

// encodeShape makes the content of a record. Shells run clockwise, holes the other way.
func encodeShape(g *vector.Geometry, kind int) (b []byte, box [4]float64) {
	le := binary.LittleEndian
	box = emptyBox()
	if len(g.Polygons) == 0 && len(g.Points) == 0 {
		return le.AppendUint32(nil, shapeNull), box
	}
	put := func(b []byte, p vector.Point) []byte {
		return le.AppendUint64(le.AppendUint64(b, math.Float64bits(p[0])), math.Float64bits(p[1]))
	}
	if kind == shapePoint {
		return put(le.AppendUint32(nil, uint32(kind)), g.Points[0]), vector.Box(g.Points)
	}
	var parts []uint32
	var all vector.Ring
	if kind == shapeMultiPoint {
		all = g.Points
	}
	for _, p := range g.Polygons {
		for k, r := range p {
			parts = append(parts, uint32(len(all)))
			ring := slices.Clone(r)
			if (planar.Area(ring) > 0) == (k == 0) {
				slices.Reverse(ring)
			}
			all = append(append(all, ring...), ring[0])
		}
	}
	box = vector.Box(all)
	b = le.AppendUint32(nil, uint32(kind))
	for _, v := range box {
		b = le.AppendUint64(b, math.Float64bits(v))
	}
	if kind == shapePolygon {
		b = le.AppendUint32(b, uint32(len(parts)))
	}
	b = le.AppendUint32(b, uint32(len(all)))
	for _, p := range parts {
		b = le.AppendUint32(b, p)
	}
	for _, p := range all {
		b = put(b, p)
	}
	return b, box
}

// encodeTable makes the .dbf.
func encodeTable(l *vector.Layer) ([]byte, []string, error) {
	fields := l.Fields
	values := func(f *vector.Feature, i int) any { return f.Values[i] }
	if len(fields) == 0 { // the form wants one
		fields = []vector.Field{{Name: "id", Kind: vector.Integer}}
		n := int64(0)
		values = func(*vector.Feature, int) any { n++; return n }
	}
	if len(fields) > 255 {
		return nil, nil, fmt.Errorf("a shapefile holds at most 255 fields, and here are %d: choose GeoPackage, or fewer", len(fields))
	}
	names, notes := shortNames(fields)
	kinds := map[vector.Kind]byte{vector.Text: 'C', vector.Integer: 'N', vector.Real: 'N', vector.Boolean: 'L'}
	widths := make([]int, len(fields))
	dates := make([]bool, len(fields))
	for i, f := range fields {
		dates[i] = f.Form == vector.Date && l.AllDates(i)
	}
	rows := make([][]string, len(l.Features))
	var cut, rounded []string
	decimals := make([]int, len(fields))
	for i, f := range fields {
		if f.Kind == vector.Real {
			var lost bool
			if decimals[i], lost = decimalsOf(l, i); lost {
				rounded = append(rounded, f.Name)
			}
		}
	}
	for k := range l.Features {
		rows[k] = make([]string, len(fields))
		for i, f := range fields {
			text := cell(values(&l.Features[k], i), decimals[i])
			if dates[i] {
				text = strings.ReplaceAll(text, "-", "")
			}
			if f.Kind == vector.Text && len(text) > 254 {
				for text = text[:254]; !utf8.ValidString(text); {
					text = text[:len(text)-1]
				}
				if !slices.Contains(cut, f.Name) {
					cut = append(cut, f.Name)
				}
			}
			rows[k][i] = text
			widths[i] = max(widths[i], len(text))
		}
	}
	if len(cut) > 0 {
		notes = append(notes, fmt.Sprintf("a shapefile's texts have at most 254 bytes: longer ones are cut in %s", strings.Join(cut, ", ")))
	}
	if len(rounded) > 0 {
		notes = append(notes, fmt.Sprintf("a shapefile's numbers have at most %d places: they are rounded in %s", numberWidth, strings.Join(rounded, ", ")))
	}
	now := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC) // the same content makes the same bytes
	head := []byte{3, byte(now.Year() - 1900), byte(now.Month()), byte(now.Day())}
	length := 1
	var descriptions []byte
	for i, f := range fields {
		switch f.Kind {
		case vector.Real:
			widths[i] = numberWidth
		case vector.Integer:
			widths[i] = max(widths[i], 9)
		case vector.Boolean:
			widths[i] = 1
		default:
			widths[i] = max(widths[i], 1)
		}
		kind := kinds[f.Kind]
		if dates[i] {
			kind, widths[i] = 'D', 8
		}
		d := make([]byte, 32)
		copy(d[:10], names[i])
		d[11], d[16], d[17] = kind, byte(widths[i]), byte(max(0, decimals[i]))
		descriptions = append(descriptions, d...)
		length += widths[i]
	}
	if length > math.MaxUint16 {
		return nil, nil, fmt.Errorf("a row of a shapefile holds at most 65,535 bytes, and this would be %d: choose GeoPackage, or fewer fields", length)
	}
	le := binary.LittleEndian
	head = le.AppendUint32(head, uint32(len(rows)))
	head = le.AppendUint16(head, uint16(33+len(descriptions)))
	head = le.AppendUint16(head, uint16(length))
	head = append(head, make([]byte, 20)...)
	var b bytes.Buffer
	b.Write(head)
	b.Write(descriptions)
	b.WriteByte(0x0d)
	for _, row := range rows {
		b.WriteByte(' ')
		for i, text := range row {
			pad := strings.Repeat(" ", widths[i]-len(text))
			if fields[i].Kind == vector.Text || fields[i].Kind == vector.Boolean {
				b.WriteString(text + pad)
			} else {
				b.WriteString(pad + text)
			}
		}
	}
	b.WriteByte(0x1a)
	return b.Bytes(), notes, nil
}

func cell(v any, decimals int) string {
	switch t := v.(type) {
	case bool:
		if t {
			return "T"
		}
		return "F"
	case float64:
		if math.IsNaN(t) || math.IsInf(t, 0) {
			return ""
		}
		if decimals < 0 {
			return strconv.FormatFloat(t, 'e', 12, 64)
		}
		return strconv.FormatFloat(t, 'f', decimals, 64)
	}
	return vector.TextOf(v)
}

// shortNames cuts names of fields to ten bytes, such that they stay different and keep what stands behind their last underscore, which is mostly a unit or a year, and
// notes what was cut.
func shortNames(fields []vector.Field) (out []string, notes []string) {
	taken := map[string]bool{}
	var changed []string
	for _, f := range fields {
		stem, ending := f.Name, ""
		if i := strings.LastIndexByte(f.Name, '_'); i > 0 && len(f.Name) > 10 && len(f.Name)-i <= 6 {
			stem, ending = f.Name[:i], f.Name[i:]
		}
		short := func(n int) string {
			s := stem
			for len(s) > n {
				_, size := utf8.DecodeLastRuneInString(s)
				s = s[:len(s)-size]
			}
			return s
		}
		name := short(10-len(ending)) + ending
		for k := 1; taken[strings.ToLower(name)] || name == ""; k++ {
			number := strconv.Itoa(k)
			if ending == "" {
				number = "_" + number
			}
			name = short(10-len(number)-len(ending)) + number + ending
		}
		taken[strings.ToLower(name)] = true
		if name != f.Name {
			changed = append(changed, f.Name+" → "+name)
		}
		out = append(out, name)
	}
	if len(changed) > 0 {
		notes = append(notes, "a shapefile's names have at most ten bytes: "+strings.Join(changed, ", "))
	}
	return out, notes
}

// numberWidth is how many places a number has at most, as most readers of .dbf files expect.
const numberWidth = 20

// decimalsOf is how many decimals the numbers of a column have: as many as fit beside the longest whole part, at most 15; -1 where a whole part leaves no room, and numbers are
// written with an exponent. rounded reports whether some number loses digits by that.
func decimalsOf(l *vector.Layer, i int) (decimals int, rounded bool) {
	whole := 1
	for k := range l.Features {
		if v, ok := l.Features[k].Values[i].(float64); ok && !math.IsNaN(v) && !math.IsInf(v, 0) {
			whole = max(whole, len(strconv.FormatFloat(math.Trunc(v), 'f', 0, 64)))
			if v < 0 && v > -1 { // the sign of a number that begins with 0
				whole = max(whole, 2)
			}
		}
	}
	if whole > numberWidth-2 {
		return -1, true
	}
	decimals = min(15, numberWidth-1-whole)
	for k := range l.Features {
		if v, ok := l.Features[k].Values[i].(float64); ok && !math.IsNaN(v) && !math.IsInf(v, 0) {
			back, _ := strconv.ParseFloat(strconv.FormatFloat(v, 'f', decimals, 64), 64)
			rounded = rounded || math.Abs(back-v) > 1e-12*math.Abs(v)
		}
	}
	return decimals, rounded
}
