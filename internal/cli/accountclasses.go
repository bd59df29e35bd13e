package cli

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/internal/table"
)

func accountComposition(ctx context.Context, c *cli.Command) error {
	s, err := readStatement(c)
	if err != nil {
		return err
	}
	layout := c.String("layout")
	if layout != "long" && layout != "wide" {
		return usage("--layout %s is not known: choose long or wide", layout)
	}
	e, err := s.extents(ctx, c)
	if err != nil {
		return err
	}
	rows := e.Composition()
	if c.Bool("round-to-sum") {
		digits := max(1, s.out.digits)
		if s.out.digits == 0 {
			digits = 0
		}
		roundPercent(rows, digits)
	}
	if rank := c.String("rank"); rank != "" {
		err = s.rank(ctx, rows, e, rank)
	} else {
		s.out.sheets = func() []*table.Sheet { return s.compositionSheets(e) }
		err = s.show(ctx, func() *table.Table { return s.compositionTable(rows, e, layout) }, func(c *canvas) error { return s.paintClasses(c, rows, e) })
	}
	if err != nil {
		return err
	}
	return s.tell(ctx)
}

// eachZone hands over the rows of each zone and epoch, which lie together.
func eachZone(rows []account.CompositionRow, f func([]account.CompositionRow)) {
	for from := 0; from < len(rows); {
		to := from
		for to < len(rows) && rows[to].Zone == rows[from].Zone && rows[to].Epoch == rows[from].Epoch {
			to++
		}
		f(rows[from:to])
		from = to
	}
}

func roundPercent(rows []account.CompositionRow, digits int) {
	eachZone(rows, func(of []account.CompositionRow) {
		zone, classified := make([]float64, len(of)), make([]float64, len(of))
		for i, r := range of {
			zone[i], classified[i] = r.PctOfZone, r.PctOfClassified
		}
		zone, classified = account.RoundToSum(zone, digits), account.RoundToSum(classified, digits)
		for i := range of {
			of[i].PctOfZone, of[i].PctOfClassified = zone[i], classified[i]
		}
	})
}

func (s *statement) compositionTable(rows []account.CompositionRow, e *account.Extents, layout string) *table.Table {
	if layout == "long" {
		t := &table.Table{Name: "composition", Title: "Composition of zones", Columns: []string{"epoch", "zone_id", "zone_name", "class_code", "class_name", "area", "unit", "pct_of_zone", "pct_of_classified", "rank"}}
		for _, r := range rows {
			t.Rows = append(t.Rows, []any{r.Epoch, r.Zone.ID, r.Zone.Name, r.Class.ID, r.Class.Name, s.area(r.M2), s.unit.Name, r.PctOfZone, r.PctOfClassified, r.Rank})
		}
		return t
	}
	t := &table.Table{Name: "composition", Title: "Composition of zones", Columns: []string{"epoch", "zone_id", "zone_name", "unit"}}
	for _, n := range e.Classes {
		t.Columns = append(t.Columns, n.Label())
	}
	for _, n := range e.Classes {
		t.Columns = append(t.Columns, "pct "+n.Label())
	}
	eachZone(rows, func(of []account.CompositionRow) {
		row := []any{of[0].Epoch, of[0].Zone.ID, of[0].Zone.Name, s.unit.Name}
		for _, r := range of {
			row = append(row, s.area(r.M2))
		}
		for _, r := range of {
			row = append(row, r.PctOfZone)
		}
		t.Rows = append(t.Rows, row)
	})
	return t
}

func (s *statement) paintClasses(c *canvas, rows []account.CompositionRow, e *account.Extents) error {
	most := 0.0
	for _, r := range rows {
		most = math.Max(most, s.area(r.M2))
	}
	decimals := decimalsFor(most)
	for i, epoch := range e.Epochs {
		if i > 0 {
			c.line()
		}
		c.line(c.bold(strings.TrimSpace("Composition "+epoch) + " in " + s.unit.Label + " of true ground, percent of the zone beneath"))
		c.line()
		g := s.classGrid(c, e.Classes, "zone")
		g.head = g.head[:len(e.Classes)]
		eachZone(rows, func(of []account.CompositionRow) {
			if of[0].Epoch != epoch {
				return
			}
			var areas, shares []string
			for _, r := range of {
				areas = append(areas, group(s.area(r.M2), decimals))
				shares = append(shares, fmt.Sprintf("%s %% #%d", group(r.PctOfZone, 1), r.Rank))
			}
			g.add(title(of[0].Zone.ID, of[0].Zone.Name), areas, of[0].Zone == account.AllZones, false)
			g.add("", shares, false, true)
		})
		g.paint()
	}
	c.line()
	c.line(c.dim("# is the rank of a class in its zone, by area."))
	return c.flush()
}

// rank ranks zones by a class.
func (s *statement) rank(ctx context.Context, rows []account.CompositionRow, e *account.Extents, class string) error {
	at := slices.IndexFunc(e.Classes, func(n account.Named) bool { return n.ID == class || n.Name == class })
	if at < 0 {
		var names []string
		for _, n := range e.Classes {
			names = append(names, n.ID+" "+n.Name)
		}
		return usage("--rank %s is no class of the tables: choose one of %s", class, firstOf(names, 20))
	}
	t := &table.Table{Name: "rank", Title: "Zones by extent of a class", Columns: []string{"epoch", "rank", "zone_id", "zone_name", "class_code", "class_name", "area", "unit", "pct_of_zone", "pct_of_class"}}
	c := newCanvas(s.out.stdout)
	for i, epoch := range e.Epochs {
		var of []account.CompositionRow
		total := 0.0
		for _, r := range rows {
			if r.Epoch == epoch && r.Class == e.Classes[at] && r.Zone != account.AllZones {
				of = append(of, r)
				total += r.M2
			}
		}
		slices.SortStableFunc(of, func(a, b account.CompositionRow) int {
			switch {
			case a.M2 > b.M2:
				return -1
			case a.M2 < b.M2:
				return 1
			}
			return 0
		})
		if i > 0 {
			c.line()
		}
		c.line(c.bold(strings.TrimSpace(e.Classes[at].Label()+" "+epoch) + " by zone, in " + s.unit.Label))
		g := &grid{c: c, name: "zone", head: []string{s.unit.Name, "% of the zone", "% of the class"}}
		for k, r := range of {
			share := 0.0
			if total > 0 {
				share = r.M2 / total * 100
			}
			t.Rows = append(t.Rows, []any{epoch, k + 1, r.Zone.ID, r.Zone.Name, r.Class.ID, r.Class.Name, s.area(r.M2), s.unit.Name, r.PctOfZone, share})
			g.add(fmt.Sprintf("%d. %s", k+1, title(r.Zone.ID, r.Zone.Name)), []string{group(s.area(r.M2), decimalsFor(s.area(of[0].M2))), group(r.PctOfZone, 1), group(share, 1)}, false, false)
		}
		g.paint()
	}
	return s.show(ctx, func() *table.Table { return t }, func(*canvas) error { return c.flush() })
}

func accountSeries(ctx context.Context, c *cli.Command) error {
	s, err := readStatement(c)
	if err != nil {
		return err
	}
	e, err := s.extents(ctx, c)
	if err != nil {
		return err
	}
	if len(e.Epochs) < 2 {
		return fmt.Errorf("%s: there is one epoch only (%q): a series takes tables of several, measured with --epoch LABEL", strings.Join(c.Args().Slice(), ", "), e.Epochs[0])
	}
	rows := e.Series()
	t := &table.Table{Name: "series", Title: "Extents over the epochs", Columns: []string{"zone_id", "zone_name", "class_code", "class_name", "epoch", "area", "unit", "since_first", "since_previous",
		"pct_since_first", "pct_since_previous", "pct_per_year_since_first", "pct_per_year_since_previous"}}
	for _, r := range rows {
		t.Rows = append(t.Rows, []any{r.Zone.ID, r.Zone.Name, r.Class.ID, r.Class.Name, r.Epoch, s.area(r.M2), s.unit.Name, s.area(r.SinceFirst), s.area(r.SincePrevious),
			r.PctSinceFirst, r.PctSincePrevious, r.PctPerYearSinceFirst, r.PctPerYearSimple})
	}
	if err := s.show(ctx, func() *table.Table { return t }, func(c *canvas) error { return s.paintSeries(c, rows, e) }); err != nil {
		return err
	}
	return s.tell(ctx)
}

func (s *statement) paintSeries(c *canvas, rows []account.SeriesRow, e *account.Extents) error {
	most := 0.0
	for _, r := range rows {
		most = math.Max(most, s.area(r.M2))
	}
	decimals := decimalsFor(most)
	c.line(c.bold(fmt.Sprintf("Extents %s to %s in %s of true ground", e.Epochs[0], e.Epochs[len(e.Epochs)-1], s.unit.Label)))
	marks := s.swatches(c, e.Classes)
	for from := 0; from < len(rows); {
		z := rows[from].Zone
		g := &grid{c: c, name: title(z.ID, z.Name)}
		for i, epoch := range e.Epochs {
			g.head = append(g.head, epoch)
			if i > 0 {
				g.head = append(g.head, "since "+e.Epochs[i-1])
			}
		}
		g.head = append(g.head, "% since "+e.Epochs[0], "% a year")
		class := 0
		for from < len(rows) && rows[from].Zone == z {
			k := rows[from].Class
			cells := make([]string, len(g.head))
			for ; from < len(rows) && rows[from].Zone == z && rows[from].Class == k; from++ {
				r := rows[from]
				i := slices.Index(e.Epochs, r.Epoch)
				cells[max(0, 2*i-1)] = group(s.area(r.M2), decimals)
				if i > 0 {
					cells[2*i] = signed(s.area(r.SincePrevious), decimals)
				}
				cells[len(cells)-2], cells[len(cells)-1] = signed(r.PctSinceFirst, 1), signed(r.PctPerYearSinceFirst, 2)
			}
			g.add(marks[class]+" "+k.Label(), cells, false, false)
			class++
		}
		c.line()
		g.paint()
	}
	return c.flush()
}
