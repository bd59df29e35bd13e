package job

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"

	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/change"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
)

// transitions are those that a condition picks, nil for all.
type transitions struct{ condition *cql.Expr }

func readOnly(condition string) (*transitions, error) {
	if condition == "" {
		return &transitions{}, nil
	}
	e, err := cql.ParseCondition(condition)
	if err == nil {
		err = e.Known([]string{"from", "to", "from_name", "to_name"}, "name of a transition")
	}
	if err != nil {
		return nil, fault.Misusef("only", "", "is not a condition on transitions: %w", err)
	}
	return &transitions{e}, nil
}

// of returns a function that says which transitions between classes of a legend are wanted. Ground that an epoch does not map
// has no code (NULL) and the name "not mapped".
func (o *transitions) of(l *cover.Legend) (func(change.Transition) bool, error) {
	if o.condition == nil {
		return func(change.Transition) bool { return true }, nil
	}
	n := len(l.Classes)
	holds := make([]bool, (n+1)*(n+1))
	some := false
	for from := range n + 1 {
		for to := range n + 1 {
			ok, err := o.condition.Holds(func(name string) any {
				at := from
				if strings.HasPrefix(name, "to") {
					at = to
				}
				switch named := strings.HasSuffix(name, "name"); {
				case at == n && named:
					return "not mapped"
				case at == n:
					return nil
				case named:
					return l.Classes[at].Name
				}
				return float64(l.Classes[at].Code)
			})
			if err != nil {
				return nil, fault.Misusef("only", "", "cannot be decided: %w", err)
			}
			holds[from*(n+1)+to] = ok
			some = some || ok
		}
	}
	if !some {
		var names []string
		for _, class := range l.Classes {
			names = append(names, fmt.Sprintf("%d %s", class.Code, class.Name))
		}
		e := fault.Misusef("only", "", "holds for no transition between the classes %s", text.List(names, 20))
		e.Misuse = false
		return nil, e
	}
	return func(t change.Transition) bool { return holds[int(t.From)*(n+1)+int(t.To)] }, nil
}

// ChangeMap is a raster with a code for each transition from the first epoch to the last.
type ChangeMap struct {
	*Raster
	legend *cover.Legend // of the classes
	code   func(from, to int) int
	mu     sync.Mutex
	occurs map[[2]int]bool
}

// Map returns the map of the transitions that are wanted, under a name for its header. It is computed as it is read.
func (c *Changed) Map(name string) *ChangeMap {
	l := c.Legend
	place := map[int]int{}
	for i, class := range l.Classes {
		place[class.Code] = i
	}
	code, most := changeCodes(l)
	m := &ChangeMap{legend: l, code: code, occurs: map[[2]int]bool{}}
	nodata := 0.0
	h := raster.Header{Name: name, Type: raster.Uint16, NoData: &nodata, Bands: 1}
	switch {
	case most > math.MaxUint16:
		h.Type = raster.Uint32
	case most <= math.MaxUint8: // a palette of more colours would outweigh the cells, and many programs do not read it
		h.Type = raster.Uint8
		h.Palette = make([]raster.Color, most+1)
		for from := range l.Classes {
			for to := range l.Classes {
				h.Palette[code(from, to)] = changeColor(l, from, to)
			}
		}
	}
	at := func(n int, v float64) int {
		m, ok := c.coders[n].Code(v)
		if k, known := place[m.Code]; ok && known && m.Kind == cover.Classified {
			return k
		}
		return -1
	}
	view := view.Courses(c.layers[:], h, func(v []float64) float64 {
		from, to := at(0, v[0]), at(1, v[1])
		if from < 0 || to < 0 || !c.Keep(change.Transition{From: int32(from), To: int32(to)}) {
			return nodata
		}
		m.mu.Lock()
		m.occurs[[2]int{from, to}] = true
		m.mu.Unlock()
		return float64(code(from, to))
	})
	m.Raster = &Raster{Source: view, Classes: m.Classes, Report: c.Report, work: c.work}
	return m
}

// Classes are the transitions that occur in what was read of the map, as the classes of a legend.
func (m *ChangeMap) Classes() (out []cover.Class) {
	for p := range m.occurs {
		from, to := m.legend.Classes[p[0]], m.legend.Classes[p[1]]
		class := cover.Class{Code: m.code(p[0], p[1]), Name: from.Name + " to " + to.Name, Group: "changed", Color: changeColor(m.legend, p[0], p[1])}
		if p[0] == p[1] {
			class.Name, class.Group = from.Name+", unchanged", "unchanged"
		}
		out = append(out, class)
	}
	slices.SortFunc(out, func(a, b cover.Class) int { return a.Code - b.Code })
	return out
}

// changeCodes returns what code stands for a transition: the two codes of classes behind one another, such as 35 for 3 to 5, or where classes have codes below 1 or above 9999 numbers from 1 on.
func changeCodes(l *cover.Legend) (code func(from, to int) int, most int) {
	n, base := len(l.Classes), 10
	plain := true
	for _, class := range l.Classes {
		plain = plain && class.Code > 0 && class.Code < 10000
		for plain && class.Code >= base {
			base *= 10
		}
	}
	for _, class := range l.Classes {
		most = max(most, class.Code*(base+1))
	}
	if !plain {
		return func(from, to int) int { return from*n + to + 1 }, n * n
	}
	return func(from, to int) int { return l.Classes[from].Code*base + l.Classes[to].Code }, most
}

// changeColor is the colour of what ground became; where it stayed, a pale one.
func changeColor(l *cover.Legend, from, to int) raster.Color {
	k := l.Classes[to].Color
	if from == to {
		pale := func(v uint8) uint8 { return uint8(255 - (255-int(v))/4) }
		k.R, k.G, k.B = pale(k.R), pale(k.G), pale(k.B)
	}
	return k
}
