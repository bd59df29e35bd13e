package cli

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geojson"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/model"
	"github.com/verdex-land/verdex/internal/pack"
	"github.com/verdex-land/verdex/internal/sheets"
	"github.com/verdex-land/verdex/internal/table"
)

type exportOptions struct {
	Book    []string `arg:"BOOK [ACCOUNT...]" in:"-"`
	Package string   `opt:"package" out:"package" help:"<FOLDER> to make: CSV tables, legends, zones, metadata, checksums"`
	Title   string   `opt:"title" help:"<TEXT> that names the package"`
	Licence string   `opt:"licence" help:"<TEXT> of the terms under which the package may be used"`
	Source  string   `opt:"source" help:"<TEXT> that says where the maps come from"`
	Table   string   `opt:"table" choose:",extents,transitions" help:"which <table>: extents or transitions, where an account has both"`
	job.JoinOptions
	job.PartialOption  `group:"zones"`
	job.OverrideOption `group:"zones"`
	job.UnitOption
	waitOption
	tableOptions   `group:"output"`
	savePlanOption `group:"output"`
}

func exportCommand() *cli.Command {
	return command(cli.Command{
		Name:  "export",
		Usage: "accounts as a table, a spreadsheet, zones with areas, or a package to publish",
		Description: `Writes what counts in a book, or some of its accounts: the rows of one account as a table, any number of accounts as a
spreadsheet (.xlsx), the extents of one on the outlines of its zones (--zones), or all of it as a folder that a stranger can use and
verdex book import can read.

  verdex book export orrin.book wards --out wards.csv
  verdex book export orrin.book --out accounts.xlsx
  verdex book export orrin.book wards --zones wards.gpkg --zone-id code --out wards-extents.gpkg
  verdex book export orrin.book wards --package orrin-2020 --licence CC-BY-4.0 --source "Orrin Survey" --zones wards.gpkg --zone-id code`,
	}, bookExport)
}

func bookExport(s *session, o *exportOptions) error {
	switch {
	case o.Package != "" && o.Out != "":
		return usage("book export writes a --package or one file (--out), not both at once")
	case o.Package == "" && o.Out == "" && o.Format == "":
		return usage("book export needs --out, the file to write, or --package, the folder to make")
	case o.Zones != "" && o.Out == "" && o.Package == "":
		return usage("--zones needs --out, the file for the zones with their areas, or --package, which gets their outlines")
	case o.Package == "" && o.Licence+o.Source+o.Title != "":
		return usage("--title, --licence and --source are for a package: name its folder with --package")
	}
	unit, err := area.Find(o.Unit)
	if err != nil {
		return usageError{err}
	}
	var out *destination
	if o.Zones == "" && o.Package == "" {
		if out, err = o.destination(); err != nil {
			return err
		}
		if out.format == "table" {
			return usage("book export writes files: book show is for reading")
		}
	}
	return s.withBook(o.Book, false, o.Wait, 0, 1<<20, "a book", func(b *book.Book) error {
		list, err := s.currentOf(b, o.Book[1:])
		if err != nil {
			return err
		}
		switch {
		case o.Package != "":
			return s.exportPackage(b, list, o, unit)
		case o.Zones != "":
			return s.exportZones(list, o, unit, b.Name)
		case out.format == "xlsx":
			out.sheets = func() []*table.Sheet {
				return append(sheets.Accounts(list, unit, true), sheets.Postings(list, commandLine))
			}
			if out.checks, err = list.Check(); err != nil {
				return err
			}
			return s.write(out, model.Of("", "Accounts of "+b.Name, nil, nil))
		}
		accounts := list.Accounts()
		if len(accounts) > 1 {
			return fmt.Errorf("%s: %d accounts (%s) do not go into one table: name one, or write .xlsx or a --package", b.Name, len(accounts), strings.Join(accounts, ", "))
		}
		t, err := s.accountTable(list, o.Table, unit, b.Name, accounts[0])
		if err != nil {
			return err
		}
		return s.write(out, t)
	})
}

// currentOf are the postings that count of some accounts, or of all when none is named.
func (s *session) currentOf(b *book.Book, names []string) (list book.List, err error) {
	if len(names) == 0 {
		names = []string{""}
	}
	for _, name := range names {
		of, err := b.Current(s.ctx, name)
		if err != nil {
			return nil, err
		}
		list = append(list, of...)
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%s: there is nothing to export: the book is empty", b.Name)
	}
	return list, nil
}

// exportPackage writes postings as a folder to publish.
func (s *session) exportPackage(b *book.Book, list book.List, o *exportOptions, unit area.Unit) error {
	mark, err := b.Fingerprint(s.ctx)
	if err != nil {
		return err
	}
	p := &pack.Package{List: list, Unit: unit, Title: o.Title, Licence: o.Licence, Source: o.Source, Fingerprint: mark, Digits: o.Digits}
	if o.Zones != "" {
		if p.Outlines, err = s.outlinesOf(list, o, b.Name); err != nil {
			return err
		}
	}
	if err := s.MakeFolder(o.Package, p.WriteInto); err != nil {
		return err
	}
	s.noteThen(fmt.Sprintf("%s: %s of %s; README.md says what is in it", o.Package, text.Count(len(list), "posting"), b.Name))
	return nil
}

// exportZones writes the zones with the extents of an account as columns.
func (s *session) exportZones(list book.List, o *exportOptions, unit area.Unit, where string) error {
	extents := list.OfKind(book.OfExtents)
	if accounts, sets := extents.Accounts(), extents.ZoneSets(); len(accounts) != 1 || len(sets) != 1 {
		return fmt.Errorf("%s: zones take the extents of one account on one zone set, and these are of %d and %d: name an account", where, len(accounts), len(sets))
	}
	columns := job.NewZoneColumns(where)
	for _, p := range extents {
		for z := range p.Zones(unit) {
			whole, _ := model.Sums(z.Parts)
			for _, part := range z.Parts {
				name := part.Name
				if part.Kind != "class" {
					name = part.Kind
				}
				if err := columns.Add(z.ID, name, z.Epoch, unit.Name, part.Area, area.Percent(part.Area, whole)); err != nil {
					return fmt.Errorf("%s: %w", where, err)
				}
			}
		}
	}
	f, err := job.AttachTable(s.ctx, s.env(), columns.Layer(), o.JoinOptions, o.AllowPartial, o.OverrideCRS)
	if err != nil {
		return err
	}
	return s.writeFeatures(o.Out, f.Layer)
}

// outlinesOf are the outlines of the zones of postings, as GeoJSON in longitude and latitude.
func (s *session) outlinesOf(list book.List, o *exportOptions, where string) ([]byte, error) {
	if sets := list.ZoneSets(); len(sets) > 1 {
		return nil, fmt.Errorf("%s: --zones are the outlines of one zone set, and these accounts are of %s: name an account", where, strings.Join(sets, ", "))
	}
	var wanted []cover.Named
	done := map[string]bool{}
	for _, p := range list.ByEpoch() {
		for _, z := range p.ZoneSet.Zones {
			if !done[z.ID] {
				done[z.ID] = true
				wanted = append(wanted, cover.Named{ID: z.ID, Name: z.Name})
			}
		}
	}
	f, missing, err := job.OutlinesOf(s.ctx, s.env(), o.JoinOptions, o.OverrideCRS, wanted)
	if err != nil {
		return nil, err
	}
	if n := len(missing); n > 0 && (!o.AllowPartial || len(f.Features) == 0) {
		return nil, fmt.Errorf("%s: it has no outline of %s of the accounts (%s): correct --zone-id, or add --allow-partial", f.Source, text.Count(n, "zone"), text.List(missing, 5))
	}
	wgs84, err := earth.Lookup(4326)
	if err != nil {
		return nil, err
	}
	degrees, _, err := vector.Carry(f.Layer, wgs84)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = geojson.Write(&b, degrees, false)
	return b.Bytes(), err
}

type importOptions struct {
	Args      []string `arg:"BOOK FROM" in:"-,book"`
	Account   string   `opt:"account" help:"only this <ACCOUNT>"`
	Note      string   `opt:"note" help:"<TEXT> about the postings"`
	Supersede bool     `opt:"supersede" help:"supersede other content of the same account, epoch and zone set, which stays in the history"`
	authorOption
	waitOption
}

func bookImport(s *session, o *importOptions) error {
	return s.withBook(o.Args, true, o.Wait, 1, 1, "a book, and another book or the folder of a package", func(b *book.Book) error {
		list, err := s.importable(o)
		if err != nil {
			return err
		}
		return s.enter(b, list, entryOptions{Note: o.Note, Supersede: o.Supersede, authorOption: o.authorOption})
	})
}

// importable are the postings of a package or of another book, as they are posted anew.
func (s *session) importable(o *importOptions) (list book.List, err error) {
	from := o.Args[1]
	if pack.Is(from) {
		all, err := pack.Read(from)
		if err != nil {
			return nil, err
		}
		for _, p := range all {
			if o.Account == "" || p.Account == o.Account {
				list = append(list, p)
			}
		}
		if len(list) == 0 {
			return nil, fmt.Errorf("%s: the package has no account %q: its accounts are %s", from, o.Account, strings.Join(all.Accounts(), ", "))
		}
		return list, nil
	}
	other, err := s.openBook(from, false, o.Wait)
	if err != nil {
		return nil, err
	}
	defer other.Close()
	if list, err = other.Current(s.ctx, o.Account); err != nil {
		return nil, err
	}
	mark, err := other.Fingerprint(s.ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range list {
		fresh := *p
		fresh.ID, fresh.At, fresh.Program, fresh.Replaces = 0, "", "", 0
		fresh.Inputs, fresh.Note = nil, pack.ImportNote(other.Name, p.Author, p.At, p.Note)
		if book.IsPostgres(from) { // a file is recorded with its checksum
			fresh.Inputs = []book.Input{{Role: "book", Path: other.Name, SHA256: mark}}
		}
		*p = fresh
	}
	return list, nil
}
