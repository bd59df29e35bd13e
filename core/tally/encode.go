package tally

import (
	"encoding/binary"
	"errors"
	"math"
	"slices"
)

// AppendBinary appends a tally in a form that [Decode] reads: numbers without signs as varints, extents as their two sums. It holds
// everything but which layers are in which groups where there are several: a tally of one group is whole.
func (t *Tally) AppendBinary(b []byte) ([]byte, error) {
	if len(t.Groups) != 1 {
		return nil, errors.New("a tally of several groups of layers")
	}
	b = binary.LittleEndian.AppendUint64(b, math.Float64bits(t.Quantum))
	b = binary.AppendUvarint(b, uint64(t.Tiles))
	b = binary.AppendUvarint(b, uint64(len(t.Numbers)))
	for _, list := range t.Numbers {
		b = binary.AppendUvarint(b, uint64(len(list)))
		for _, v := range list {
			b = binary.LittleEndian.AppendUint64(b, math.Float64bits(v))
		}
	}
	layers := len(t.Numbers) // numbers of each value
	if layers > len(Value{}) {
		layers = 1
		b = binary.AppendUvarint(b, uint64(len(t.Sequences[0])))
		for _, list := range t.Sequences[0] {
			for _, s := range list {
				b = binary.AppendUvarint(b, uint64(s))
			}
		}
	}
	b = binary.AppendUvarint(b, uint64(len(t.Overlaps)))
	for _, p := range t.Overlaps {
		b = binary.AppendUvarint(binary.AppendUvarint(b, uint64(p[0])), uint64(p[1]))
	}
	b = binary.AppendUvarint(b, uint64(len(t.ManyOverlaps)))
	for _, s := range t.ManyOverlaps {
		b = binary.AppendUvarint(b, uint64(s))
	}
	b = binary.AppendUvarint(b, uint64(len(t.Groups[0])))
	for _, z := range t.Groups[0] {
		b = binary.AppendUvarint(b, uint64(len(z.Values)))
		for i, v := range z.Values {
			for k := range layers {
				b = binary.AppendUvarint(b, uint64(v[k]))
			}
			e := &z.Extents[i]
			for _, s := range []*Sum{&e.Shares, &e.Total} {
				b = binary.AppendUvarint(binary.AppendVarint(b, s.hi), s.lo)
			}
		}
	}
	return b, nil
}

// errTally is the error of bytes that are no tally.
var errTally = errors.New("not a tally")

// decoder reads numbers and remembers that there were too few.
type decoder struct {
	b      []byte
	broken bool
}

// count reads how many there are of what takes at least a byte each.
func (d *decoder) count() int {
	n := d.uint()
	if n > uint64(len(d.b)) {
		d.broken = true
		return 0
	}
	return int(n)
}

// pass goes on by n bytes, if there are as many.
func (d *decoder) pass(n int) bool {
	if n <= 0 || n > len(d.b) {
		d.broken, d.b = true, nil
		return false
	}
	d.b = d.b[n:]
	return true
}

func (d *decoder) uint() uint64 {
	if v, n := binary.Uvarint(d.b); d.pass(n) {
		return v
	}
	return 0
}

func (d *decoder) int() int64 {
	if v, n := binary.Varint(d.b); d.pass(n) {
		return v
	}
	return 0
}

func (d *decoder) float() float64 {
	b := d.b
	if !d.pass(8) {
		return 0
	}
	return math.Float64frombits(binary.LittleEndian.Uint64(b))
}

// sequences reads sequences of slots, which are in order; numbers are the values of the layers by slot.
func (d *decoder) sequences(numbers [][]float64) (all [][]Slot, err error) {
	for range d.count() {
		list := make([]Slot, len(numbers))
		for k := range list {
			s := d.uint()
			if s >= uint64(len(numbers[k])) {
				return nil, errTally
			}
			list[k] = Slot(s)
		}
		if n := len(all); d.broken || n > 0 && slices.Compare(all[n-1], list) >= 0 {
			return nil, errTally
		}
		all = append(all, list)
	}
	return all, nil
}

// Decode reads a tally of one group of layers.
func Decode(b []byte) (*Tally, error) {
	d := &decoder{b: b}
	t := &Tally{Quantum: d.float(), Tiles: int(d.uint())}
	layers := d.count()
	members := []int{}
	for n := range layers {
		members = append(members, n)
		list := make([]float64, d.count())
		for i := range list {
			list[i] = d.float()
		}
		t.Numbers = append(t.Numbers, list)
	}
	t.Members, t.Sequences = [][]int{members}, [][][]Slot{nil}
	most := func(k int) int { return len(t.Numbers[k]) } // of the k-th number of a value
	if layers > len(Value{}) {
		all, err := d.sequences(t.Numbers)
		if err != nil {
			return nil, err
		}
		t.Sequences[0], layers, most = all, 1, func(int) int { return len(all) }
	}
	for range d.count() {
		t.Overlaps = append(t.Overlaps, [2]int{int(d.uint()), int(d.uint())})
	}
	for range d.count() {
		t.ManyOverlaps = append(t.ManyOverlaps, int(d.uint()))
	}
	zones := make([]Zone, d.count())
	for z := range zones {
		n := d.count()
		if n == 0 {
			continue
		}
		values, extents := make([]Value, n), make([]Extent, n)
		for i := range values {
			for k := range layers {
				s := d.uint()
				if s >= uint64(most(k)) {
					d.broken = true
					s = 0
				}
				values[i][k] = Slot(s)
			}
			e := &extents[i]
			for _, s := range []*Sum{&e.Shares, &e.Total} {
				s.hi, s.lo = d.int(), d.uint()
			}
		}
		zones[z] = Zone{values, extents}
		if d.broken {
			return nil, errTally
		}
	}
	if d.broken || len(d.b) > 0 || layers == 0 {
		return nil, errTally
	}
	t.Groups = [][]Zone{zones}
	t.Zones = zones
	return t, nil
}
