package table

import (
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"slices"

	"github.com/verdex-land/verdex/internal/model"
)

// Metadata writes what the W3C calls CSV on the Web: beside the CSV of the table at url, in the file url-metadata.json, what it is and
// what its columns hold. The table has been written.
func (t *Writer) Metadata(w io.Writer, url string) error {
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
	Licence any           `json:"dc:license,omitempty"` // an address, as {"@id": …}
	Rights  string        `json:"dc:rights,omitempty"`  // terms that have no address
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
		Columns     []ColumnDescription `json:"columns"`
		PrimaryKey  []string            `json:"primaryKey,omitempty"`
		ForeignKeys []ForeignKey        `json:"foreignKeys,omitempty"`
	} `json:"tableSchema"`
}

// ForeignKey says that the values of columns are those of columns of another table.
type ForeignKey struct {
	Columns   []string `json:"columnReference"`
	Reference struct {
		Resource string   `json:"resource"`
		Columns  []string `json:"columnReference"`
	} `json:"reference"`
}

// Refer adds that the values of a column are those of a column of another table.
func (d *Description) Refer(column, resource, other string) {
	k := ForeignKey{Columns: []string{column}}
	k.Reference.Resource, k.Reference.Columns = resource, []string{other}
	d.Schema.ForeignKeys = append(d.Schema.ForeignKeys, k)
}

// ColumnDescription describes a column.
type ColumnDescription struct {
	Name     string `json:"name,omitempty"`
	Titles   string `json:"titles"`
	About    string `json:"dc:description,omitempty"`
	Datatype string `json:"datatype"`
	Null     string `json:"null"`
}

// Describe describes the table as it stands in a CSV that has been written.
func (t *Writer) Describe(url string) Description {
	d := Description{URL: url, Title: t.Title, Extent: fmt.Sprintf("%d rows", t.written)}
	for _, c := range t.Columns {
		about := c.About
		if c.Unit == "area" {
			about += ", in the unit of the column unit"
		}
		datatype := map[model.Type]string{model.Text: "string", model.Whole: "integer", model.Number: "double"}[c.Type]
		d.Schema.Columns = append(d.Schema.Columns, ColumnDescription{Name: variable.FindString(c.Name), Titles: c.Name, About: about, Datatype: datatype})
	}
	d.Schema.PrimaryKey = keyOf(t.Table)
	return d
}

// keys are the columns that tell the rows of a table apart, by its name.
var keys = map[string][]string{
	"extents":     {"epoch", "zone_id", "kind", "class_code"},
	"transitions": {"zone_id", "from_epoch", "to_epoch", "from_code", "from_name", "to_code", "to_name"},
	"legend":      {"code"},
	"zones":       {"zone_id"},
}

// keyOf is the key of a table that has all of its columns.
func keyOf(t *model.Table) []string {
	key := keys[t.Name]
	for _, k := range key {
		if !slices.Contains(t.Names(), k) {
			return nil
		}
	}
	return key
}

// variable is a name that CSVW takes without changing it.
var variable = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_]*$`)

func writeJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
