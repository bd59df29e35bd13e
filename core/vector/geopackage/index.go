package geopackage

import (
	"database/sql"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/vector"
)

// spatialIndex is the R-tree of a layer, by the extension gpkg_rtree_index of the standard.
type spatialIndex struct {
	table, column, key string
	insert             *sql.Stmt
}

// indexOf makes the index of a layer that is still empty.
func indexOf(tx *sql.Tx, table, column, key string) (*spatialIndex, error) {
	x := &spatialIndex{table: table, column: column, key: key}
	if _, err := tx.Exec("CREATE VIRTUAL TABLE " + x.name() + " USING rtree(id, minx, maxx, miny, maxy)"); err != nil {
		return nil, err
	}
	err := register(tx, table, column, "gpkg_rtree_index", "http://www.geopackage.org/spec120/#extension_rtree", "write-only")
	if err == nil {
		x.insert, err = tx.Prepare("INSERT INTO " + x.name() + " VALUES (?, ?, ?, ?, ?)")
	}
	return x, err
}

func (x *spatialIndex) name() string { return name("rtree_" + x.table + "_" + x.column) }

// add adds a feature by its number.
func (x *spatialIndex) add(id any, g *vector.Geometry) error {
	b := extend([4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}, g)
	_, err := x.insert.Exec(id, b[0], b[2], b[1], b[3])
	return err
}

// triggers keep the index when another program changes the layer; the functions ST_… are that program's, as the standard asks (version 1.3, annex F.3).
const triggers = `
CREATE TRIGGER "{rtree}_insert" AFTER INSERT ON {t} WHEN (new.{c} NOT NULL AND NOT ST_IsEmpty(NEW.{c}))
BEGIN INSERT OR REPLACE INTO {r} VALUES (NEW.{i}, ST_MinX(NEW.{c}), ST_MaxX(NEW.{c}), ST_MinY(NEW.{c}), ST_MaxY(NEW.{c})); END;
CREATE TRIGGER "{rtree}_update1" AFTER UPDATE OF {c} ON {t} WHEN OLD.{i} = NEW.{i} AND (NEW.{c} NOTNULL AND NOT ST_IsEmpty(NEW.{c}))
BEGIN INSERT OR REPLACE INTO {r} VALUES (NEW.{i}, ST_MinX(NEW.{c}), ST_MaxX(NEW.{c}), ST_MinY(NEW.{c}), ST_MaxY(NEW.{c})); END;
CREATE TRIGGER "{rtree}_update2" AFTER UPDATE OF {c} ON {t} WHEN OLD.{i} = NEW.{i} AND (NEW.{c} ISNULL OR ST_IsEmpty(NEW.{c}))
BEGIN DELETE FROM {r} WHERE id = OLD.{i}; END;
CREATE TRIGGER "{rtree}_update3" AFTER UPDATE ON {t} WHEN OLD.{i} != NEW.{i} AND (NEW.{c} NOTNULL AND NOT ST_IsEmpty(NEW.{c}))
BEGIN DELETE FROM {r} WHERE id = OLD.{i}; INSERT OR REPLACE INTO {r} VALUES (NEW.{i}, ST_MinX(NEW.{c}), ST_MaxX(NEW.{c}), ST_MinY(NEW.{c}), ST_MaxY(NEW.{c})); END;
CREATE TRIGGER "{rtree}_update4" AFTER UPDATE ON {t} WHEN OLD.{i} != NEW.{i} AND (NEW.{c} ISNULL OR ST_IsEmpty(NEW.{c}))
BEGIN DELETE FROM {r} WHERE id IN (OLD.{i}, NEW.{i}); END;
CREATE TRIGGER "{rtree}_delete" AFTER DELETE ON {t} WHEN old.{c} NOT NULL
BEGIN DELETE FROM {r} WHERE id = OLD.{i}; END;
`

// watch adds the triggers, when all features are there.
func (x *spatialIndex) watch(tx *sql.Tx) error {
	quoted := strings.ReplaceAll("rtree_"+x.table+"_"+x.column, `"`, `""`)
	_, err := tx.Exec(strings.NewReplacer("{rtree}", quoted, "{t}", name(x.table), "{c}", name(x.column), "{i}", name(x.key), "{r}", x.name()).Replace(triggers))
	return err
}
