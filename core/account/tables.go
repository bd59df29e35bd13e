package account

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/epoch"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/text"
)

// Extents is what tally tables hold, zone by zone.
type Extents struct {
	Epochs  []string      // in the order of time, or of the tables where the labels are not dates
	Zones   []cover.Named // in the order of the tables
	Classes []cover.Named // in the order of the tables
	Notes   []string      // what had to be assumed when tables were read
	area    map[place]float64
	whole   map[place]float64 // by epoch and zone: all parts
	units   map[string]bool   // zones that hold others of the tables
	missing []check.Finding   // zones of which rows are missing

	epochs, zones, classes map[string]int32 // places in the lists above; classes by code as they are in the tables
}

// place is an epoch, a zone and a class by number. There may be a million.
type place struct{ epoch, zone, class int32 }

// percentages adds up what the rows of each zone say of their share in it, by epoch or pair of epochs and zone, where all of them do. Rows that
// are missing show in the sum.
type percentages map[[2]string]*percentage

type percentage struct {
	sum, tolerance float64
	silent         bool // a row does not say
}

func (p percentages) add(c rows.Line) {
	epoch := c.Text("epoch")
	if c.Text("from_epoch") != "" || c.Text("to_epoch") != "" {
		epoch = c.Text("from_epoch") + "–" + c.Text("to_epoch")
	}
	if all := c.Text("epoch_labels"); all != "" {
		epoch = all
	}
	key := [2]string{epoch, c.Text("zone_id")}
	of := p[key]
	if of == nil {
		of = &percentage{tolerance: 1e-6}
		p[key] = of
	}
	cell := c.Text("pct_of_zone")
	v, err := decimal.Parse(cell)
	if err != nil {
		of.silent = true
		return
	}
	_, decimals, _ := strings.Cut(cell, ".")
	of.sum += v
	of.tolerance += math.Pow10(-len(decimals)) / 2 // the percentages may be rounded
}

func (p percentages) findings() (out []check.Finding) {
	for key, of := range p {
		if !of.silent && math.Abs(of.sum-100) > of.tolerance && of.sum != 0 {
			epoch, zone := key[0], key[1]
			out = append(out, check.Finding{Epoch: epoch, ZoneID: zone, Value: of.sum, Text: strings.TrimSpace(epoch+" "+zone) + fmt.Sprintf(" %.6g %%", of.sum)})
		}
	}
	slices.SortFunc(out, func(a, b check.Finding) int { return strings.Compare(a.Epoch+"\x00"+a.ZoneID, b.Epoch+"\x00"+b.ZoneID) })
	return out
}

// MissingRows finds the zones of a table of extents or of transitions of which rows are missing or doubled.
func MissingRows(list []rows.Row) []check.Finding {
	parts := percentages{}
	for _, r := range list {
		parts.add(rows.Line{Row: r})
	}
	return parts.findings()
}

// rowsCheck is the check that no rows of the tables are missing.
func rowsCheck(missing []check.Finding) check.Check {
	return check.Judge("rows", "the rows of each zone make 100 % of it", "rows are missing or doubled: the percentages of the rows of a zone do not add up to 100 %", missing)
}

// hint adds what kind of table is wanted to the error of one that lacks a column.
func hint(err error, text string) error {
	if errors.Is(err, rows.ErrNoColumn) {
		return fmt.Errorf("%w: %s", err, text)
	}
	return err
}

// note gives the place of a name in a list, which it is added to when it is new.
func note(list *[]cover.Named, at map[string]int32, n cover.Named) (int32, error) {
	i, ok := at[n.ID]
	if !ok {
		i = int32(len(*list))
		at[n.ID] = i
		*list = append(*list, n)
	} else if (*list)[i].Name != n.Name {
		return i, fmt.Errorf("%s is called both %q and %q", n.ID, (*list)[i].Name, n.Name)
	}
	return i, nil
}

// Reader reads the rows of a table by its name and hands them over one by one; [cover.EachRow] reads files. A row serves until the
// next one.
type Reader func(name string, needed, optional []string, each func(rows.Row) error) (notes []string, err error)

// ReadExtents reads long tables of extents. A zone, epoch and class that occurs twice is an error.
func ReadExtents(paths []string, read Reader) (*Extents, error) {
	e := &Extents{area: map[place]float64{}, whole: map[place]float64{}, units: map[string]bool{}, epochs: map[string]int32{}, zones: map[string]int32{}, classes: map[string]int32{}}
	parts := percentages{}
	for _, path := range paths {
		approximate := false
		notes, err := read(path, []string{"epoch", "zone_id", "kind", "class_code", "area", "unit"}, []string{"zone_name", "class_name"}, func(r rows.Row) error {
			if _, is := r.Cell["expected_error_pct"]; is {
				approximate = true
			}
			return e.add(rows.Line{Path: path, Row: r}, parts)
		})
		if err != nil {
			return nil, hint(err, "a long table of extents is needed")
		}
		if e.Notes = append(e.Notes, notes...); approximate {
			e.Notes = append(e.Notes, path+": its extents are approximate (measured on a reduced copy), and so is what is made of them")
		}
	}
	if len(e.Classes) == 0 {
		return nil, fmt.Errorf("%s: there are no extents of classes in it", strings.Join(paths, ", "))
	}
	epoch.Sort(e.Epochs)
	e.missing = parts.findings()
	return e, nil
}

// add adds a row of a table.
func (e *Extents) add(c rows.Line, parts percentages) error {
	if c.Text("zone_id") == "" {
		return c.Wrong("it has no zone_id")
	}
	a, err := c.Area("area")
	if err != nil {
		return err
	}
	epoch, ok := e.epochs[c.Text("epoch")]
	if !ok {
		epoch = int32(len(e.Epochs))
		e.epochs[c.Text("epoch")], e.Epochs = epoch, append(e.Epochs, c.Text("epoch"))
	}
	zone, err := note(&e.Zones, e.zones, cover.Named{ID: c.Text("zone_id"), Name: c.Text("zone_name")})
	if err != nil {
		return c.Wrong("zone %v", err)
	}
	if unit := c.Text("within_id"); unit != "" {
		e.units[unit] = true
	}
	parts.add(c)
	e.whole[place{epoch, zone, -1}] += a
	switch kind := c.Text("kind"); kind {
	case "class":
	case "nodata", "unlisted", "outside":
		return nil
	default:
		return c.Wrong("the kind %q is not valid: it is class, nodata, unlisted or outside", kind)
	}
	code := c.Text("class_code")
	if code == "" { // a class without a code is known by its name
		code = c.Text("class_name")
	}
	class, err := note(&e.Classes, e.classes, cover.Named{ID: code, Name: c.Text("class_name")})
	if err != nil {
		return c.Wrong("class %v", err)
	}
	key := place{epoch, zone, class}
	if _, twice := e.area[key]; twice {
		return c.Wrong("class %s of zone %s at epoch %q occurs twice: give each epoch a label when it is measured", code, c.Text("zone_id"), c.Text("epoch"))
	}
	e.area[key] = a
	return nil
}

// Area is the extent of a class in m²; 0 where the tables have none.
func (e *Extents) Area(epoch, zone, code string) float64 {
	at, ok := e.at(epoch, zone)
	class, known := e.classes[code]
	if !ok || !known {
		return 0
	}
	at.class = class
	return e.area[at]
}

// at is the place of an epoch and a zone.
func (e *Extents) at(epoch, zone string) (at place, ok bool) {
	i, ok := e.epochs[epoch]
	z, known := e.zones[zone]
	return place{i, z, -1}, ok && known
}

// Whole is the area of a zone in m², all parts together.
func (e *Extents) Whole(epoch, zone string) float64 {
	if at, ok := e.at(epoch, zone); ok {
		return e.whole[at]
	}
	return 0
}

// IsUnit reports whether a zone holds others of the tables.
func (e *Extents) IsUnit(zone string) bool { return e.units[zone] }

// Has reports whether the tables have rows of a zone at an epoch.
func (e *Extents) Has(epoch, zone string) bool {
	at, ok := e.at(epoch, zone)
	if ok {
		_, ok = e.whole[at]
	}
	return ok
}

// Group gathers classes into those of a legend's groups.
func (e *Extents) Group(g *cover.Groups) error {
	to, err := cover.GroupsOf(e.Classes, g)
	if err != nil {
		return err
	}
	groups := cover.NamedClasses(g.Legend)
	numbers := map[string]int32{}
	for i, n := range groups {
		numbers[n.ID] = int32(i)
	}
	group := make([]int32, len(e.classes))
	for code, class := range e.classes {
		group[class] = numbers[to[code]]
	}
	out := map[place]float64{}
	for k, a := range e.area {
		k.class = group[k.class]
		out[k] += a
	}
	e.area, e.Classes, e.classes = out, groups, numbers
	return nil
}

// Moves are what matrix tables of change hold.
type Moves struct {
	Pairs   [][2]string // of epochs, in the order of the tables
	Zones   []cover.Named
	Classes []cover.Named
	List    []Move
	Notes   []string          // what had to be assumed when tables were read
	missing []check.Finding   // zones of which rows are missing
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

// ReadMoves reads tables of transitions.
func ReadMoves(paths []string, read Reader) (*Moves, error) {
	m := &Moves{}
	r := moveReader{moves: m, zones: map[string]int32{}, classes: map[string]int32{}, parts: percentages{}, seen: map[[5]int32]bool{}}
	for _, path := range paths {
		notes, err := read(path, []string{"zone_id", "from_epoch", "to_epoch", "from_code", "to_code", "area", "unit"}, []string{"zone_name", "from_name", "to_name"}, func(row rows.Row) error {
			return r.add(rows.Line{Path: path, Row: row})
		})
		if err != nil {
			return nil, hint(err, "a table of transitions, the matrix of a change, is needed")
		}
		m.Notes = append(m.Notes, notes...)
	}
	if len(m.Classes) == 0 {
		return nil, fmt.Errorf("%s: there are no transitions in it", strings.Join(paths, ", "))
	}
	m.missing = r.parts.findings()
	slices.SortStableFunc(m.Classes, func(a, b cover.Named) int {
		x, err1 := strconv.Atoi(a.ID)
		y, err2 := strconv.Atoi(b.ID)
		if err1 != nil || err2 != nil {
			return 0
		}
		return x - y
	})
	return m, nil
}

// moveReader reads rows of transitions. Their texts are shared: there may be a million rows.
type moveReader struct {
	moves          *Moves
	zones, classes map[string]int32
	parts          percentages
	seen           map[[5]int32]bool // pair, zone, classes, and whether it lies outside
}

func (r *moveReader) add(c rows.Line) error {
	m := r.moves
	a, err := c.Area("area")
	if err != nil {
		return err
	}
	pair := [2]string{c.Text("from_epoch"), c.Text("to_epoch")}
	r.parts.add(c)
	k := slices.Index(m.Pairs, pair)
	if k < 0 {
		k = len(m.Pairs)
		m.Pairs = append(m.Pairs, pair)
	}
	zone, err := note(&m.Zones, r.zones, cover.Named{ID: c.Text("zone_id"), Name: c.Text("zone_name")})
	if err != nil {
		return c.Wrong("zone %v", err)
	}
	v := Move{Pair: m.Pairs[k], Zone: m.Zones[zone].ID, M2: a, Outside: c.Text("from_name") == "outside"}
	key := [5]int32{int32(k), zone, -1, -1, 0}
	if v.Outside {
		key[4] = 1
	}
	for i, end := range []string{"from", "to"} {
		code := c.Text(end + "_code")
		if code == "" {
			continue
		}
		class, err := note(&m.Classes, r.classes, cover.Named{ID: code, Name: c.Text(end + "_name")})
		if err != nil {
			return c.Wrong("class %v", err)
		}
		key[2+i] = class
		if code = m.Classes[class].ID; i == 0 {
			v.From = code
		} else {
			v.To = code
		}
	}
	if r.seen[key] {
		return c.Wrong("the transition from %q to %q of zone %s occurs twice", v.From, v.To, v.Zone)
	}
	r.seen[key] = true
	m.List = append(m.List, v)
	return nil
}

// Arrange puts classes in the order of a legend, under its names; those of the legend that do not occur are left out.
func Arrange(classes []cover.Named, l *cover.Legend) ([]cover.Named, error) {
	if l == nil {
		return classes, nil
	}
	var out []cover.Named
	for _, c := range l.Classes {
		code := c.ID()
		if slices.ContainsFunc(classes, func(n cover.Named) bool { return n.ID == code }) {
			out = append(out, cover.Named{ID: code, Name: c.Name})
		}
	}
	for _, n := range classes {
		if !slices.ContainsFunc(out, func(o cover.Named) bool { return o.ID == n.ID }) {
			return nil, fmt.Errorf("class %s %s of the tables is not in the legend %s", n.ID, n.Name, l.Source)
		}
	}
	return out, nil
}

// Group gathers classes into those of a legend's groups: what moved within a group stayed. The list keeps the classes, of which flows
// are made; [Moves.Grouped] gathers it.
func (m *Moves) Group(g *cover.Groups) error {
	to, err := cover.GroupsOf(m.Classes, g) // "", ground that is not mapped, stays so
	if err != nil {
		return err
	}
	m.group, m.Classes = to, cover.NamedClasses(g.Legend)
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
	return fmt.Errorf("%s: none of its codes is a class of the tables (%s): flows name codes of classes, so they take tables by class, not by group", f.Source, text.List(classes, 12))
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
