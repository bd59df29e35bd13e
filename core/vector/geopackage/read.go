// Package geopackage reads and writes the vector layers of GeoPackages (OGC 12-128r18), which are SQLite databases.
package geopackage

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the database

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
)

// Info describes one vector layer of a file.
type Info struct {
	Name     string
	Geometry string // the kind that the layer declares
	Features int64
}

// openFrom opens a database that a system names.
func openFrom(from files.System, name string) (*sql.DB, error) {
	path, err := from.Local(name)
	if err != nil {
		return nil, err
	}
	return open(path)
}

// open opens a database for reading. Nothing is written, not even beside it.
func open(path string) (*sql.DB, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, fault.Opening(path, err)
	}
	head := make([]byte, 100)
	_, err = io.ReadFull(f, head)
	info, statErr := f.Stat()
	f.Close()
	if err != nil || string(head[:16]) != "SQLite format 3\x00" {
		return nil, fmt.Errorf("%s: it is not a GeoPackage: it is not an SQLite database", path)
	}
	// The head of the database counts its pages, if the program that wrote it last keeps that up to date. A page that nothing reads could be missing
	// without an error otherwise.
	be := binary.BigEndian
	page := int64(be.Uint16(head[16:]))
	if page == 1 {
		page = 1 << 16
	}
	if whole := page * int64(be.Uint32(head[28:])); statErr == nil && be.Uint32(head[24:]) == be.Uint32(head[92:]) && info.Size() < whole {
		return nil, fmt.Errorf("%s: it says that it has %d bytes, but there are %d: it is cut off, so get a complete copy", path, whole, info.Size())
	}
	return sql.Open("sqlite", Address(path, "mode=ro"))
}

// Address is a file as the driver of SQLite takes it, with options such as mode=ro.
func Address(path, options string) string {
	abs, err := filepath.Abs(path)
	if err != nil {
		abs = path
	}
	abs = filepath.ToSlash(abs)
	if !strings.HasPrefix(abs, "/") { // a drive of Windows
		abs = "/" + abs
	}
	return (&url.URL{Scheme: "file", Path: abs, RawQuery: options}).String()
}

// Layers lists the vector layers of a file.
func Layers(from files.System, path string) ([]Info, error) {
	db, err := openFrom(from, path)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	out, err := layers(path, db)
	if err != nil {
		return nil, err
	}
	for i := range out {
		if err := db.QueryRow("SELECT count(*) FROM " + name(out[i].Name)).Scan(&out[i].Features); err != nil {
			return nil, fmt.Errorf("%s: its layer %q cannot be read (%w)", path, out[i].Name, err)
		}
	}
	return out, nil
}

// layers lists the layers, without how many features they have.
func layers(path string, db *sql.DB) ([]Info, error) {
	return list(path, db, `SELECT c.table_name, g.geometry_type_name FROM gpkg_contents c JOIN gpkg_geometry_columns g ON g.table_name = c.table_name
		WHERE c.data_type = 'features' ORDER BY c.rowid`)
}

// tables lists the tables, with outlines and without.
func tables(path string, db *sql.DB) ([]Info, error) {
	return list(path, db, "SELECT table_name, '' FROM gpkg_contents WHERE data_type IN ('attributes', 'features') ORDER BY data_type, rowid")
}

func list(path string, db *sql.DB, query string) (out []Info, err error) {
	rows, err := db.Query(query)
	if err != nil && strings.Contains(err.Error(), "locked") {
		return nil, fmt.Errorf("%s: another program is writing to it: try again when that has ended", path)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: it is not a GeoPackage that can be read: %w", path, err)
	}
	defer rows.Close()
	for rows.Next() {
		var i Info
		if err := rows.Scan(&i.Name, &i.Geometry); err != nil {
			return nil, fmt.Errorf("%s: its list of layers is damaged (%w)", path, err)
		}
		out = append(out, i)
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return out, nil
}

// name quotes the name of a table or a column.
func name(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }

// Read reads a layer. Where a file has several and layer is "", the error lists them.
func Read(from files.System, path, layer string) (*vector.Layer, error) {
	db, err := openFrom(from, path)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	all, err := layers(path, db)
	if err != nil {
		return nil, err
	}
	if layer, err = pick(path, layer, "layer of outlines", all); err != nil {
		return nil, err
	}
	l := &vector.Layer{Source: path, Name: layer}
	if err := read(db, l); err != nil {
		return nil, fmt.Errorf("%s: layer %s: %w", path, layer, err)
	}
	return l, nil
}

// ReadTable reads a table, with outlines or without, as features without outlines. Where a file has several and name is "", the error lists them.
func ReadTable(from files.System, path, name string) (*vector.Layer, error) {
	db, err := openFrom(from, path)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	all, err := tables(path, db)
	if err != nil {
		return nil, err
	}
	if name, err = pick(path, name, "table", all); err != nil {
		return nil, err
	}
	l := &vector.Layer{Source: path, Name: name, Plain: true}
	if err := read(db, l); err != nil {
		return nil, fmt.Errorf("%s: table %s: %w", path, name, err)
	}
	return l, nil
}

// pick is the layer that is meant: the one that is named, or the only one.
func pick(path, layer, what string, all []Info) (string, error) {
	var names []string
	for _, i := range all {
		names = append(names, i.Name)
	}
	switch {
	case len(all) == 0:
		return "", fmt.Errorf("%s: it has no %s", path, what)
	case layer == "" && len(all) > 1 && what == "table":
		return "", fmt.Errorf("%s: it has %d tables: name one, as in %s#%s (tables: %s)", path, len(all), filepath.Base(path), names[0], strings.Join(names, ", "))
	case layer == "" && len(all) > 1:
		return "", fmt.Errorf("%s: it has %d layers: name one, as in %s#%s (layers: %s)", path, len(all), filepath.Base(path), names[0], strings.Join(names, ", "))
	case layer == "":
		return names[0], nil
	case !slices.Contains(names, layer):
		what, _, _ = strings.Cut(what, " ")
		return "", fmt.Errorf("%s: it has no %s %q (%ss: %s)", path, what, layer, what, strings.Join(names, ", "))
	}
	return layer, nil
}

func read(db *sql.DB, l *vector.Layer) error {
	var column string
	var srs int64
	err := db.QueryRow("SELECT column_name, srs_id FROM gpkg_geometry_columns WHERE table_name = ?", l.Name).Scan(&column, &srs)
	if l.Plain { // neither the outline nor the number of a row is a column of a table
		columns, err := plainColumns(db, l.Name, column)
		if err != nil {
			return err
		}
		return readColumns(db, l, "", strings.Join(columns, ", "))
	}
	if err != nil {
		return fmt.Errorf("it does not state its geometry column (%w)", err)
	}
	if l.CRS, err = crs(db, srs); err != nil {
		l.CRSProblem = err.Error()
	}
	return readColumns(db, l, column, "*")
}

// plainColumns are the columns of a table, as names in quotes, but for the key of its rows and that of outlines.
func plainColumns(db *sql.DB, table, outline string) (out []string, err error) {
	rows, err := db.Query("SELECT name, pk FROM pragma_table_info(?)", table)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var column string
		var key int
		if err := rows.Scan(&column, &key); err != nil {
			return nil, err
		}
		if key == 0 && !strings.EqualFold(column, outline) {
			out = append(out, name(column))
		}
	}
	if len(out) == 0 {
		return nil, errors.New("it has no columns")
	}
	return out, rows.Err()
}

// readColumns reads columns, of which one, if it is named, has the outlines.
func readColumns(db *sql.DB, l *vector.Layer, column, what string) error {
	query := "SELECT " + what + " FROM " + name(l.Name)
	rows, err := db.QueryContext(context.Background(), query+" LIMIT 0")
	if err != nil {
		return err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	geometry := slices.IndexFunc(columns, func(c string) bool { return strings.EqualFold(c, column) })
	if geometry < 0 && !l.Plain {
		return fmt.Errorf("it has no column %q, which is to hold its outlines", column)
	}
	for i, c := range columns {
		if i != geometry {
			l.Fields = append(l.Fields, vector.Field{Name: c})
		}
	}
	types, err := rows.ColumnTypes()
	if err != nil {
		return err
	}
	forms := make([]vector.Form, len(columns))
	for i, t := range types {
		switch strings.ToUpper(t.DatabaseTypeName()) {
		case "DATE":
			forms[i] = vector.Date
		case "DATETIME":
			forms[i] = vector.DateTime
		}
		switch {
		case geometry < 0 || i < geometry:
			l.Fields[i].Form = forms[i]
		case i > geometry:
			l.Fields[i-1].Form = forms[i]
		}
	}
	r := &tableReader{query: query, geometry: geometry, forms: forms, truth: make([]bool, len(columns))}
	for i := range types {
		r.truth[i] = strings.EqualFold(types[i].DatabaseTypeName(), "BOOLEAN")
	}
	if l.Features, err = r.all(db); err != nil {
		return err
	}
	l.Settle()
	return nil
}

// tableReader reads the rows of a layer.
type tableReader struct {
	query    string
	geometry int           // the column of outlines, -1 for none
	forms    []vector.Form // by column
	truth    []bool        // by column: 0 and 1 are false and true
}

// all reads all rows. Outlines are decoded on other processors; several connections would wait for one another in the driver. The driver is asked
// itself, which gives each value once: the package sql would copy every outline again.
func (r *tableReader) all(db *sql.DB) (out []vector.Feature, err error) {
	ctx := context.Background()
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	err = conn.Raw(func(c any) error {
		rows, err := c.(driver.QueryerContext).QueryContext(ctx, r.query, nil)
		if err != nil {
			return err
		}
		defer rows.Close()
		out, err = r.rows(rows)
		return err
	})
	return out, err
}

func (r *tableReader) rows(rows driver.Rows) ([]vector.Feature, error) {
	values := make([]driver.Value, len(r.forms))
	features := vector.NewBatches(outline)
	for {
		if err := rows.Next(values); err == io.EOF {
			return features.Features()
		} else if err != nil {
			return nil, fmt.Errorf("feature %d: %w", features.Len()+1, err)
		}
		f := vector.Feature{Values: make([]any, 0, len(r.forms))}
		var raw []byte
		for i, v := range values {
			if i == r.geometry {
				if v == nil {
					continue
				}
				var ok bool
				if raw, ok = v.([]byte); !ok {
					raw = []byte{} // the decoder reports it
				}
				continue
			}
			if n, ok := v.(int64); ok && r.truth[i] {
				v = n != 0
			}
			f.Values = append(f.Values, value(v, r.forms[i]))
		}
		features.Add(f, raw)
	}
}

// value is a value of the database as one of a feature. Blobs are only told by their size.
func value(v any, form vector.Form) any {
	switch t := v.(type) {
	case []byte:
		return fmt.Sprintf("%d bytes", len(t))
	case time.Time:
		if form == vector.Date || form == vector.Plain && t.Equal(t.Truncate(24*time.Hour)) {
			return t.Format(time.DateOnly)
		}
		return t.UTC().Format("2006-01-02T15:04:05.000Z")
	}
	return v
}

// outline reads a geometry in the form of the standard: a head with flags and an optional envelope, then well-known binary.
func outline(b []byte) (g vector.Geometry, err error) {
	if len(b) < 8 || b[0] != 'G' || b[1] != 'P' {
		return g, errors.New("its geometry is damaged: it does not begin as the standard says")
	}
	flags := b[3]
	if flags&0x20 != 0 {
		return g, errors.New("its geometry is of an extended kind, which is not read: convert the layer to plain polygons")
	}
	sizes := [8]int{0, 32, 48, 48, 64, -1, -1, -1}
	head := sizes[flags>>1&7]
	if head < 0 || len(b) < 8+head+5 {
		return g, errors.New("its geometry is damaged: its head is cut off")
	}
	return vector.FromWKB(b[8+head:])
}

// crs finds the CRS of an srs_id.
func crs(db *sql.DB, id int64) (*earth.CRS, error) {
	switch id {
	case -1, 0:
		return nil, errors.New("its CRS is stated as undefined")
	}
	var organization, definition string
	var code int
	err := db.QueryRow("SELECT organization, organization_coordsys_id, definition FROM gpkg_spatial_ref_sys WHERE srs_id = ?", id).Scan(&organization, &code, &definition)
	if err != nil {
		return nil, fmt.Errorf("its CRS number %d is not in the file's own list", id)
	}
	if strings.EqualFold(organization, "EPSG") {
		if c, err := earth.Lookup(code); err == nil {
			return c, nil
		}
	}
	if newer, err := texts(db, "SELECT definition_12_063 FROM gpkg_spatial_ref_sys WHERE srs_id = ?", id); err == nil && len(newer) == 1 && earth.LooksLikeWKT(newer[0]) { // a file without the extension has no such column
		definition = newer[0]
	}
	c, err := earth.ParseCRS(definition)
	if err != nil {
		return nil, fmt.Errorf("its CRS %s:%d is not understood (%w)", organization, code, err)
	}
	return c, nil
}

// littleEndian is the order of what is written.
var littleEndian = binary.LittleEndian
