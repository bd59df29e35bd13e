package account

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
)

// Extents is what tally tables hold, zone by zone.
type Extents struct {
	Epochs  []string // in the order of time, or of the tables where the labels are no dates
	Zones   []Named  // in the order of the tables
	Classes []Named  // in the order of the tables
	area    map[[3]string]float64
	whole   map[[2]string]float64 // by epoch and zone: all parts
	units   map[string]bool       // zones that hold others of the tables
	missing []Finding             // zones of which rows are missing
	Notes   []string              // what had to be assumed when tables were read
}

// Named is a zone or class, by id or code.
type Named struct{ ID, Name string }

// Label is the name, or the id of one without.
func (n Named) Label() string {
	if n.Name == "" {
		return n.ID
	}
	return n.Name
}

// cells reads the cells of a row of a table that is Verdex's own.
type cells struct {
	path string
	row  cover.Row
}

func (c cells) text(name string) string { return c.row.Cell[name] }

func (c cells) wrong(format string, args ...any) error {
	return fmt.Errorf("%s: line %d: %s", c.path, c.row.Line, fmt.Sprintf(format, args...))
}

// area reads an area in m².
func (c cells) area(name string) (float64, error) {
	if c.text("unit") == "" {
		return 0, c.wrong("the unit is missing: write ha, m2, km2, acre or mi2")
	}
	u, err := FindUnit(c.text("unit"))
	if err != nil {
		return 0, c.wrong("%v", err)
	}
	v, err := strconv.ParseFloat(c.text(name), 64)
	if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
		return 0, c.wrong("the %s %q is no number", name, c.text(name))
	}
	if v < 0 {
		return 0, c.wrong("the %s %q is negative, which no area is", name, c.text(name))
	}
	return v * u.M2, nil
}

// percentages adds up what the rows of each zone say of their share in it, by epoch or pair of epochs and zone, where all of them do. Rows that
// are missing show in the sum.
type percentages map[[2]string]*percentage

type percentage struct {
	sum, tolerance float64
	silent         bool // a row does not say
}

func (p percentages) add(c cells) {
	epoch := c.text("epoch")
	if c.text("from_epoch") != "" || c.text("to_epoch") != "" {
		epoch = c.text("from_epoch") + "–" + c.text("to_epoch")
	}
	key := [2]string{epoch, c.text("zone_id")}
	of := p[key]
	if of == nil {
		of = &percentage{tolerance: 1e-6}
		p[key] = of
	}
	cell := c.text("pct_of_zone")
	v, err := strconv.ParseFloat(cell, 64)
	if err != nil {
		of.silent = true
		return
	}
	_, decimals, _ := strings.Cut(cell, ".")
	of.sum += v
	of.tolerance += math.Pow10(-len(decimals)) / 2 // the percentages may be rounded
}

func (p percentages) findings() (out []Finding) {
	for key, of := range p {
		if !of.silent && math.Abs(of.sum-100) > of.tolerance && of.sum != 0 {
			epoch, zone := key[0], key[1]
			out = append(out, Finding{Epoch: epoch, ZoneID: zone, Value: of.sum, Text: strings.TrimSpace(epoch+" "+zone) + fmt.Sprintf(" %.6g %%", of.sum)})
		}
	}
	slices.SortFunc(out, func(a, b Finding) int { return strings.Compare(a.Epoch+"\x00"+a.ZoneID, b.Epoch+"\x00"+b.ZoneID) })
	return out
}

// MissingRows finds the zones of a table of extents or of transitions of which rows are missing or doubled.
func MissingRows(rows []cover.Row) []Finding {
	parts := percentages{}
	for _, r := range rows {
		parts.add(cells{row: r})
	}
	return parts.findings()
}

// rowsCheck is the check that no rows of the tables are missing.
func rowsCheck(missing []Finding) Check {
	return judge("rows", "the rows of each zone make 100 % of it", "rows are missing or doubled: what the rows of a zone say of their share in it does not make 100 %", missing)
}

// hint adds what kind of table is wanted to the error of one that lacks a column.
func hint(err error, text string) error {
	if errors.Is(err, cover.ErrNoColumn) {
		return fmt.Errorf("%w: %s", err, text)
	}
	return err
}

func note(list *[]Named, at map[string]int, n Named) error {
	if i, ok := at[n.ID]; !ok {
		at[n.ID] = len(*list)
		*list = append(*list, n)
	} else if (*list)[i].Name != n.Name {
		return fmt.Errorf("%s is called both %q and %q", n.ID, (*list)[i].Name, n.Name)
	}
	return nil
}

// Reader reads the rows of a table by its name; [cover.ReadRows] reads files.
type Reader func(name string, needed, optional []string) (rows []cover.Row, notes []string, err error)

// ReadExtents reads tables as measure writes them with --layout long. A zone, epoch and class that comes twice is an error.
func ReadExtents(paths []string, read Reader) (*Extents, error) {
	e := &Extents{area: map[[3]string]float64{}, whole: map[[2]string]float64{}, units: map[string]bool{}}
	zones, classes, parts := map[string]int{}, map[string]int{}, percentages{}
	for _, path := range paths {
		rows, notes, err := read(path, []string{"epoch", "zone_id", "kind", "class_code", "area", "unit"}, []string{"zone_name", "class_name"})
		if err != nil {
			return nil, hint(err, "this takes tables of measure in the layout long")
		}
		e.Notes = append(e.Notes, notes...)
		for _, r := range rows {
			c := cells{path, r}
			if c.text("zone_id") == "" {
				return nil, c.wrong("it has no zone_id")
			}
			a, err := c.area("area")
			if err != nil {
				return nil, err
			}
			epoch, zone := c.text("epoch"), c.text("zone_id")
			if !slices.Contains(e.Epochs, epoch) {
				e.Epochs = append(e.Epochs, epoch)
			}
			if err := note(&e.Zones, zones, Named{zone, c.text("zone_name")}); err != nil {
				return nil, c.wrong("zone %v", err)
			}
			if unit := c.text("within_id"); unit != "" {
				e.units[unit] = true
			}
			parts.add(c)
			kind := c.text("kind")
			e.whole[[2]string{epoch, zone}] += a
			if kind != "class" {
				if kind != "nodata" && kind != "unlisted" && kind != "outside" {
					return nil, c.wrong("the kind %q is not known: it is class, nodata, unlisted or outside", kind)
				}
				continue
			}
			code := c.text("class_code")
			if code == "" { // a class without a code is known by its name
				code = c.text("class_name")
			}
			if err := note(&e.Classes, classes, Named{code, c.text("class_name")}); err != nil {
				return nil, c.wrong("class %v", err)
			}
			key := [3]string{epoch, zone, code}
			if _, twice := e.area[key]; twice {
				return nil, c.wrong("class %s of zone %s at epoch %q stands there twice: give each epoch a label with measure --epoch", code, zone, epoch)
			}
			e.area[key] = a
		}
	}
	if len(e.Classes) == 0 {
		return nil, fmt.Errorf("%s: there are no extents of classes in it", strings.Join(paths, ", "))
	}
	sortEpochs(e.Epochs)
	e.missing = parts.findings()
	return e, nil
}

// sortEpochs puts labels in the order of time, when all are years or dates.
func sortEpochs(labels []string) {
	for _, l := range labels {
		if _, _, ok := when(l); !ok {
			return
		}
	}
	slices.SortStableFunc(labels, func(a, b string) int {
		x, _, _ := when(a)
		y, _, _ := when(b)
		return x.Compare(y)
	})
}

// Area is the extent of a class in m²; 0 where the tables have none.
func (e *Extents) Area(epoch, zone, code string) float64 { return e.area[[3]string{epoch, zone, code}] }

// Whole is the area of a zone in m², all parts together.
func (e *Extents) Whole(epoch, zone string) float64 { return e.whole[[2]string{epoch, zone}] }

// IsUnit reports whether a zone holds others of the tables.
func (e *Extents) IsUnit(zone string) bool { return e.units[zone] }

// Has reports whether the tables tell of a zone at an epoch.
func (e *Extents) Has(epoch, zone string) bool {
	_, ok := e.whole[[2]string{epoch, zone}]
	return ok
}

// Group gathers classes into those of a legend's groups.
func (e *Extents) Group(g *cover.Groups) error {
	out := map[[3]string]float64{}
	to, err := groupsOf(e.Classes, g)
	if err != nil {
		return err
	}
	for k, a := range e.area {
		out[[3]string{k[0], k[1], to[k[2]]}] += a
	}
	e.area, e.Classes = out, NamedClasses(g.Legend)
	return nil
}

// groupsOf are the names of groups by the codes of classes.
func groupsOf(classes []Named, g *cover.Groups) (map[string]string, error) {
	to := map[string]string{}
	for _, c := range classes {
		code, err := strconv.Atoi(c.ID)
		group, ok := cover.Class{}, false
		if err == nil {
			group, ok = g.Of(code)
		}
		if !ok {
			return nil, fmt.Errorf("class %s %s of the tables is not in the legend %s", c.ID, c.Name, g.Legend.Source)
		}
		to[c.ID] = group.ID()
	}
	return to, nil
}

// NamedClasses are the classes of a legend.
func NamedClasses(l *cover.Legend) (out []Named) {
	for _, class := range l.Classes {
		out = append(out, Named{class.ID(), class.Name})
	}
	return out
}

// Moves are what matrix tables of change hold.
type Moves struct {
	Pairs   [][2]string // of epochs, in the order of the tables
	Zones   []Named
	Classes []Named
	List    []Move
	Notes   []string          // what had to be assumed when tables were read
	missing []Finding         // zones of which rows are missing
	group   map[string]string // of a class, nil where classes are not gathered
}

// Move is the ground of a zone that one epoch has in a class and another in another. Codes are "" for ground that the epoch
// does not map.
type Move struct {
	Pair     [2]string
	Zone     string
	From, To string
	M2       float64
	Outside  bool
}

// ReadMoves reads tables as change --table matrix writes them.
func ReadMoves(paths []string, read Reader) (*Moves, error) {
	m := &Moves{}
	zones, classes, parts := map[string]int{}, map[string]int{}, percentages{}
	seen := map[Move]bool{}
	for _, path := range paths {
		rows, notes, err := read(path, []string{"zone_id", "from_epoch", "to_epoch", "from_code", "to_code", "area", "unit"}, []string{"zone_name", "from_name", "to_name"})
		if err != nil {
			return nil, hint(err, "this takes tables of change --table matrix")
		}
		m.Notes = append(m.Notes, notes...)
		for _, r := range rows {
			c := cells{path, r}
			a, err := c.area("area")
			if err != nil {
				return nil, err
			}
			pair := [2]string{c.text("from_epoch"), c.text("to_epoch")}
			parts.add(c)
			if !slices.Contains(m.Pairs, pair) {
				m.Pairs = append(m.Pairs, pair)
			}
			if err := note(&m.Zones, zones, Named{c.text("zone_id"), c.text("zone_name")}); err != nil {
				return nil, c.wrong("zone %v", err)
			}
			v := Move{Pair: pair, Zone: c.text("zone_id"), From: c.text("from_code"), To: c.text("to_code"), Outside: c.text("from_name") == "outside"}
			for _, end := range []string{"from", "to"} {
				if code := c.text(end + "_code"); code != "" {
					if err := note(&m.Classes, classes, Named{code, c.text(end + "_name")}); err != nil {
						return nil, c.wrong("class %v", err)
					}
				}
			}
			if seen[v] {
				return nil, c.wrong("the transition from %q to %q of zone %s stands there twice", v.From, v.To, v.Zone)
			}
			seen[v] = true
			v.M2 = a
			m.List = append(m.List, v)
		}
	}
	if len(m.Classes) == 0 {
		return nil, fmt.Errorf("%s: there are no transitions in it", strings.Join(paths, ", "))
	}
	m.missing = parts.findings()
	slices.SortStableFunc(m.Classes, func(a, b Named) int {
		x, err1 := strconv.Atoi(a.ID)
		y, err2 := strconv.Atoi(b.ID)
		if err1 != nil || err2 != nil {
			return 0
		}
		return x - y
	})
	return m, nil
}

// Arrange puts classes in the order of a legend, under its names; those of the legend that do not occur are left away.
func Arrange(classes []Named, l *cover.Legend) ([]Named, error) {
	if l == nil {
		return classes, nil
	}
	var out []Named
	for _, c := range l.Classes {
		code := c.ID()
		if slices.ContainsFunc(classes, func(n Named) bool { return n.ID == code }) {
			out = append(out, Named{code, c.Name})
		}
	}
	for _, n := range classes {
		if !slices.ContainsFunc(out, func(o Named) bool { return o.ID == n.ID }) {
			return nil, fmt.Errorf("class %s %s of the tables is not in the legend %s", n.ID, n.Name, l.Source)
		}
	}
	return out, nil
}

// Group gathers classes into those of a legend's groups: what moved within a group stayed. The list keeps the classes, of which flows
// are made; [Moves.Grouped] gathers it.
func (m *Moves) Group(g *cover.Groups) error {
	to, err := groupsOf(m.Classes, g) // "", ground that is not mapped, stays so
	if err != nil {
		return err
	}
	m.group, m.Classes = to, NamedClasses(g.Legend)
	return nil
}

// Matches refuses flows none of whose codes is a class of the tables, where there is change: all of it would be told as other change.
func (m *Moves) Matches(f *Flows) error {
	if f == nil {
		return nil
	}
	known := map[string]bool{}
	var classes []string
	changed, named := false, false
	for _, v := range m.List {
		changed = changed || v.From != v.To && v.From != "" && v.To != ""
		for _, id := range []string{v.From, v.To} {
			if id != "" && !known[id] {
				known[id] = true
				classes = append(classes, id)
			}
		}
	}
	for _, l := range f.lines {
		for _, code := range slices.Concat(l.from, l.to) {
			if named = true; known[code] {
				return nil
			}
		}
	}
	if !named || !changed {
		return nil
	}
	return fmt.Errorf("%s: none of its codes is a class of the tables (%s): flows are named by codes of classes, so that they take tables by class, not by group", f.Source, listed(classes, 12))
}

// ends are what a move goes from and to among Classes.
func (m *Moves) ends(v Move) (from, to string) {
	if m.group == nil {
		return v.From, v.To
	}
	return m.group[v.From], m.group[v.To]
}

// Grouped is the list with the moves between groups, where there are such, added up.
func (m *Moves) Grouped() []Move {
	if m.group == nil {
		return m.List
	}
	at := map[Move]int{}
	var out []Move
	for _, v := range m.List {
		v.From, v.To = m.ends(v)
		a := v.M2
		v.M2 = 0
		if i, ok := at[v]; ok {
			out[i].M2 += a
			continue
		}
		at[v] = len(out)
		v.M2 = a
		out = append(out, v)
	}
	return out
}
