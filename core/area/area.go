// Package area has the units of areas, and percentages.
package area

import "fmt"

// Unit is a unit of area.
type Unit struct {
	Name  string  // as in the unit column
	Label string  // for people
	M2    float64 // square metres in one
}

// Units are those that can be chosen. The acre is the international one.
var Units = []Unit{
	{"ha", "hectares", 1e4}, {"m2", "square metres", 1}, {"km2", "square kilometres", 1e6},
	{"acre", "acres", 4046.8564224}, {"mi2", "square miles", 2589988.110336},
}

// Find finds a unit by its name.
func Find(name string) (Unit, error) {
	for _, u := range Units {
		if u.Name == name {
			return u, nil
		}
	}
	return Unit{}, fmt.Errorf("the unit %q is not known: choose ha, m2, km2, acre or mi2", name)
}

// Percent is a part in percent of a whole, 0 when there is none.
func Percent(part, whole float64) float64 {
	if whole == 0 {
		return 0
	}
	return part / whole * 100
}
