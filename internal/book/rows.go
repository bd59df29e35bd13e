package book

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/decimal"
	formats "github.com/verdex-land/verdex/core/vector/tables"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/extent"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
)

// LegendOf is a legend as a book keeps it.
func LegendOf(name string, l *cover.Legend) Legend {
	out := Legend{Name: name}
	for _, c := range l.Classes {
		out.Classes = append(out.Classes, Class{c.ID(), c.Name, c.Color.String(), c.Group})
	}
	return out
}

// FromComposition makes a posting of what measure has found. The caller fills in the account and who posts it.
func FromComposition(c *extent.Composition) *Posting {
	p := &Posting{Kind: OfExtents, Epoch: c.Epoch, Unit: c.Unit.Name, Legend: LegendOf("", c.Legend)}
	for i, z := range c.Zones {
		p.ZoneSet.Zones = append(p.ZoneSet.Zones, Zone{z.ID, z.Name, z.WithinID, z.WithinName})
		for _, r := range z.Rows() {
			e := Extent{Zone: i, Kind: r.Kind.String(), Code: r.Code, M2: r.Area * c.Unit.M2, Cells: r.Cells, Nominal: math.NaN()}
			if r.Kind == cover.Outside || c.Polygons {
				e.Cells = math.NaN()
			}
			if c.HasNominal && r.Kind != cover.Outside {
				e.Nominal = r.NominalArea * c.Unit.M2
			}
			p.Extents = append(p.Extents, e)
		}
	}
	return p
}

// FromChanges makes a posting for each pair of epochs of what change has found.
func FromChanges(all *change.Changes) (out []*Posting) {
	for _, c := range all.Pairs {
		p := &Posting{Kind: OfChange, From: c.Epochs[0], Epoch: c.Epochs[1], Unit: c.Unit.Name, Legend: LegendOf("", c.Legend)}
		code := func(at int32) string {
			if class, mapped := c.Class(at); mapped {
				return class.ID()
			}
			return ""
		}
		for i := range c.Zones {
			z := &c.Zones[i]
			p.ZoneSet.Zones = append(p.ZoneSet.Zones, Zone{ID: z.ID, Name: z.Name})
			for _, t := range z.Transitions {
				p.Moves = append(p.Moves, Move{i, "ground", code(t.From), code(t.To), c.Area(t.Extent) * c.Unit.M2})
			}
			if z.Outside > 0 {
				p.Moves = append(p.Moves, Move{i, "outside", "", "", z.Outside * c.Unit.M2})
			}
		}
		out = append(out, p)
	}
	return out
}

// ReadTable makes postings of a table that measure or change --table matrix has written: one for each epoch or pair of epochs. Epoch is
// that of extents without one. A legend, if not nil, must have all classes of the table under the same names.
func ReadTable(from files.System, path, epoch string, legend *Legend) (list []*Posting, notes []string, err error) {
	read, notes, err := formats.Rows(from, path, []string{"zone_id", "area", "unit"}, []string{"epoch", "zone_name", "kind", "class_code", "class_name"})
	if err != nil {
		return nil, nil, fmt.Errorf("%w (a book takes tables of measure in the layout long, and of change --table matrix)", err)
	}
	if len(read) == 0 {
		return nil, nil, fmt.Errorf("%s: there are no rows in it", path)
	}
	if _, is := read[0].Cell["expected_error_pct"]; is {
		return nil, nil, fmt.Errorf("%s: its extents are approximate (measured on a reduced copy), and a book takes none: measure all cells", path)
	}
	if missing := account.MissingRows(read); len(missing) > 0 {
		var texts []string
		for _, f := range missing[:min(5, len(missing))] {
			texts = append(texts, f.Text)
		}
		notes = append(notes, fmt.Sprintf("%s: rows are missing or doubled: the percentages of the rows of a zone do not add up to 100 %%: %s", path, strings.Join(texts, ", ")))
	}
	list, err = fromRows(path, read, epoch, legend)
	return list, notes, err
}

// gathering is a posting that rows are added to.
type gathering struct {
	*Posting
	zones   map[string]int
	classes map[string]int
	seen    map[[4]string]bool
}

func fromRows(path string, read []rows.Row, epoch string, legend *Legend) ([]*Posting, error) {
	change := false
	for name := range read[0].Cell {
		change = change || name == "from_code"
	}
	needed := []string{"kind", "class_code"}
	if change {
		needed = []string{"from_epoch", "to_epoch", "from_code", "to_code"}
	}
	for _, n := range needed {
		if _, ok := read[0].Cell[n]; !ok {
			return nil, fmt.Errorf("%s: %w %q: a book takes tables of measure in the layout long, and of change --table matrix", path, rows.ErrNoColumn, n)
		}
	}
	var list []*gathering
	at := map[[2]string]*gathering{}
	for _, r := range read {
		wrong := func(format string, args ...any) error {
			return fmt.Errorf("%s: line %d: %s", path, r.Line, fmt.Sprintf(format, args...))
		}
		period := [2]string{"", r.Cell["epoch"]}
		if change {
			period = [2]string{r.Cell["from_epoch"], r.Cell["to_epoch"]}
		} else if period[1] == "" {
			period[1] = epoch
		}
		g, ok := at[period]
		if !ok {
			g = &gathering{&Posting{Kind: OfExtents, From: period[0], Epoch: period[1], Unit: r.Cell["unit"]}, map[string]int{}, map[string]int{}, map[[4]string]bool{}}
			if change {
				g.Kind = OfChange
			}
			at[period], list = g, append(list, g)
		}
		unit, err := area.Find(r.Cell["unit"])
		if err != nil {
			return nil, wrong("%v", err)
		}
		number := func(name string) (float64, error) {
			v, err := decimal.Parse(r.Cell[name])
			if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
				return 0, wrong("the %s %q is not a number", name, r.Cell[name])
			}
			return v, nil
		}
		area, err := number("area")
		if err != nil {
			return nil, err
		}
		if area < 0 {
			return nil, wrong("the area %q is negative, which no area is", r.Cell["area"])
		}
		zone, err := g.zone(Zone{r.Cell["zone_id"], r.Cell["zone_name"], r.Cell["within_id"], r.Cell["within_name"]})
		if err != nil {
			return nil, wrong("%v", err)
		}
		if change {
			m := Move{zone, "ground", r.Cell["from_code"], r.Cell["to_code"], area * unit.M2}
			if r.Cell["from_name"] == "outside" && m.From == "" {
				m.Kind = "outside"
			}
			for k, code := range []string{m.From, m.To} {
				if err := g.class(code, r.Cell[[]string{"from_name", "to_name"}[k]], legend); err != nil && code != "" {
					return nil, wrong("%v", err)
				}
			}
			if !g.once(zone, m.Kind, m.From, m.To) {
				return nil, wrong("the transition from %q to %q of zone %s occurs twice", m.From, m.To, r.Cell["zone_id"])
			}
			g.Moves = append(g.Moves, m)
			continue
		}
		e := Extent{zone, r.Cell["kind"], r.Cell["class_code"], area * unit.M2, math.NaN(), math.NaN()}
		if !slices.Contains([]string{"class", "nodata", "unlisted", "outside"}, e.Kind) {
			return nil, wrong("the kind %q is not known: it is class, nodata, unlisted or outside", e.Kind)
		}
		if e.Kind == "class" {
			if err := g.class(e.Code, r.Cell["class_name"], legend); err != nil {
				return nil, wrong("%v", err)
			}
		}
		if r.Cell["cells"] != "" {
			if e.Cells, err = number("cells"); err != nil {
				return nil, err
			}
		}
		if r.Cell["nominal_area"] != "" {
			if e.Nominal, err = number("nominal_area"); err != nil {
				return nil, err
			}
			e.Nominal *= unit.M2
		}
		if !g.once(zone, e.Kind, e.Code, "") {
			return nil, wrong("%s %s of zone %s at epoch %q occurs twice", e.Kind, e.Code, r.Cell["zone_id"], period[1])
		}
		g.Extents = append(g.Extents, e)
	}
	var out []*Posting
	for _, g := range list {
		if legend != nil {
			g.Legend = *legend
		}
		out = append(out, g.Posting)
	}
	return out, nil
}

// once notes a row, and is false when there was one of the same key.
func (g *gathering) once(zone int, kind, from, to string) bool {
	key := [4]string{strconv.Itoa(zone), kind, from, to}
	if g.seen[key] {
		return false
	}
	g.seen[key] = true
	return true
}

func (g *gathering) zone(z Zone) (int, error) {
	if z.ID == "" {
		return 0, errors.New("it has no zone_id")
	}
	if i, ok := g.zones[z.ID]; ok {
		if g.ZoneSet.Zones[i] != z {
			return 0, fmt.Errorf("zone %s is called both %q and %q", z.ID, g.ZoneSet.Zones[i].Name, z.Name)
		}
		return i, nil
	}
	g.zones[z.ID] = len(g.ZoneSet.Zones)
	g.ZoneSet.Zones = append(g.ZoneSet.Zones, z)
	return g.zones[z.ID], nil
}

func (g *gathering) class(code, name string, legend *Legend) error {
	if code == "" {
		return errors.New("the class has no class_code")
	}
	if legend != nil {
		for _, c := range legend.Classes {
			if c.Code == code {
				if name != "" && name != c.Name {
					return fmt.Errorf("class %s is called %q, and %q in the legend %s", code, name, c.Name, legend.Name)
				}
				return nil
			}
		}
		return fmt.Errorf("class %s %s is not in the legend %s", code, name, legend.Name)
	}
	if i, ok := g.classes[code]; ok {
		if g.Legend.Classes[i].Name != name {
			return fmt.Errorf("class %s is called both %q and %q", code, g.Legend.Classes[i].Name, name)
		}
		return nil
	}
	g.classes[code] = len(g.Legend.Classes)
	g.Legend.Classes = append(g.Legend.Classes, Class{Code: code, Name: name})
	return nil
}

// ReadInput takes the measures of a file that rows are made from: size, time of the last change and SHA-256.
func ReadInput(ctx context.Context, role, path string) (Input, error) {
	f, err := os.Open(path)
	if err != nil {
		return Input{}, fault.Opening(path, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return Input{}, fault.Opening(path, err)
	}
	full, err := filepath.Abs(path)
	if err != nil {
		return Input{}, err
	}
	sum := sha256.New()
	room := make([]byte, 1<<20)
	for {
		n, err := f.Read(room)
		sum.Write(room[:n])
		if errors.Is(err, io.EOF) {
			break
		}
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return Input{}, fmt.Errorf("%s: it cannot be read (%w)", path, fault.Reason(err))
		}
	}
	return Input{role, full, info.Size(), info.ModTime().UTC().Format(time.RFC3339Nano), hex.EncodeToString(sum.Sum(nil))}, nil
}
