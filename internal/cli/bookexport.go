package cli

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geojson"
	"github.com/verdex-land/verdex/core/zone"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/table"
)

func exportCommand(tables []cli.Flag) *cli.Command {
	return &cli.Command{
		Name:      "export",
		Usage:     "accounts as a table, a spreadsheet, zones with areas, or a package to publish",
		ArgsUsage: "BOOK [ACCOUNT...]",
		Description: `Writes what counts in a book, or some of its accounts: the rows of one account as a table, any number of accounts as a
spreadsheet (.xlsx), the extents of one on the outlines of its zones (--zones), or all of it as a folder that a stranger can use and
verdex book import can read.

  verdex book export orrin.book wards --out wards.csv
  verdex book export orrin.book --out accounts.xlsx
  verdex book export orrin.book wards --zones wards.gpkg --zone-id code --out wards-extents.gpkg
  verdex book export orrin.book wards --package orrin-2020 --licence CC-BY-4.0 --source "Orrin Survey" --zones wards.gpkg --zone-id code`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringFlag{Name: "package", Usage: "`FOLDER` to make: CSV tables, legends, zones, metadata, checksums"},
			&cli.StringFlag{Name: "title", Usage: "`TEXT` that names the package"},
			&cli.StringFlag{Name: "licence", Usage: "`TEXT` of the terms under which the package may be used"},
			&cli.StringFlag{Name: "source", Usage: "`TEXT` that tells where the maps come from"},
			&cli.StringFlag{Name: "table", Usage: "`extents` or transitions, where an account has both"},
			&cli.StringFlag{Name: "zones", Usage: "`FILE` of the zones: their outlines get the areas, or go into the package"},
			&cli.StringFlag{Name: "zone-id", Usage: "`FIELD` of the zones that tells them apart"},
			&cli.StringFlag{Name: "where", Usage: "only the zones for which a `CONDITION` in CQL2 holds"},
			&cli.StringFlag{Name: "zones-crs", Usage: "`CRS` of the zones, when the file does not say"},
			&cli.BoolFlag{Name: "allow-partial", Usage: "with --zones, write also when rows or zones are left over"},
		}, tables),
		Action: bookExport,
	}
}

func bookExport(ctx context.Context, c *cli.Command) error {
	dir, file, zones := c.String("package"), c.String("out"), c.String("zones")
	switch {
	case dir != "" && file != "":
		return usage("book export writes a --package or one file (--out), not both at once")
	case dir == "" && file == "" && c.String("format") == "":
		return usage("book export needs --out, the file to write, or --package, the folder to make")
	case zones != "" && file == "" && dir == "":
		return usage("--zones needs --out, the file for the zones with their areas, or --package, which gets their outlines")
	case dir == "" && (c.IsSet("licence") || c.IsSet("source") || c.IsSet("title")):
		return usage("--title, --licence and --source are told in a package: name its folder with --package")
	}
	unit, err := account.FindUnit(c.String("unit"))
	if err != nil {
		return usageError{err}
	}
	var out *destination
	if zones == "" && dir == "" {
		if out, err = chooseOutput(c); err != nil {
			return err
		}
	}
	return withBook(ctx, c, false, 0, 1<<20, "a book", func(b *book.Book, r *reporter) error {
		var list []*book.Posting
		names := c.Args().Tail()
		if len(names) == 0 {
			names = []string{""}
		}
		for _, name := range names {
			of, err := b.Current(ctx, name)
			if err != nil {
				return err
			}
			list = append(list, of...)
		}
		if len(list) == 0 {
			return fmt.Errorf("%s: there is nothing to export: the book is empty", b.Name)
		}
		switch {
		case dir != "":
			mark, err := b.Fingerprint(ctx)
			if err != nil {
				return err
			}
			p := &pack{list: list, unit: unit, title: c.String("title"), licence: c.String("licence"), source: c.String("source"), fingerprint: mark, digits: c.Int("digits")}
			if zones != "" {
				if p.outlines, err = outlinesOf(ctx, c, list, b.Name); err != nil {
					return err
				}
			}
			if err := p.write(ctx, dir); err != nil {
				return err
			}
			noteThen(ctx, r, fmt.Sprintf("%s: %d posting(s) of %s, to be read from README.md on", dir, len(list), b.Name))
			return nil
		case zones != "":
			return exportZones(ctx, c, list, unit, b.Name, r)
		case out.format == "xlsx":
			out.sheets = func() []*table.Sheet { return append(accountSheets(list, unit), postingsSheet(list)) }
			if out.checks, err = checkPostings(list); err != nil {
				return err
			}
			return out.write(ctx, &table.Table{Title: "Accounts of " + b.Name})
		}
		accounts := accountsOf(list)
		if len(accounts) > 1 {
			return fmt.Errorf("%s: %d accounts (%s) do not go into one table: name one, or write .xlsx or a --package", b.Name, len(accounts), strings.Join(accounts, ", "))
		}
		t, err := accountTable(list, c.String("table"), unit, b.Name, accounts[0], r)
		if err != nil {
			return err
		}
		if out.format == "table" {
			return usage("book export writes files: book show is for reading")
		}
		return out.write(ctx, t)
	})
}

func accountsOf(list []*book.Posting) (out []string) {
	for _, p := range list {
		if !slices.Contains(out, p.Account) {
			out = append(out, p.Account)
		}
	}
	return out
}

// checkPostings makes the checks of accounts, with the usual bounds.
func checkPostings(list []*book.Posting) (out []account.Check, err error) {
	for _, name := range accountsOf(list) {
		its := ofAccount(list, name)
		for _, set := range zoneSets(its) {
			of := onSet(its, set)
			read := readerOf(of)
			if hasClasses(of, book.OfExtents) {
				e, err := account.ReadExtents([]string{name}, read)
				if err != nil {
					return nil, err
				}
				out = append(out, e.Check(account.DefaultBounds)...)
			}
			if hasClasses(of, book.OfChange) {
				m, err := account.ReadMoves([]string{name}, read)
				if err != nil {
					return nil, err
				}
				out = append(out, account.CheckStatements(m.Statements(nil), m.Classes, account.DefaultBounds)...)
			}
		}
	}
	return out, nil
}

// hasClasses reports whether postings of a kind have ground in some class, of which accounts are made.
func hasClasses(list []*book.Posting, kind string) bool {
	for _, p := range ofKind(list, kind) {
		if slices.ContainsFunc(p.Extents, func(e book.Extent) bool { return e.Kind == "class" }) ||
			slices.ContainsFunc(p.Moves, func(m book.Move) bool { return m.From != "" || m.To != "" }) {
			return true
		}
	}
	return false
}

// exportZones writes the zones with the extents of an account as columns.
func exportZones(ctx context.Context, c *cli.Command, list []*book.Posting, unit account.Unit, where string, r *reporter) error {
	extents := ofKind(list, book.OfExtents)
	if accounts, sets := accountsOf(extents), zoneSets(extents); len(accounts) != 1 || len(sets) != 1 {
		return fmt.Errorf("%s: zones take the extents of one account on one zone set, and these are of %d and %d: name an account", where, len(accounts), len(sets))
	}
	l := extentsTable(extents, unit).Layer()
	l.Source = where
	columns, err := spread(l)
	if err != nil {
		return err
	}
	return attachTo(ctx, c, columns, "zone_id", c.String("out"), r)
}

// outlinesOf are the outlines of the zones of postings, as GeoJSON in longitude and latitude.
func outlinesOf(ctx context.Context, c *cli.Command, list []*book.Posting, where string) ([]byte, error) {
	if sets := zoneSets(list); len(sets) > 1 {
		return nil, fmt.Errorf("%s: --zones are the outlines of one zone set, and these accounts are of %s: name an account", where, strings.Join(sets, ", "))
	}
	l, err := loadLayer(ctx, c, c.String("zones"))
	if err != nil {
		return nil, err
	}
	if l.CRS == nil {
		return nil, fmt.Errorf("%s: %s: name its CRS with --zones-crs", l.Source, l.CRSProblem)
	}
	e, err := condition(c)
	if err != nil {
		return nil, err
	}
	zones, ids, err := zone.Gather(l, zone.Selection{IDField: c.String("zone-id"), Condition: e})
	if err != nil {
		return nil, err
	}
	at := map[string]int{}
	for i, id := range ids {
		at[id] = i
	}
	out := &vector.Layer{Source: l.Source, CRS: l.CRS, Fields: []vector.Field{{Name: "zone_id", Kind: vector.Text}, {Name: "zone_name", Kind: vector.Text}}}
	done := map[string]bool{}
	var missing []string
	for _, p := range byEpoch(list) {
		for _, z := range p.ZoneSet.Zones {
			k, ok := at[z.ID]
			switch {
			case done[z.ID]:
			case ok:
				out.Features = append(out.Features, vector.Feature{Geometry: zones.Features[k].Geometry, Values: []any{z.ID, z.Name}})
			default:
				missing = append(missing, z.ID)
			}
			done[z.ID] = true
		}
	}
	if n := len(missing); n > 0 && (!c.Bool("allow-partial") || len(out.Features) == 0) {
		return nil, fmt.Errorf("%s: it has no outline of %d zone(s) of the accounts (%s): correct --zone-id, or say --allow-partial", l.Source, n, strings.Join(missing[:min(n, 5)], ", "))
	}
	wgs84, err := earth.Lookup(4326)
	if err != nil {
		return nil, err
	}
	degrees, _, err := vector.Carry(out, wgs84)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = geojson.Write(&b, degrees, false)
	return b.Bytes(), err
}

func bookImport(ctx context.Context, c *cli.Command) error {
	return withBook(ctx, c, true, 1, 1, "a book, and another book or the folder of a package", func(b *book.Book, r *reporter) error {
		from, only := c.Args().Get(1), c.String("account")
		var list []*book.Posting
		if isPackage(from) {
			all, err := readPackage(from)
			if err != nil {
				return err
			}
			for _, p := range all {
				if only == "" || p.Account == only {
					list = append(list, p)
				}
			}
			if len(list) == 0 {
				return fmt.Errorf("%s: the package has no account %q: its accounts are %s", from, only, strings.Join(accountsOf(all), ", "))
			}
		} else {
			other, err := openBook(ctx, c, from, false, r)
			if err != nil {
				return err
			}
			defer other.Close()
			if list, err = other.Current(ctx, only); err != nil {
				return err
			}
			mark, err := other.Fingerprint(ctx)
			if err != nil {
				return err
			}
			for _, p := range list {
				fresh := *p
				fresh.ID, fresh.At, fresh.Program, fresh.Replaces = 0, "", "", 0
				fresh.Inputs, fresh.Note = nil, importNote(other.Name, p.Author, p.At, p.Note)
				if book.IsPostgres(from) { // a file is told with its checksum
					fresh.Inputs = []book.Input{{Role: "book", Path: other.Name, SHA256: mark}}
				}
				*p = fresh
			}
		}
		return enter(ctx, c, b, list, r)
	})
}
