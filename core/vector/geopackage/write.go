package geopackage

import (
	"database/sql"
	"errors"
	"fmt"
	"iter"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/vector"
)

// schema is what every GeoPackage has, by version 1.3 of the standard.
const schema = `
PRAGMA application_id = 0x47504B47;
PRAGMA user_version = 10300;
CREATE TABLE gpkg_spatial_ref_sys (
  srs_name TEXT NOT NULL, srs_id INTEGER NOT NULL PRIMARY KEY, organization TEXT NOT NULL,
  organization_coordsys_id INTEGER NOT NULL, definition TEXT NOT NULL, description TEXT);
CREATE TABLE gpkg_contents (
  table_name TEXT NOT NULL PRIMARY KEY, data_type TEXT NOT NULL, identifier TEXT UNIQUE, description TEXT DEFAULT '',
  last_change DATETIME NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ','now')),
  min_x DOUBLE, min_y DOUBLE, max_x DOUBLE, max_y DOUBLE, srs_id INTEGER,
  CONSTRAINT fk_gc_r_srs_id FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys(srs_id));
CREATE TABLE gpkg_geometry_columns (
  table_name TEXT NOT NULL, column_name TEXT NOT NULL, geometry_type_name TEXT NOT NULL, srs_id INTEGER NOT NULL,
  z TINYINT NOT NULL, m TINYINT NOT NULL,
  CONSTRAINT pk_geom_cols PRIMARY KEY (table_name, column_name), CONSTRAINT uk_gc_table_name UNIQUE (table_name),
  CONSTRAINT fk_gc_tn FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name),
  CONSTRAINT fk_gc_srs FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id));
INSERT INTO gpkg_spatial_ref_sys VALUES
  ('Undefined Cartesian SRS', -1, 'NONE', -1, 'undefined', 'undefined Cartesian coordinate reference system'),
  ('Undefined geographic SRS', 0, 'NONE', 0, 'undefined', 'undefined geographic coordinate reference system');
`

// ownCode numbers a CRS without a code.
const ownCode = 100000

// Write writes a layer to a new file, a plain table as one of attributes. A CRS that has no form as WKT 1 is written by the extension for WKT 2, and outlines get a spatial
// index. What is at path must be an empty file or a GeoPackage, of which a layer of the same name is replaced and all others stay. at is when the content changed.
func Write(path string, l *vector.Layer, at time.Time) (err error) {
	return inFile(path, func(tx *sql.Tx) error {
		if err := dropLayer(tx, TableName(l)); err != nil {
			return err
		}
		srs, err := putCRS(tx, l)
		if err != nil {
			return err
		}
		return putLayer(tx, l, srs, at)
	})
}

// WriteTable writes rows without outlines as a table of attributes: nil, string, int64 or float64 for each field. A row serves until the next
// one. The file is as Write takes it.
func WriteTable(path, name string, fields []vector.Field, rows iter.Seq[[]any], at time.Time) error {
	l := &vector.Layer{Name: name, Fields: fields, Plain: true}
	return inFile(path, func(tx *sql.Tx) error {
		if err := dropLayer(tx, TableName(l)); err != nil {
			return err
		}
		if _, err := putCRS(tx, l); err != nil {
			return err
		}
		insert, err := declare(tx, l, 0, -1, at)
		if err != nil {
			return err
		}
		defer insert.Close()
		args := make([]any, 0, len(fields)+1)
		n := 0
		for row := range rows {
			n++
			if _, err := insert.Exec(append(append(args[:0], n), row...)...); err != nil {
				return fmt.Errorf("row %d: %w", n, err)
			}
		}
		return nil
	})
}

// inFile does work in one transaction of a GeoPackage, which is made of an empty file.
func inFile(path string, work func(tx *sql.Tx) error) (err error) {
	db, err := sql.Open("sqlite", Address(path, ""))
	if err != nil {
		return err
	}
	defer func() {
		if e := db.Close(); err == nil {
			err = e
		}
	}()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec("PRAGMA journal_mode = MEMORY; PRAGMA synchronous = OFF;"); err != nil {
		return err
	}
	if !hasContents(db) {
		if _, err := db.Exec(schema); err != nil {
			return err
		}
	}
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	if err := work(tx); err != nil {
		_ = tx.Rollback() // the first error counts
		return err
	}
	return tx.Commit()
}

// putCRS enters WGS 84, which every file has, and the CRS of the layer.
func putCRS(tx *sql.Tx, l *vector.Layer) (int, error) {
	const wgs84 = `GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563,AUTHORITY["EPSG","7030"]],AUTHORITY["EPSG","6326"]],PRIMEM["Greenwich",0],UNIT["degree",0.017453292519943295],AUTHORITY["EPSG","4326"]]`
	const insert = "INSERT OR IGNORE INTO gpkg_spatial_ref_sys (srs_name, srs_id, organization, organization_coordsys_id, definition, description) VALUES (?, ?, ?, ?, ?, ?)"
	if _, err := tx.Exec(insert, "WGS 84", 4326, "EPSG", 4326, wgs84, "longitude and latitude on the WGS 84 ellipsoid"); err != nil {
		return 0, err
	}
	if l.Plain {
		return 0, nil
	}
	definition, ok := l.CRS.WKT1()
	column, known := "definition", definition
	if !ok {
		if err := extendCRS(tx); err != nil {
			return 0, err
		}
		definition, column, known = "undefined", "definition_12_063", l.CRS.WKT2()
	}
	code, organization := l.CRS.Code, "EPSG"
	if code == 0 {
		code, organization = ownCode, "NONE"
	}
	for { // the number of this definition, or one that is free
		var there string
		err := tx.QueryRow("SELECT "+column+" FROM gpkg_spatial_ref_sys WHERE srs_id = ?", code).Scan(&there)
		if errors.Is(err, sql.ErrNoRows) {
			if _, err = tx.Exec(insert, l.CRS.Name, code, organization, code, definition, ""); err == nil && !ok {
				_, err = tx.Exec("UPDATE gpkg_spatial_ref_sys SET definition_12_063 = ? WHERE srs_id = ?", known, code)
			}
			return code, err
		}
		if err != nil || organization == "EPSG" || there == known {
			return code, err
		}
		code++
	}
}

// extensions is the table in which a file lists what it holds beyond the standard's core.
const extensions = `CREATE TABLE IF NOT EXISTS gpkg_extensions (table_name TEXT, column_name TEXT, extension_name TEXT NOT NULL, definition TEXT NOT NULL, scope TEXT NOT NULL,
  CONSTRAINT ge_tce UNIQUE (table_name, column_name, extension_name))`

func register(tx *sql.Tx, table, column, extension, definition, scope string) error {
	if _, err := tx.Exec(extensions); err != nil {
		return err
	}
	_, err := tx.Exec("INSERT OR IGNORE INTO gpkg_extensions VALUES (?, ?, ?, ?, ?)", table, column, extension, definition, scope)
	return err
}

// extendCRS adds the column of WKT 2 to the list of CRSs, where it is not there.
func extendCRS(tx *sql.Tx) error {
	const column = "definition_12_063"
	there, err := texts(tx, "SELECT name FROM pragma_table_info('gpkg_spatial_ref_sys')")
	if err != nil {
		return err
	}
	if !slices.Contains(there, column) {
		if _, err := tx.Exec("ALTER TABLE gpkg_spatial_ref_sys ADD COLUMN " + column + " TEXT NOT NULL DEFAULT 'undefined'"); err != nil {
			return err
		}
	}
	return register(tx, "gpkg_spatial_ref_sys", column, "gpkg_crs_wkt", "http://www.geopackage.org/spec/#extension_crs_wkt", "read-write")
}

// declare enters a layer in the contents of the file and makes its table, of which key is the field of numbers, or -1. It returns the
// statement that inserts a row.
func declare(tx *sql.Tx, l *vector.Layer, srs, key int, at time.Time) (*sql.Stmt, error) {
	table := TableName(l)
	columns, names := columnsOf(l, key)
	if _, err := tx.Exec("CREATE TABLE " + name(table) + " (" + strings.Join(columns, ", ") + ")"); err != nil {
		return nil, err
	}
	box := [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
	for i := range l.Features {
		box = extend(box, &l.Features[i].Geometry)
	}
	var bounds [4]any
	if !math.IsInf(box[0], 0) {
		bounds = [4]any{box[0], box[1], box[2], box[3]}
	}
	what, system := "features", any(srs)
	if l.Plain {
		what, system = "attributes", nil
	}
	if _, err := tx.Exec("INSERT INTO gpkg_contents (table_name, data_type, identifier, description, last_change, min_x, min_y, max_x, max_y, srs_id) VALUES (?, ?, ?, '', ?, ?, ?, ?, ?, ?)", table, what, table, at.UTC().Format("2006-01-02T15:04:05.000Z"), bounds[0], bounds[1], bounds[2], bounds[3], system); err != nil {
		return nil, err
	}
	if !l.Plain {
		if _, err := tx.Exec("INSERT INTO gpkg_geometry_columns (table_name, column_name, geometry_type_name, srs_id, z, m) VALUES (?, ?, ?, ?, 0, 0)", table, names[1], kindName(l), srs); err != nil {
			return nil, err
		}
	}
	return tx.Prepare("INSERT INTO " + name(table) + " VALUES (?" + strings.Repeat(", ?", len(columns)-1) + ")")
}

func putLayer(tx *sql.Tx, l *vector.Layer, srs int, at time.Time) error {
	_, many := kindOf(l)
	key := keyOf(l)
	insert, err := declare(tx, l, srs, key, at)
	if err != nil {
		return err
	}
	defer insert.Close()
	var index *spatialIndex
	if !l.Plain {
		_, names := columnsOf(l, key)
		if index, err = indexOf(tx, TableName(l), names[1], names[0]); err != nil {
			return err
		}
		defer index.insert.Close()
	}
	for i := range l.Features {
		f := &l.Features[i]
		row := []any{i + 1}
		if key >= 0 {
			row[0] = f.Values[key]
		}
		if !l.Plain {
			row = append(row, encode(&f.Geometry, srs, many))
		}
		for k, v := range f.Values {
			if k == key {
				continue
			}
			if b, ok := v.(bool); ok && l.Fields[k].Kind == vector.Boolean {
				v = 0
				if b {
					v = 1
				}
			}
			row = append(row, v)
		}
		if _, err := insert.Exec(row...); err != nil {
			return fmt.Errorf("feature %d: %w", i+1, err)
		}
		if index != nil && !f.Geometry.Empty() {
			if err := index.add(row[0], &f.Geometry); err != nil {
				return fmt.Errorf("feature %d: %w", i+1, err)
			}
		}
	}
	if index != nil {
		return index.watch(tx)
	}
	return nil
}

// columnsOf declares the columns: the key, the geometry and the fields, under names that differ from the two.
func columnsOf(l *vector.Layer, key int) (columns, names []string) {
	taken := map[string]bool{}
	for i, f := range l.Fields {
		taken[strings.ToLower(f.Name)] = i != key
	}
	free := func(n string) string {
		for taken[n] {
			n += "_"
		}
		taken[n] = true
		return n
	}
	names = []string{"", free("geom")}
	if key >= 0 {
		names[0] = l.Fields[key].Name
	} else {
		names[0] = free("fid")
	}
	columns = []string{name(names[0]) + " INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL"}
	if !l.Plain {
		kind, _ := kindOf(l)
		columns = append(columns, name(names[1])+" "+kind)
	}
	seen := map[string]bool{strings.ToLower(names[0]): true, strings.ToLower(names[1]): true}
	types := map[vector.Kind]string{vector.Text: "TEXT", vector.Integer: "INTEGER", vector.Real: "REAL", vector.Boolean: "BOOLEAN"}
	for i, f := range l.Fields {
		if i == key {
			continue
		}
		kind := types[f.Kind]
		if f.Form != vector.Plain && l.AllDates(i) {
			kind = map[vector.Form]string{vector.Date: "DATE", vector.DateTime: "DATETIME"}[f.Form]
		}
		n := f.Name // names of columns differ in more than case
		for seen[strings.ToLower(n)] || n == "" {
			n += "_"
		}
		seen[strings.ToLower(n)] = true
		names = append(names, n)
		columns = append(columns, name(n)+" "+kind)
	}
	return columns, names
}

// keyOf is the field that numbers the features of a GeoPackage, where they come from one: whole numbers above 0, no two alike. -1 if there is none.
func keyOf(l *vector.Layer) int {
	key := l.Field("fid")
	if key < 0 || l.Fields[key].Kind != vector.Integer {
		return -1
	}
	seen := map[int64]bool{}
	for i := range l.Features {
		n, ok := l.Features[i].Values[key].(int64)
		if !ok || n < 1 || seen[n] {
			return -1
		}
		seen[n] = true
	}
	return key
}

func kindName(l *vector.Layer) string {
	kind, _ := kindOf(l)
	return kind
}

// kindOf is the geometry type of a layer, and whether all its features are to be multipolygons or multipoints.
func kindOf(l *vector.Layer) (kind string, many bool) {
	points, polygons := false, false
	for i := range l.Features {
		g := &l.Features[i].Geometry
		points = points || len(g.Points) > 0
		polygons = polygons || len(g.Polygons) > 0
		many = many || len(g.Points) > 1 || len(g.Polygons) > 1
	}
	switch {
	case points && polygons:
		return "GEOMETRY", false
	case points:
		kind = "POINT"
	default:
		kind = "POLYGON"
	}
	if many {
		kind = "MULTI" + kind
	}
	return kind, many
}

func extend(b [4]float64, g *vector.Geometry) [4]float64 {
	add := func(r vector.Ring) {
		o := vector.Box(r)
		b = [4]float64{math.Min(b[0], o[0]), math.Min(b[1], o[1]), math.Max(b[2], o[2]), math.Max(b[3], o[3])}
	}
	for _, p := range g.Polygons {
		add(p[0])
	}
	if len(g.Points) > 0 {
		add(g.Points)
	}
	return b
}

// encode makes a geometry blob with an envelope; nil for none.
func encode(g *vector.Geometry, srs int, many bool) any {
	if g.Empty() {
		return nil
	}
	b := []byte{'G', 'P', 0, 1 | 1<<1} // little endian, with the envelope of x and y
	b = littleEndian.AppendUint32(b, uint32(srs))
	box := extend([4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}, g)
	for _, v := range []float64{box[0], box[2], box[1], box[3]} {
		b = littleEndian.AppendUint64(b, math.Float64bits(v))
	}
	return g.Geom(many).AppendWKB(b)
}
