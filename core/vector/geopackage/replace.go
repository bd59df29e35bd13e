package geopackage

import (
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/vector"
)

// TableName is the name of the table that a layer is written to.
func TableName(l *vector.Layer) string {
	if l.Name == "" {
		return "zones"
	}
	return l.Name
}

// Contents lists all tables that a GeoPackage declares, of outlines or not; nil if the file is not a GeoPackage.
func Contents(path string) []string {
	db, err := open(path)
	if err != nil {
		return nil
	}
	defer db.Close()
	out, _ := texts(db, "SELECT table_name FROM gpkg_contents ORDER BY rowid") // another database has no such table
	return out
}

// Has reports whether one of the tables of [Contents] is called so. Names of tables differ in more than case.
func Has(tables []string, name string) bool {
	return slices.ContainsFunc(tables, func(t string) bool { return strings.EqualFold(t, name) })
}

// Copy copies a GeoPackage, with what is still in its journal, to an empty file.
func Copy(from, to string) error {
	db, err := open(from)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.Exec("VACUUM INTO ?", to); err != nil {
		return fmt.Errorf("%s: it cannot be copied (%w)", from, err)
	}
	return nil
}

func hasContents(db *sql.DB) bool {
	var n int
	err := db.QueryRow("SELECT count(*) FROM sqlite_schema WHERE name = 'gpkg_contents'").Scan(&n)
	return err == nil && n > 0
}

// querier is a database or a transaction.
type querier interface {
	Query(text string, args ...any) (*sql.Rows, error)
}

// texts are the values of the first column of a query.
func texts(q querier, query string, args ...any) (out []string, err error) {
	rows, err := q.Query(query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, rows.Err()
}

// dropLayer removes a table with its spatial index, and the rows that tables of the standard and its extensions have of it.
func dropLayer(tx *sql.Tx, table string) error {
	there, err := texts(tx, "SELECT table_name FROM gpkg_contents WHERE table_name = ? COLLATE NOCASE", table)
	if err != nil || len(there) == 0 {
		return err
	}
	geometry, err := texts(tx, "SELECT column_name FROM gpkg_geometry_columns WHERE table_name = ?", there[0])
	if err != nil {
		return err
	}
	for _, column := range geometry {
		if _, err := tx.Exec("DROP TABLE IF EXISTS " + name("rtree_"+there[0]+"_"+column)); err != nil {
			return err
		}
	}
	about, err := texts(tx, `SELECT s.name FROM sqlite_schema s JOIN pragma_table_info(s.name) c ON c.name = 'table_name'
		WHERE s.type = 'table' AND s.name LIKE 'gpkg\_%' ESCAPE '\' ORDER BY s.name = 'gpkg_contents'`)
	if err != nil {
		return err
	}
	for _, t := range about { // gpkg_contents last: others refer to it
		if _, err := tx.Exec("DELETE FROM "+name(t)+" WHERE table_name = ?", there[0]); err != nil {
			return err
		}
	}
	_, err = tx.Exec("DROP TABLE " + name(there[0]))
	return err
}
