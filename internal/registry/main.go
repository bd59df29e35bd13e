// Command registry writes the tables of the CRS registry from the SQLite database of Debian's
// proj-data package, which holds the EPSG dataset. It is run in core/earth by go
// generate, and needs the sqlite3 program:
//
//	go run ../../internal/registry /usr/share/proj/proj.db
//
// Angles are written in degrees, lengths in metres; codes are EPSG's. What is deprecated, and what
// none of the projected CRSs needs, is left out.
package main

import (
	"encoding/json"
	"fmt"
	"log"
	"math"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
)

var db string

// row is a result of a query by column name.
type row map[string]any

func (r row) text(name string) string {
	switch v := r[name].(type) {
	case nil:
		return ""
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return fmt.Sprint(r[name])
}

func (r row) number(name string) float64 {
	v, err := strconv.ParseFloat(r.text(name), 64)
	if err != nil {
		return math.NaN()
	}
	return v
}

func query(sql string) []row {
	out, err := exec.Command("sqlite3", "-json", db, sql).Output()
	if err != nil {
		log.Fatalf("%s: %v", sql, err)
	}
	var rows []row
	if len(out) > 0 {
		if err := json.Unmarshal(out, &rows); err != nil {
			log.Fatal(err)
		}
	}
	return rows
}

func number(v float64) string {
	if math.IsNaN(v) {
		return ""
	}
	return strconv.FormatFloat(v, 'g', -1, 64)
}

// units by code: their size in metres, radians or parts.
var units = map[string]row{}

// toDegrees brings an angle in a unit to degrees; 9110 is sexagesimal, DDD.MMSSsss.
func toDegrees(v float64, unit string) float64 {
	switch unit {
	case "9102", "9122":
		return v
	case "9105": // grads
		return v * 0.9
	case "9110":
		sign := 1.0
		if v < 0 {
			sign, v = -1, -v
		}
		text := strconv.FormatFloat(v, 'f', 12, 64)
		whole, fraction, _ := strings.Cut(text, ".")
		d, _ := strconv.ParseFloat(whole, 64)
		m, _ := strconv.ParseFloat(fraction[:2], 64)
		s, _ := strconv.ParseFloat(fraction[2:4]+"."+fraction[4:], 64)
		return sign * (d + m/60 + s/3600)
	case "9101":
		return v * 180 / math.Pi
	case "9104", "1031":
		return v * units[unit].number("conv_factor") * 180 / math.Pi
	}
	log.Fatalf("angular unit %s is not known", unit)
	return 0
}

// parameter brings a parameter of a conversion to degrees, metres or parts.
func parameter(v float64, unit string) float64 {
	u := units[unit]
	switch u.text("type") {
	case "angle":
		return toDegrees(v, unit)
	case "length", "scale":
		return v * u.number("conv_factor")
	}
	log.Fatalf("unit %s is neither angle, length nor scale", unit)
	return 0
}

func write(name, columns string, lines []string) {
	slices.SortStableFunc(lines, func(a, b string) int {
		ca, _, _ := strings.Cut(a, "\t")
		cb, _, _ := strings.Cut(b, "\t")
		na, _ := strconv.Atoi(ca)
		nb, _ := strconv.Atoi(cb)
		return na - nb
	})
	text := "# " + columns + "\n" + strings.Join(lines, "\n") + "\n"
	if err := os.WriteFile("registry/"+name, []byte(text), 0o644); err != nil {
		log.Fatal(err)
	}
}

func line(cells ...string) string { return strings.Join(cells, "\t") }

func main() {
	if len(os.Args) != 2 {
		log.Fatal("name the database: make /usr/share/proj/proj.db")
	}
	db = os.Args[1]
	for _, u := range query("select code,name,type,conv_factor from unit_of_measure where auth_name='EPSG'") {
		units[u.text("code")] = u
	}
	crss()
	conversions()
	datums()
	shifts()
}

func crss() {
	used := map[string]bool{}
	var lines []string
	for _, r := range query(`select g.code, g.name, g.datum_code, a.uom_code from geodetic_crs g
		join axis a on a.coordinate_system_auth_name=g.coordinate_system_auth_name and a.coordinate_system_code=g.coordinate_system_code and a.coordinate_system_order=1
		where g.auth_name='EPSG' and g.type='geographic 2D' and (g.deprecated=0 or g.code in
		(select geodetic_crs_code from projected_crs where auth_name='EPSG' and deprecated=0))`) {
		used[r.text("uom_code")] = true
		lines = append(lines, line(r.text("code"), r.text("name"), "", r.text("datum_code"), r.text("uom_code")))
	}
	for _, r := range query(`select p.code, p.name, p.geodetic_crs_code, p.conversion_code, a.uom_code from projected_crs p
		join axis a on a.coordinate_system_auth_name=p.coordinate_system_auth_name and a.coordinate_system_code=p.coordinate_system_code and a.coordinate_system_order=1
		where p.auth_name='EPSG' and p.deprecated=0 and p.geodetic_crs_code in (select code from geodetic_crs where auth_name='EPSG' and type='geographic 2D')`) {
		used[r.text("uom_code")] = true
		lines = append(lines, line(r.text("code"), r.text("name"), r.text("geodetic_crs_code"), r.text("conversion_code"), r.text("uom_code")))
	}
	write("crs.tsv", "code, name, base CRS of projected ones, datum or conversion, unit", lines)
	lines = nil
	for code := range used {
		u := units[code]
		f := number(u.number("conv_factor"))
		if code == "9122" || code == "9102" { // exact, not as rounded in the database
			f = number(math.Pi / 180)
		}
		if code == "9003" {
			f = number(1200. / 3937)
		}
		lines = append(lines, line(code, strings.TrimSuffix(u.text("name"), " (supplier to define representation)"), f))
	}
	write("units.tsv", "code, name, metres or radians", lines)
}

func conversions() {
	var lines []string
	for _, r := range query(`select * from conversion_table where auth_name='EPSG' and code in
		(select conversion_code from projected_crs where auth_name='EPSG' and deprecated=0)`) {
		var params []string
		for i := 1; i <= 7; i++ {
			p := fmt.Sprintf("param%d_", i)
			if r[p+"code"] == nil {
				continue
			}
			params = append(params, r.text(p+"code")+"="+number(parameter(r.number(p+"value"), r.text(p+"uom_code"))))
		}
		lines = append(lines, line(r.text("code"), r.text("method_code"), strings.Join(params, " ")))
	}
	write("conversions.tsv", "code, method, parameters in degrees, metres and parts", lines)
}

func datums() {
	var lines []string
	for _, r := range query(`select d.code, d.name, e.name ename, e.semi_major_axis a, e.uom_code, e.inv_flattening rf, e.semi_minor_axis b,
		pm.longitude, pm.uom_code puom,
		(select group_concat(alt_name,'|') from alias_name n where n.table_name='geodetic_datum' and n.auth_name='EPSG' and n.code=d.code) aliases from geodetic_datum d
		join ellipsoid e on e.auth_name=d.ellipsoid_auth_name and e.code=d.ellipsoid_code
		join prime_meridian pm on pm.auth_name=d.prime_meridian_auth_name and pm.code=d.prime_meridian_code
		where d.auth_name='EPSG' and d.code in (select datum_code from geodetic_crs where auth_name='EPSG')`) {
		scale := units[r.text("uom_code")].number("conv_factor")
		f := 0.0
		if rf := r.number("rf"); rf > 0 {
			f = 1 / rf
		} else if b := r.number("b"); b > 0 {
			f = 1 - b/r.number("a")
		}
		lines = append(lines, line(r.text("code"), strings.TrimSuffix(r.text("name"), " ensemble"), r.text("ename"),
			number(r.number("a")*scale), number(f), number(toDegrees(r.number("longitude"), r.text("puom"))), r.text("aliases")))
	}
	write("datums.tsv", "code, name, ellipsoid, semi-major axis, flattening, prime meridian, other names", lines)
}

// shifts lists transformations between datums: T (translation and Helmert, position vector
// convention), R (another prime meridian of the same datum) and G (by a grid that is not here).
func shifts() {
	const area = `, min(x.west_lon) w, min(x.south_lat) s, max(x.east_lon) e, max(x.north_lat) n, max(x.west_lon>x.east_lon) turn
		from %s h join geodetic_crs a on a.auth_name='EPSG' and a.code=h.source_crs_code join geodetic_crs b on b.auth_name='EPSG' and b.code=h.target_crs_code
		left join usage u on u.object_table_name='%s' and u.object_auth_name=h.auth_name and u.object_code=h.code
		left join extent x on x.auth_name=u.extent_auth_name and x.code=u.extent_code
		where h.auth_name='EPSG' and h.deprecated=0 and h.source_crs_auth_name='EPSG' and h.target_crs_auth_name='EPSG' and %s group by h.code`
	var lines []string
	add := func(r row, kind, params string) {
		if r.text("da") == r.text("dbb") {
			return
		}
		w, e := r.number("w"), r.number("e")
		if r.text("turn") == "1" {
			w, e = -180, 180
		}
		lines = append(lines, line(r.text("da"), r.text("dbb"), r.text("code"), kind, number(r.number("accuracy")),
			number(w), number(r.number("s")), number(e), number(r.number("n")), params))
	}
	for _, r := range query("select h.*, a.datum_code da, b.datum_code dbb" + fmt.Sprintf(area, "helmert_transformation_table", "helmert_transformation",
		"h.method_code in (9603,9606,9607,1031,1032,1033,9636,1034,1061,1063)")) {
		var p [10]float64
		length := units[r.text("translation_uom_code")].number("conv_factor")
		for i, c := range []string{"tx", "ty", "tz"} {
			p[i] = r.number(c) * length
		}
		method := r.text("method_code")
		if r["rx"] != nil && method != "9603" && method != "1031" {
			turn := units[r.text("rotation_uom_code")].number("conv_factor")
			if method == "9607" || method == "1032" || method == "9636" || method == "1034" {
				turn = -turn // coordinate frame: the same angles with the other sign
			}
			for i, c := range []string{"rx", "ry", "rz"} {
				p[3+i] = r.number(c) * turn
			}
			p[6] = r.number("scale_difference") * units[r.text("scale_difference_uom_code")].number("conv_factor")
			if r["px"] != nil {
				for i, c := range []string{"px", "py", "pz"} {
					p[7+i] = r.number(c)
				}
			}
		}
		last := len(p)
		for last > 0 && p[last-1] == 0 {
			last--
		}
		var params []string
		for _, v := range p[:last] {
			params = append(params, number(v))
		}
		add(r, "T", strings.Join(params, " "))
	}
	for _, r := range query("select h.code, h.accuracy, a.datum_code da, b.datum_code dbb" + fmt.Sprintf(area, "other_transformation", "other_transformation", "h.method_code=9601")) {
		add(r, "R", "")
	}
	for _, r := range query("select h.code, h.accuracy, a.datum_code da, b.datum_code dbb" + fmt.Sprintf(area, "grid_transformation", "grid_transformation",
		"a.type='geographic 2D' and b.type='geographic 2D'")) {
		add(r, "G", "")
	}
	write("shifts.tsv", "datum, to datum, operation, kind, accuracy in metres, west, south, east, north, parameters in metres, radians and parts", lines)
}
