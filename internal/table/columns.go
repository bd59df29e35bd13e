package table

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/verdex-land/verdex/core/vector"
)

// column is what a column holds.
type column struct {
	about  string
	number bool
}

// grouped reports whether the numbers of a column are amounts, whose thousands are told apart.
func (c column) grouped() bool {
	return c.number && !strings.HasPrefix(c.about, "number of the posting")
}

// columns are those that tables share.
var columns = map[string]column{
	"epoch":                        {"the dated map that the row is of", false},
	"from_epoch":                   {"the earlier of two epochs", false},
	"to_epoch":                     {"the later of two epochs", false},
	"zone_id":                      {"what tells the zone apart", false},
	"zone_name":                    {"name of the zone", false},
	"within_id":                    {"the larger unit that holds most of the zone", false},
	"within_name":                  {"name of the larger unit", false},
	"kind":                         {"class, nodata, unlisted (values of no class) or outside (of the raster)", false},
	"class_code":                   {"code of the class in the legend", false},
	"class_name":                   {"name of the class in the legend", false},
	"from_code":                    {"code of the class at the earlier epoch; empty where it maps nothing", false},
	"from_name":                    {"name of the class at the earlier epoch", false},
	"to_code":                      {"code of the class at the later epoch; empty where it maps nothing", false},
	"to_name":                      {"name of the class at the later epoch", false},
	"area":                         {"true area on the ellipsoid, in the unit of the column unit", true},
	"unit":                         {"unit of the areas: ha, m2, km2, acre (international) or mi2", false},
	"zone_area":                    {"area of the zone on the ellipsoid, in the unit of the column unit", true},
	"pct_of_zone":                  {"area in percent of the whole zone", true},
	"pct_of_classified":            {"area in percent of what is in some class", true},
	"pct_of_opening":               {"area in percent of the opening extent of the class", true},
	"cells":                        {"number of cells, those that the outline cuts by their share", true},
	"nominal_area":                 {"cells times the nominal size of a cell, for comparison only", true},
	"opening":                      {"extent at the earlier epoch", true},
	"additions":                    {"what was added to the extent", true},
	"reductions":                   {"what was taken from the extent", true},
	"net_change":                   {"additions less reductions", true},
	"closing":                      {"extent at the later epoch: opening + additions - reductions", true},
	"pct_change":                   {"net change in percent of the opening extent", true},
	"pct_change_per_year":          {"the same a year, by division", true},
	"pct_change_per_year_compound": {"the same a year, compounded", true},
	"rank":                         {"place of the class in its zone by area", true},
	"flow":                         {"named process that the transition belongs to", false},
	"managed":                      {"whether people manage the process", false},
	"entry":                        {"line of the account", false},
	"total":                        {"sum over the classes", true},
	"check":                        {"name of the check", false},
	"outcome":                      {"holds, falls short, or not made", false},
	"value":                        {"what the check found, in its own measure", true},
	"text":                         {"the finding in words", false},
	"account":                      {"name of the account in the book", false},
	"posting_id":                   {"number of the posting in the book", true},
	"author":                       {"who posted it", false},
	"posted_at":                    {"when it was posted, UTC", false},
	"note":                         {"what the author said of it", false},
	"zone_set":                     {"name of the set of zones", false},
	"legend":                       {"name of the legend", false},
	"state":                        {"current, superseded or void", false},
	"before":                       {"area in the first posting", true},
	"after":                        {"area in the second posting", true},
	"difference":                   {"second less first", true},
}

// describe says what a column holds. Those that are no names of ours are of a class: its area.
func describe(name string) column {
	if c, ok := columns[name]; ok {
		return c
	}
	switch rest, pct := strings.CutPrefix(name, "pct "); {
	case pct:
		return column{"percent of the zone in " + rest, true}
	case strings.HasSuffix(name, "_code"), strings.HasSuffix(name, "_name"), strings.HasSuffix(name, "_id"):
		return column{"", false}
	}
	return column{"", true}
}

// Metadata writes what the W3C calls CSV on the Web: beside the CSV of the table at url, in the file url-metadata.json, what it is and
// what its columns hold.
func (t *Table) Metadata(w io.Writer, url string) error {
	return writeJSON(w, struct {
		Context any `json:"@context"`
		Description
	}{csvw, t.Describe(url)})
}

// csvw is the context of what is written in the terms of CSVW.
var csvw = []any{"http://www.w3.org/ns/csvw", map[string]string{"@language": "en"}}

// Group describes CSV files that belong together in the terms of CSVW.
type Group struct {
	Title   string        `json:"dc:title"`
	Licence string        `json:"dc:license,omitempty"`
	Source  string        `json:"dc:source,omitempty"`
	About   string        `json:"dc:description"`
	Tables  []Description `json:"tables"`
}

// Write writes the description.
func (g Group) Write(w io.Writer) error {
	return writeJSON(w, struct {
		Context any `json:"@context"`
		Group
	}{csvw, g})
}

// Description describes a CSV file in the terms of CSVW.
type Description struct {
	URL    string `json:"url"`
	Title  string `json:"dc:title,omitempty"`
	Extent string `json:"dc:extent"`
	Schema struct {
		Columns []ColumnDescription `json:"columns"`
	} `json:"tableSchema"`
}

// ColumnDescription describes a column.
type ColumnDescription struct {
	Titles   string `json:"titles"`
	About    string `json:"dc:description,omitempty"`
	Datatype string `json:"datatype"`
	Null     string `json:"null"`
}

// Describe describes the table as it stands in a CSV.
func (t *Table) Describe(url string) Description {
	d := Description{URL: url, Title: t.Title, Extent: fmt.Sprintf("%d rows", t.count())}
	kinds := t.kinds()
	for i, name := range t.Columns {
		c := ColumnDescription{Titles: name, About: describe(name).about, Datatype: "string"}
		switch kinds[i] {
		case vector.Integer:
			c.Datatype = "integer"
		case vector.Real:
			c.Datatype = "double"
		}
		d.Schema.Columns = append(d.Schema.Columns, c)
	}
	return d
}

func writeJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
