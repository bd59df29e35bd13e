package tally

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"slices"
)

// Groups of more than three layers are counted as sequences: a slot of the kernel stands for a list of slots, one for each layer, and is found by
// a table of the bytes of a cell as one word, or, where the layers are not up to eight of bytes, by a map of the list. Memory follows the sequences that occur.

// mostWord is how many layers of bytes a word holds.
const mostWord = 8

// mostSequences is how many different sequences are counted.
const mostSequences = 1 << 20

// sequences numbers what the layers of a long group hold.
type sequences struct {
	layers  int
	of      []int32          // slots of the layers, one list behind another
	words   wordTable        // by the bytes of the layers
	lists   map[string]int32 // by the slots of the layers
	slots   []int32          // room for a list
	key     []byte           // and its text
	numbers []Slot           // by slot: the place in the tally's Sequences, once all is measured
}

// list is what the layers hold in cells of a slot.
func (q *sequences) list(s int32) []int32 { return q.of[int(s)*q.layers:][:q.layers] }

// word is the slot of the bytes of a cell.
func (q *sequences) word(w uint64) (int32, error) {
	m := q.words.place(w)
	if m.slot == 0 {
		for i := range q.slots {
			q.slots[i] = int32(w >> (8 * i) & 0xff) // a byte is its own slot
		}
		s, err := q.add()
		if err != nil {
			return 0, err
		}
		*m = metCombination{w, s + 1}
		q.words.used++
		return s, nil
	}
	return m.slot - 1, nil
}

// wordTable has the slots of words: a table of a power of two of places, half of which are used at most. The place of a word is the first one from that
// of its hash on that is its own or free.
type wordTable struct {
	places []metCombination
	used   int
}

// place is where a word is, or where it is to be put.
func (t *wordTable) place(w uint64) *metCombination {
	if 2*t.used >= len(t.places) {
		old := t.places
		t.places = make([]metCombination, max(256, 2*len(old)))
		for _, m := range old {
			if m.slot != 0 {
				*t.place(m.word) = m
			}
		}
	}
	for i := hashOf(w) >> (64 - bits.Len(uint(len(t.places)-1))); ; i = (i + 1) & uint64(len(t.places)-1) {
		if m := &t.places[i]; m.slot == 0 || m.word == w {
			return m
		}
	}
}

// hashOf spreads a word over 64 bits, of which the first are the best: by Fibonacci's rule, a multiple of 2⁶⁴ divided by the golden ratio.
func hashOf(w uint64) uint64 { return w * 0x9e3779b97f4a7c15 }

// number is the slot of the list in slots.
func (q *sequences) number() (int32, error) {
	q.key = q.key[:0]
	for _, s := range q.slots {
		q.key = binary.LittleEndian.AppendUint32(q.key, uint32(s))
	}
	if s, ok := q.lists[string(q.key)]; ok {
		return s, nil
	}
	s, err := q.add()
	if err == nil {
		if q.lists == nil {
			q.lists = map[string]int32{}
		}
		q.lists[string(q.key)] = s
	}
	return s, err
}

// add makes a slot for the list in slots.
func (q *sequences) add() (int32, error) {
	n := len(q.of) / q.layers
	if n >= mostSequences {
		return 0, fmt.Errorf("the rasters have more than %d different sequences of values, so they hold measurements and not classes: put them into classes first, with a crosswalk of intervals, or compare fewer epochs", mostSequences)
	}
	q.of = append(q.of, q.slots...)
	return int32(n), nil
}

// sequenceAt is the slot of what the layers of a long group hold in a cell of the window.
func (k *kernel) sequenceAt(col, row int) (int32, error) {
	q := k.long
	if k.words {
		w := uint64(0)
		for i, l := range k.layers {
			w |= uint64(l.cells.U8[row*l.cells.Stride+col]) << (8 * i)
		}
		return q.word(w)
	}
	for i, l := range k.layers {
		s, err := l.slot(row*l.cells.Stride + col)
		if err != nil {
			return 0, err
		}
		q.slots[i] = s
	}
	return q.number()
}

// sequences numbers the sequences that the workers have met in a group, in the order of their slots.
func (p *pass) sequences(workers []*worker, group int) [][]Slot {
	if workers[0].groups[group].kernel.long == nil {
		return nil
	}
	lists := make([][][]Slot, len(workers))
	for i, w := range workers {
		k := w.groups[group].kernel
		for s := range int32(len(k.long.of) / k.long.layers) {
			list := make([]Slot, k.long.layers)
			for l, own := range k.long.list(s) {
				list[l] = k.layers[l].slots[own]
			}
			lists[i] = append(lists[i], list)
		}
	}
	all, numbers := numberSequences(lists...)
	for i, w := range workers {
		w.groups[group].kernel.long.numbers = numbers[i]
	}
	return all
}

// numberSequences returns every sequence of some lists once, in order, and by list the place there of each of its sequences.
func numberSequences(lists ...[][]Slot) (all [][]Slot, numbers [][]Slot) {
	all = slices.Concat(lists...)
	slices.SortFunc(all, slices.Compare)
	all = slices.CompactFunc(all, slices.Equal)
	for _, list := range lists {
		places := make([]Slot, len(list))
		for i, s := range list {
			at, _ := slices.BinarySearchFunc(all, s, slices.Compare)
			places[i] = Slot(at)
		}
		numbers = append(numbers, places)
	}
	return all, numbers
}

// Slots are what the layers of a group hold in cells of a value: a slot for each layer. The list belongs to the tally or to v.
func (t *Tally) Slots(group int, v *Value) []Slot {
	if group < len(t.Sequences) && t.Sequences[group] != nil {
		return t.Sequences[group][v[0]]
	}
	return v[:len(t.Members[group])]
}

// SlotOf is what the k-th layer of a group holds in cells of a value.
func (t *Tally) SlotOf(group, k int, v *Value) Slot { return t.Slots(group, v)[k] }

// project adds up what zones hold of some of the layers of a group, which are given by their places in it. It returns the zones, and the sequences that
// their values number where there are more than three layers.
func (t *Tally) project(group int, zones []Zone, layers []int) ([]Zone, [][]Slot) {
	if group >= len(t.Sequences) || t.Sequences[group] == nil {
		return regrouped(zones, func(v *Value) (out Value) {
			for m, at := range layers {
				out[m] = v[at]
			}
			return out
		}), nil
	}
	picked := make([][]Slot, len(t.Sequences[group])) // each sequence once
	values := make([]Value, len(picked))
	for i, s := range t.Sequences[group] {
		for _, at := range layers {
			picked[i] = append(picked[i], s[at])
		}
		copy(values[i][:], picked[i])
	}
	var all [][]Slot
	if len(layers) > len(Value{}) {
		var numbers [][]Slot
		all, numbers = numberSequences(picked)
		for i, n := range numbers[0] {
			values[i] = Value{n}
		}
	}
	return regrouped(zones, func(v *Value) Value { return values[v[0]] }), all
}
