package cover

import (
	"bytes"

	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/raster"
)

// ruleTable is what rules give for each pair of values of one or two layers of bytes; a view that maps the bytes
// of a layer is part of it. Few of the 256 values of a layer differ in what becomes of them: values are numbered
// by that, and the pair of numbers is looked up.
type ruleTable struct {
	v       *RuleView
	sources []raster.Source
	errs    []map[int]error // of the views of the layers, by value
	pairs   []uint8         // by value of the first layer · 256 + value of the second; by value when there is one
	bad     []bool          // pairs that are errors; nil when there are none
	marker  int             // what pairs has for them and for nothing else, -1 when there is no such byte

	numbers [2]*raster.ByteTable // by layer, those of the first times how many the second has
	final   *raster.ByteTable    // nil when there are too many numbers
}

func newRuleTable(v *RuleView, decisions []int16) *ruleTable {
	t := &ruleTable{v: v, marker: -1}
	var maps [][256]uint8
	for _, l := range v.layers.List {
		src, m, errs := view.ByteMap(l.Source)
		t.sources, maps, t.errs = append(t.sources, src), append(maps, m), append(t.errs, errs)
	}
	var used [256]bool
	t.pairs = make([]uint8, len(decisions))
	for i := range t.pairs {
		first, second := i, 0
		at := 0
		if len(maps) == 2 {
			first, second = i>>8, i&255
			at = int(maps[0][first])<<8 | int(maps[1][second])
		} else {
			at = int(maps[0][first])
		}
		d := decisions[at]
		switch {
		case t.errs[0][first] != nil || len(maps) == 2 && t.errs[1][second] != nil || d == noRule:
			if t.bad == nil {
				t.bad = make([]bool, len(decisions))
			}
			t.bad[i] = true
			continue
		case d == allNoData:
			t.pairs[i] = uint8(v.nodata)
		case d == undecided:
			t.pairs[i] = uint8(v.unsure)
		default:
			t.pairs[i] = uint8(v.values[d])
		}
		used[t.pairs[i]] = true
	}
	for m := 255; m >= 0 && t.bad != nil; m-- {
		if !used[m] {
			t.marker = m
			for i, bad := range t.bad {
				if bad {
					t.pairs[i] = uint8(m)
				}
			}
			break
		}
	}
	if t.bad == nil || t.marker >= 0 {
		t.number()
	}
	return t
}

// number numbers the values of each layer by what becomes of them.
func (t *ruleTable) number() {
	if len(t.sources) == 1 {
		t.final = raster.NewByteTable([256]uint8(t.pairs))
		return
	}
	rows, columns := map[string]int{}, map[string]int{}
	var row, column [256]int
	of := func(known map[string]int, key []uint8) int {
		n, ok := known[string(key)]
		if !ok {
			n = len(known)
			known[string(key)] = n
		}
		return n
	}
	key := make([]uint8, 256)
	for v := range 256 {
		row[v] = of(rows, t.pairs[v<<8:][:256])
		for k := range key {
			key[k] = t.pairs[k<<8|v]
		}
		column[v] = of(columns, key)
	}
	if len(rows)*len(columns) > 256 {
		return
	}
	var first, second, final [256]uint8
	for v := range 256 {
		first[v], second[v] = uint8(row[v]*len(columns)), uint8(column[v])
	}
	for a := range 256 {
		for b := range 256 {
			final[first[a]+second[b]] = t.pairs[a<<8|b]
		}
	}
	t.numbers = [2]*raster.ByteTable{raster.NewByteTable(first), raster.NewByteTable(second)}
	t.final = raster.NewByteTable(final)
}

func (t *ruleTable) newReader() raster.Reader {
	r := &tableReader{t: t}
	for _, s := range t.sources {
		r.readers = append(r.readers, s.NewReader())
	}
	return r
}

type tableReader struct {
	t       *ruleTable
	readers []raster.Reader
	cells   [2]raster.Cells
}

// Read implements [raster.Reader].
func (r *tableReader) Read(w raster.Window, dst *raster.Cells) error {
	for i, reader := range r.readers {
		if err := reader.Read(w, &r.cells[i]); err != nil {
			return err
		}
	}
	dst.Resize(raster.Uint8, w.Width, w.Height, w.Width)
	for row := range w.Height {
		first := r.cells[0].U8[row*r.cells[0].Stride:][:w.Width]
		var second []uint8
		if len(r.readers) == 2 {
			second = r.cells[1].U8[row*r.cells[1].Stride:][:w.Width]
		}
		out := dst.U8[row*dst.Stride:][:w.Width]
		r.t.row(out, first, second)
		if i := r.t.firstBad(out, first, second); i >= 0 {
			if err := r.t.errs[0][int(first[i])]; err != nil {
				return err
			}
			if second != nil && r.t.errs[1][int(second[i])] != nil {
				return r.t.errs[1][int(second[i])]
			}
			return r.t.v.forgotten(w, i, row)
		}
	}
	return nil
}

// row gives what the values of a row become.
func (t *ruleTable) row(out, first, second []uint8) {
	switch {
	case t.final != nil && second == nil:
		t.final.Apply(out, first)
	case t.final != nil:
		t.numbers[0].Apply(out, first)
		t.numbers[1].AddTo(out, second)
		t.final.Apply(out, out)
	case second == nil:
		for i, x := range first {
			out[i] = t.pairs[x]
		}
	default:
		table := (*[1 << 16]uint8)(t.pairs)
		second, out = second[:len(first)], out[:len(first)]
		for i, x := range first {
			out[i] = table[uint16(x)<<8|uint16(second[i])]
		}
	}
}

// firstBad is the first cell of a row that is an error, -1 when there is none.
func (t *ruleTable) firstBad(out, first, second []uint8) int {
	switch {
	case t.bad == nil:
		return -1
	case t.marker >= 0:
		return bytes.IndexByte(out, uint8(t.marker))
	}
	for i, x := range first {
		k := int(x)
		if second != nil {
			k = k<<8 | int(second[i])
		}
		if t.bad[k] {
			return i
		}
	}
	return -1
}
