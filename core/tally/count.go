package tally

import "github.com/verdex-land/verdex/core/zone"

// maxCounted is how many different values a counter knows at most: beyond, runs are as fast.
const maxCounted = 4 * countedAtOnce

// countedAtOnce is how many values countBytes compares in one go through the cells.
const countedAtOnce = 6

// counter counts how often each byte occurs, by comparing 32 of them at once with every value that
// has been seen so far (count_amd64.s). It notices when a value was not among them, and the
// cells are then to be counted by other means. With the dozen classes of a common legend it
// takes a fifth of the time of counting by runs, and always the same, however ragged the map.
type counter struct {
	off    bool // the processor cannot do it, or there are too many values
	known  int
	values [maxCounted]uint8
	wide   *[maxCounted][32]uint8 // each value 32 times; by itself, so that no value lies across two lines of the cache
	sums   [maxCounted][4]uint64  // by value; the four are to be added up
	added  uint64                 // cells since take
	// Stretches of cells that are still to be counted: together, because a call costs as much as counting a hundred cells.
	cells   []uint8
	waiting []zone.Stretch
	vectors int // that the stretches waiting take
}

func newCounter() counter { return counter{off: !canCount, wide: new([maxCounted][32]uint8)} }

// add counts cells[from:to], which must stay as they are until take.
func (c *counter) add(cells []uint8, from, to int) {
	c.added += uint64(to - from)
	if c.known == 0 {
		return
	}
	c.cells = cells
	for from < to {
		end := min(to, from+maxCounts*32)
		if end < 32 { // countBytes looks at the 32 cells before the end
			for _, v := range cells[from:end] {
				for i, known := range c.values[:c.known] {
					if v == known {
						c.sums[i][0]++
					}
				}
			}
			from = end
			continue
		}
		_ = cells[from:end]
		n := (end - from + 31) / 32
		if c.vectors+n > maxCounts {
			c.count()
		}
		c.waiting, c.vectors = append(c.waiting, zone.Stretch{At: int32(from), N: int32(end - from)}), c.vectors+n
		from = end
	}
}

// addAll is add for stretches of cells, which stay where they are.
func (c *counter) addAll(cells []uint8, stretches []zone.Stretch) {
	from, vectors := 0, 0
	for i, s := range stretches {
		n := int(s.N+31) / 32
		if end := int(s.At + s.N); end < 32 || end > len(cells) || n > maxCounts {
			c.together(cells, stretches[from:i])
			c.add(cells, int(s.At), end)
			from, vectors = i+1, 0
			continue
		}
		if vectors += n; vectors > maxCounts {
			c.together(cells, stretches[from:i])
			from, vectors = i, n
		}
		c.added += uint64(s.N)
	}
	c.together(cells, stretches[from:])
}

// count counts what waits.
func (c *counter) count() {
	c.together(c.cells, c.waiting)
	c.waiting, c.vectors = c.waiting[:0], 0
}

// together counts stretches that take maxCounts vectors at most.
func (c *counter) together(cells []uint8, stretches []zone.Stretch) {
	if len(stretches) > 0 && c.known > 0 {
		countBytes(&c.wide[0][0], &c.sums[0][0], (c.known+countedAtOnce-1)/countedAtOnce, &cells[0], &stretches[0], len(stretches))
	}
}

// take adds what has been counted to acc and starts anew; seen has a bit for every four of acc
// that may have grown. It is not ok, and acc is as before, when some cell held a value not known.
func (c *counter) take(acc *[256]uint64) (seen uint64, ok bool) {
	c.count()
	var n [maxCounted]uint64
	var total uint64
	for i := range c.known {
		s := &c.sums[i]
		n[i] = s[0] + s[1] + s[2] + s[3]
		total += n[i]
	}
	clear(c.sums[:c.known])
	ok = total == c.added
	c.added = 0
	if !ok {
		return 0, false
	}
	for i, v := range c.values[:c.known] {
		if n[i] != 0 {
			acc[v] += n[i]
			seen |= 1 << (v >> 2)
		}
	}
	return seen, true
}

// learn takes values of a window's rows as known: those of a few rows, which mostly have all of them, or of all rows where these tell nothing new. There is always a
// new one, or there are too many.
func (c *counter) learn(cells []uint8, stride, width, height int) {
	known := c.known
	if c.learnFrom(cells, stride*sampled, width, (height+sampled-1)/sampled); c.known == known && !c.off {
		c.learnFrom(cells, stride, width, height)
	}
}

// learnFrom takes the values of rows as known.
func (c *counter) learnFrom(cells []uint8, stride, width, height int) {
	var seen [256]bool
	for r := range height {
		for _, v := range cells[r*stride:][:width] {
			seen[v] = true
		}
	}
	for _, v := range c.values[:c.known] {
		seen[v] = false
	}
	for v, s := range seen {
		if !s {
			continue
		}
		if c.known == maxCounted {
			c.off = true
			return
		}
		c.values[c.known], c.sums[c.known] = uint8(v), [4]uint64{}
		for i := range c.wide[c.known] {
			c.wide[c.known][i] = uint8(v)
		}
		c.known++
	}
}
