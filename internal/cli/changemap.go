package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/raster"
)

// onlyOption is --only: the transitions that are wanted.
type onlyOption struct{ condition *cql.Expr }

func readOnly(c *cli.Command) (*onlyOption, error) {
	text := c.String("only")
	if text == "" {
		return &onlyOption{}, nil
	}
	if t := c.String("table"); t != "matrix" && c.String("map") == "" {
		return nil, usage("--only picks transitions, which --table matrix and --map show, and --table %s does not", t)
	}
	condition, err := cql.ParseCondition(text)
	if err == nil {
		err = condition.Known([]string{"from", "to", "from_name", "to_name"}, "name of a transition")
	}
	if err != nil {
		return nil, usage("--only: %w", err)
	}
	return &onlyOption{condition}, nil
}

// of gives a function that says which transitions between classes of a legend are wanted. Ground that an epoch does not map
// has no code (NULL) and the name "not mapped".
func (o *onlyOption) of(l *cover.Legend) (func(account.Transition) bool, error) {
	if o.condition == nil {
		return func(account.Transition) bool { return true }, nil
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
				return nil, fmt.Errorf("--only: %w", err)
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
		return nil, fmt.Errorf("--only holds for no transition between the classes: %s", firstOf(names, 20))
	}
	return func(t account.Transition) bool { return holds[int(t.From)*(n+1)+int(t.To)] }, nil
}

// legendBeside is where the legend of a map of change goes.
func legendBeside(path string) string {
	return strings.TrimSuffix(path, filepath.Ext(path)) + ".legend.csv"
}

// changeCodes says which code stands for a transition: the two codes of classes behind one another, such as 305 for 3 to 5,
// or where they do not fit numbers from 1 on.
func changeCodes(l *cover.Legend) (code func(from, to int) int, most int) {
	n, base := len(l.Classes), 10
	plain := true
	for _, class := range l.Classes {
		plain = plain && class.Code > 0 && class.Code < 10000
		for plain && class.Code >= base {
			base *= 10
		}
	}
	if !plain {
		return func(from, to int) int { return from*n + to + 1 }, n * n
	}
	for _, class := range l.Classes {
		most = max(most, class.Code*(base+1))
	}
	return func(from, to int) int { return l.Classes[from].Code*base + l.Classes[to].Code }, most
}

// writeChangeMap writes what became of each cell between the first epoch and the last, and the legend of it.
func writeChangeMap(ctx context.Context, c *cli.Command, path string, ch *account.Changes, only *onlyOption, layers [2]raster.Source, coders [2]*cover.Coder, r *reporter) error {
	legendPath := legendBeside(path)
	keep, err := only.of(ch.Legend)
	if err != nil {
		return err
	}
	l := ch.Legend
	place := map[int]int{}
	for i, class := range l.Classes {
		place[class.Code] = i
	}
	code, most := changeCodes(l)
	nodata := 0.0
	h := raster.Header{Name: path, Type: raster.Uint16, NoData: &nodata, Bands: 1}
	if most > 65535 {
		h.Type = raster.Uint32
	} else {
		h.Palette = make([]raster.Color, 1<<16)
		for from := range l.Classes {
			for to := range l.Classes {
				h.Palette[code(from, to)] = changeColor(l, from, to)
			}
		}
	}
	var mu sync.Mutex
	occurs := map[[2]int]bool{}
	at := func(n int, v float64) int {
		m, ok := coders[n].Code(v)
		if k, known := place[m.Code]; ok && known && m.Kind == cover.Classified {
			return k
		}
		return -1
	}
	view := raster.Pairs(layers[0], layers[1], h, func(a, b float64) float64 {
		from, to := at(0, a), at(1, b)
		if from < 0 || to < 0 || !keep(account.Transition{From: int32(from), To: int32(to)}) {
			return nodata
		}
		mu.Lock()
		occurs[[2]int{from, to}] = true
		mu.Unlock()
		return float64(code(from, to))
	})
	if err := writeRaster(ctx, c, path, view, r); err != nil {
		return err
	}
	var pairs [][2]int
	for p := range occurs {
		pairs = append(pairs, p)
	}
	slices.SortFunc(pairs, func(a, b [2]int) int { return code(a[0], a[1]) - code(b[0], b[1]) })
	var lines [][]string
	for _, p := range pairs {
		from, to := l.Classes[p[0]], l.Classes[p[1]]
		name, groupName := from.Name+" to "+to.Name, "changed"
		if p[0] == p[1] {
			name, groupName = from.Name+", unchanged", "unchanged"
		}
		lines = append(lines, []string{strconv.Itoa(code(p[0], p[1])), name, changeColor(l, p[0], p[1]).String(), groupName})
	}
	err = writeLegendLines(ctx, legendPath, lines)
	if err == nil {
		first, last := ch.Epochs[0], ch.Epochs[len(ch.Epochs)-1]
		noteThen(ctx, r, fmt.Sprintf("%s: what became of each cell from %s to %s; %s names its %d codes", path, first, last, legendPath, len(pairs)))
	}
	return err
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
