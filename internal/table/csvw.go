package table

import (
	"encoding/json"
	"fmt"
	"io"

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

// Describe describes the table as it stands in a CSV that has been written.
func (t *Writer) Describe(url string) Description {
	d := Description{URL: url, Title: t.Title, Extent: fmt.Sprintf("%d rows", t.written)}
	for _, c := range t.Columns {
		about := c.About
		if c.Unit == "area" {
			about += ", in the unit of the column unit"
		}
		datatype := map[model.Type]string{model.Text: "string", model.Whole: "integer", model.Number: "double"}[c.Type]
		d.Schema.Columns = append(d.Schema.Columns, ColumnDescription{Titles: c.Name, About: about, Datatype: datatype})
	}
	return d
}

func writeJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
