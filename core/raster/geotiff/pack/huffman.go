package pack

import (
	"math/bits"
	"slices"
)

// huffman makes the lengths of codes, and describes them.
type huffman struct {
	leaves []leaf
	nodes  []node
	runs   []uint16
}

// leaf is a symbol that occurs.
type leaf struct {
	often  int32
	symbol int32
}

// node is a leaf or what joins two nodes.
type node struct {
	often  int64
	parent int32
	depth  uint8
}

// lengths finds the lengths of the codes of symbols that occur so often, at most so many bits; 0 is for symbols that do not occur. Huffman's algorithm, by two
// queues, and where a code is too long, shorter ones are made longer until all fit (Kraft's sum). There are always two codes at least.
func (h *huffman) lengths(often []int32, most int, out []uint8) {
	clear(out)
	h.leaves = h.leaves[:0]
	for s, n := range often {
		if n > 0 {
			h.leaves = append(h.leaves, leaf{n, int32(s)})
		}
	}
	n := len(h.leaves)
	if n < 2 { // with another symbol, so that the code is whole
		out[0], out[1] = 1, 1
		for _, l := range h.leaves {
			if l.symbol > 1 {
				out[1], out[l.symbol] = 0, 1
			}
		}
		return
	}
	slices.SortFunc(h.leaves, func(a, b leaf) int {
		if a.often != b.often {
			return int(a.often - b.often)
		}
		return int(a.symbol - b.symbol)
	})
	h.nodes = h.nodes[:0]
	for _, l := range h.leaves {
		h.nodes = append(h.nodes, node{often: int64(l.often)})
	}
	leaf, inner := 0, n // the next of each queue
	take := func() int {
		if leaf < n && (inner == len(h.nodes) || h.nodes[leaf].often <= h.nodes[inner].often) {
			leaf++
			return leaf - 1
		}
		inner++
		return inner - 1
	}
	for range n - 1 {
		a, b := take(), take()
		parent := int32(len(h.nodes))
		h.nodes[a].parent, h.nodes[b].parent = parent, parent
		h.nodes = append(h.nodes, node{often: h.nodes[a].often + h.nodes[b].often})
	}
	var count [64]int // by length
	for i := len(h.nodes) - 2; i >= 0; i-- {
		h.nodes[i].depth = min(h.nodes[h.nodes[i].parent].depth+1, 63)
		if i < n {
			count[min(int(h.nodes[i].depth), most)]++
		}
	}
	sum := 0
	for l := 1; l <= most; l++ {
		sum += count[l] << (most - l)
	}
	for ; sum > 1<<most; sum-- { // one of the longest codes moves up beside a shorter one, which gets a bit more
		l := most - 1
		for count[l] == 0 {
			l--
		}
		count[l]--
		count[l+1] += 2
		count[most]--
	}
	l := most
	for _, leaf := range h.leaves { // the rarest first
		for count[l] == 0 {
			l--
		}
		count[l]--
		out[leaf.symbol] = uint8(l)
	}
}

// canonical gives the codes of lengths in the order of RFC 1951, 3.2.2, the first bit lowest.
func canonical(lengths []uint8, codes []uint16) {
	var count, next [16]uint16
	for _, l := range lengths {
		count[l]++
	}
	count[0] = 0
	for l := 1; l < 16; l++ {
		next[l] = (next[l-1] + count[l-1]) << 1
	}
	for s, l := range lengths {
		if l > 0 {
			codes[s] = bits.Reverse16(next[l]) >> (16 - l)
			next[l]++
		}
	}
}

// described is the order in which the lengths of the codes of lengths are written.
var described = [19]uint8{16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15}

// describe writes the lengths of the codes of symbols and distances (RFC 1951, 3.2.7).
func (h *huffman) describe(w *writer, symbols, distances []uint8) {
	n := len(symbols)
	for n > 257 && symbols[n-1] == 0 {
		n--
	}
	all := slices.Concat(symbols[:n], distances)
	// Each is a length, or a repetition with how often behind it.
	h.runs = h.runs[:0]
	var often [19]int32
	add := func(symbol, more uint16) {
		often[symbol]++
		h.runs = append(h.runs, symbol|more<<8)
	}
	for i := 0; i < len(all); {
		l, k := all[i], 1
		for i+k < len(all) && all[i+k] == l {
			k++
		}
		i += k
		if l == 0 {
			for k >= 3 {
				m := min(k, 138)
				if m < 11 {
					add(17, uint16(m-3))
				} else {
					add(18, uint16(m-11))
				}
				k -= m
			}
		} else {
			add(uint16(l), 0)
			k--
			for k >= 3 {
				m := min(k, 6)
				add(16, uint16(m-3))
				k -= m
			}
		}
		for ; k > 0; k-- {
			add(uint16(l), 0)
		}
	}
	var lengths [19]uint8
	var codes [19]uint16
	h.lengths(often[:], 7, lengths[:])
	canonical(lengths[:], codes[:])
	stated := len(described)
	for stated > 4 && lengths[described[stated-1]] == 0 {
		stated--
	}
	w.add(uint64(n-257)|uint64(len(distances)-1)<<5|uint64(stated-4)<<10, 14)
	for _, s := range described[:stated] {
		w.add(uint64(lengths[s]), 3)
	}
	extra := [19]uint8{16: 2, 17: 3, 18: 7}
	for _, r := range h.runs {
		s := r & 0xff
		w.add(uint64(codes[s])|uint64(r>>8)<<lengths[s], lengths[s]+extra[s])
	}
}
