package tally

import "fmt"

// pairs numbers pairs of slots.
type pairs struct {
	top  [][256]int32     // by a and b: slot+1 of small pairs; 0 for those not met yet
	rest map[uint64]int32 // slots of the others
	of   [][2]int32       // by slot
}

const (
	mostPairs = 1 << 21 // more than a thousand classes in each of two rasters have
	smallPair = 1 << 14 // first slots from here on are large
)

// slot is the number of a pair, which is made when it has none.
func (p *pairs) slot(a, b int32) (int32, error) {
	small := a < smallPair && b < 256
	key := uint64(a)<<32 | uint64(b)
	if small {
		if int(a) < len(p.top) {
			if s := p.top[a][b]; s > 0 {
				return s - 1, nil
			}
		}
	} else if s, ok := p.rest[key]; ok {
		return s, nil
	}
	if len(p.of) >= mostPairs {
		return 0, fmt.Errorf("the rasters have more than %d different combinations of values, so they hold measurements and not classes: put them into classes first, with a crosswalk of intervals", mostPairs)
	}
	s := int32(len(p.of))
	p.of = append(p.of, [2]int32{a, b})
	if small {
		if int(a) >= len(p.top) {
			p.top = append(p.top, make([][256]int32, max(256, 2*int(a))-len(p.top))...)
		}
		p.top[a][b] = s + 1
	} else {
		p.rest[key] = s
	}
	return s, nil
}
