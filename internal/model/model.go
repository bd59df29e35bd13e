// Package model defines every table once: its columns, what each holds and in which unit, and its rows.
//
// Whatever shows a table reads a [Table]: files of every format, the terminal, spreadsheets, packages and the reference in
// docs. Rows are made as they are asked for, because a table may have a million, and one serves until the next.
package model

import (
	"iter"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
)

// Type is what the cells of a column are.
type Type uint8

// The types of columns. A cell is nil where nothing is known.
const (
	Text   Type = iota // string
	Whole              // int
	Number             // float64; NaN is nil
)

// Column is a column of tables.
type Column struct {
	Name  string
	Type  Type
	Unit  string // "area" for the unit of the column unit, "%", "cells", "share"; "" for none
	About string // what the cells mean, a phrase
}

// Grouped reports whether the numbers of a column are amounts, whose thousands are set apart.
func (c Column) Grouped() bool {
	return c.Type == Number && c.Unit != "%" || c.Type == Whole && c.Unit == "cells"
}

// Table is a table: named columns and rows.
type Table struct {
	Name    string // of the kind of table, such as extents; a table in a file that names tables has it
	Title   string // for people
	Columns []Column
	Count   int             // of rows, -1 when it is not known before they are made
	Rows    iter.Seq[[]any] // a string, int, float64 or nil for each column; a row serves until the next one
	// Stretches, when not nil, are the same rows in stretches that several goroutines can make at a time.
	Stretches iter.Seq[Stretch]
}

// Stretch are rows of a table that follow one another. Their numbers may be pointers, *float64, to what serves until the next row.
type Stretch struct {
	Count int
	Rows  iter.Seq[[]any]
}

// Of makes a table of rows that are there.
func Of(name, title string, columns []Column, rows [][]any) *Table {
	return &Table{Name: name, Title: title, Columns: columns, Count: len(rows), Rows: func(yield func([]any) bool) {
		for _, r := range rows {
			if !yield(r) {
				return
			}
		}
	}}
}

// with is the table with other columns, whose rows are still to be given.
func (t *Table) with(columns []Column) *Table {
	return &Table{Name: t.Name, Title: t.Title, Columns: columns, Count: t.Count}
}

// Names are the names of the columns.
func (t *Table) Names() []string {
	out := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		out[i] = c.Name
	}
	return out
}

// columns are those that tables share, by name.
var columns = func() map[string]Column {
	columns := map[string]Column{}
	define := func(kind Type, unit string, named ...string) {
		for i := 0; i < len(named); i += 2 {
			columns[named[i]] = Column{named[i], kind, unit, named[i+1]}
		}
	}
	define(Text, "",
		"epoch", "the date that the row is about",
		"from_epoch", "the earlier of two epochs",
		"to_epoch", "the later of two epochs",
		"zone_id", "identifies the zone",
		"zone_name", "name of the zone",
		"within_id", "the larger unit that holds most of the zone",
		"within_name", "name of the larger unit",
		"kind", "class, nodata, unlisted (values of no class) or outside (of the raster); in lists of a book extents or change",
		"class_code", "code of the class in the legend",
		"class_name", "name of the class in the legend",
		"from_code", "code of the class at the earlier epoch; empty where it maps nothing",
		"from_name", "name of the class at the earlier epoch",
		"to_code", "code of the class at the later epoch; empty where it maps nothing",
		"to_name", "name of the class at the later epoch",
		"epoch_labels", "labels of all epochs, the earliest first, with a semicolon between",
		"category", "category of land use: forest land, cropland, grassland, wetlands, settlements or other land; not mapped, or outside",
		"between_code", "code of the class that it is at the epoch between",
		"between_name", "its name",
		"history", "names of the classes at all epochs, the earliest first",
		"history_codes", "their codes, with a semicolon between; ? for an epoch that does not map the ground",
		"course", "what the history is: stable; changed once; changed and went on (to a third class, and none comes again); went and came back (a class, another, the first again); unsteady (every other one in which a class comes again); partly mapped; never mapped; outside (of the rasters); other (all those of the zone that have no row)",
		"since_epoch", "since which epoch the ground has been what it is at the last",
		"map_code", "code of the class on the map",
		"map_name", "name of the class on the map",
		"unit", "unit of the areas: ha, m2, km2, acre (international) or mi2",
		"level", "of the intensity analysis: interval, gain, loss, transition or transition-loss",
		"stands", "whether the change is faster or slower than the even rate",
		"per", "what the rate is for: a year, or the period",
		"flow", "named process that the transition belongs to",
		"managed", "whether people manage the process",
		"entry", "line of the account",
		"check", "name of the check",
		"outcome", "holds, falls short, or not made",
		"text", "the finding in words",
		"account", "name of the account in the book",
		"author", "who posted it",
		"posted_at", "when it was posted, UTC",
		"note", "what the author wrote about it",
		"zone_set", "name of the set of zones",
		"legend", "name of the legend",
		"epochs", "the epochs of the postings that count",
		"state", "current, superseded or void",
		"state_note", "the posting that superseded it, or why it is void",
		"program", "version of the program that posted it",
		"parameters", "command and options that made it, as JSON",
		"content_sha256", "checksum of the rows",
		"code", "code of the class",
		"name", "name of the class",
		"color", "colour of the class",
		"group", "broader group of the class",
	)
	define(Number, "area",
		"area", "true area on the ellipsoid",
		"zone_area", "area of the zone on the ellipsoid",
		"nominal_area", "cells times the nominal size of a cell, for comparison only",
		"opening", "extent at the earlier epoch",
		"additions", "what was added to the extent",
		"reductions", "what was taken from the extent",
		"net_change", "additions less reductions",
		"closing", "extent at the later epoch: opening + additions - reductions",
		"gain", "ground that the class gained",
		"loss", "ground that the class lost",
		"quantity", "change that made the class larger or smaller",
		"exchange", "change in which two classes swapped places",
		"shift", "change that is neither quantity nor exchange",
		"area_per_year", "area that changed in a year",
		"nodata", "area without data",
		"unlisted", "area with values of no class",
		"outside", "area outside the raster",
		"not mapped", "area that the later epoch does not map",
		"total", "sum over the classes",
		"remaining", "land that has been in the category for longer than the time of transition, or since before the first epoch",
		"converted", "land that was converted to the category within the time of transition",
		"from_forest_land", "of what was converted, from forest land",
		"from_cropland", "of what was converted, from cropland",
		"from_grassland", "of what was converted, from grassland",
		"from_wetlands", "of what was converted, from wetlands",
		"from_settlements", "of what was converted, from settlements",
		"from_other_land", "of what was converted, from other land",
		"expected", "area that errors of the maps make of ground that does not change; empty where their accuracy is not given",
		"unexplained", "area beyond that",
		"mended", "ground of the zone on which a class was taken for the one before and after it, with --steady",
		"since_first", "extent less that at the first epoch",
		"since_previous", "extent less that at the previous epoch",
		"before", "area in the first posting",
		"after", "area in the second posting",
		"difference", "second less first",
		"mapped", "extent of the class on the map",
		"adjusted", "extent of the class on the ground, estimated from the samples",
		"adjusted_ci95", "half the 95 % interval of the adjusted extent",
	)
	define(Number, "%",
		"expected_error_pct", "of extents of a reduced copy, the error to expect, in percent of the extent: the bias in a sample of tiles, and half of a 95 % interval",
		"pct_of_zone", "area in percent of the whole zone",
		"pct_of_classified", "area in percent of what is in some class",
		"pct_of_opening", "area in percent of the opening extent of the class",
		"pct_of_mapped", "area in percent of the ground that both epochs map",
		"pct_of_changed", "area in percent of the ground that changed its class",
		"pct_of_class", "area in percent of the class in all zones",
		"pct_of_extent", "area in percent of the extent of the class in the zone",
		"pct_change", "net change in percent of the opening extent",
		"pct_change_per_year", "the same for a year, by division",
		"pct_change_per_year_compound", "the same for a year, compounded",
		"intensity_pct", "rate of change, in percent of the ground that it can affect",
		"uniform_pct", "the rate if change were spread evenly",
		"pct_since_first", "change since the first epoch in percent",
		"pct_since_previous", "change since the previous epoch in percent",
		"pct_per_year_since_first", "change since the first epoch in percent a year",
		"pct_per_year_since_previous", "change since the previous epoch in percent a year",
	)
	define(Number, "share",
		"users_accuracy", "share of what is mapped as the class that is the class",
		"users_ci95", "half the 95 % interval of the user's accuracy",
		"producers_accuracy", "share of the class that is mapped as it",
		"producers_ci95", "half the 95 % interval of the producer's accuracy",
	)
	define(Number, "cells", "cells", "number of cells, those that the outline cuts by their share")
	define(Number, "years",
		"years", "years from the epoch since which the ground has been the class to the last; empty where the labels are no dates",
		"mean_years", "mean of the years of all ground of the class in the zone, by area",
	)
	define(Number, "", "value", "what the check found, in its own measure")
	define(Whole, "",
		"rank", "place by area; 1 is the largest",
		"posting_id", "number of the posting in the book",
		"postings", "number of postings",
		"rows", "number of rows",
		"samples", "number of samples",
		"year", "reporting year, at the end of which the land is in the category",
		"histories", "number of histories that the row has: one, those that are grouped, or the other ones",
		"changes", "how often the class changes from one epoch to the next, where both map the ground",
	)
	return columns
}()

// pick returns columns by their names, separated by commas.
func pick(names string) (out []Column) {
	for _, name := range strings.Split(names, ",") {
		c, ok := columns[name]
		if !ok {
			panic("there is no column " + name)
		}
		out = append(out, c)
	}
	return out
}

// classColumn is the column of the area of a class.
func classColumn(label string) Column { return Column{label, Number, "area", "area of " + label} }

// pctColumn is the column of the percentage of a class.
func pctColumn(label string) Column {
	return Column{"pct " + label, Number, "%", "percent of the zone in " + label}
}

// classColumns are the columns of the areas of classes.
func classColumns(classes []cover.Named) (out []Column) {
	for _, n := range classes {
		out = append(out, classColumn(n.Label()))
	}
	return out
}

// Legend is a table of classes: code, name, colour and group.
func Legend(title string, rows [][]any) *Table {
	return Of("legend", title, legendsKind.Columns, rows)
}

// Zones is a table of zones: id, name, and the id and name of the larger unit.
func Zones(title string, rows [][]any) *Table {
	return Of("zones", title, zonesKind.Columns, rows)
}

// BookAccounts is a table of the accounts of a book.
func BookAccounts(title string, rows [][]any) *Table {
	return Of("accounts", title, bookAccountsKind.Columns, rows)
}

// BookHistory is a table of postings.
func BookHistory(title string, rows [][]any) *Table {
	return Of("history", title, bookHistoryKind.Columns, rows)
}

// BookDiff is a table of the numbers that differ between two postings.
func BookDiff(title string, rows [][]any) *Table {
	return Of("diff", title, bookDiffKind.Columns, rows)
}
