// Package account turns tallies into statements that balance: the composition of zones, and what
// changed in them between epochs.
//
// Statements are made from the exact integers of a tally, so that what must balance does so
// exactly; numbers become floating-point only in the rows that are handed over.
package account

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

// FindUnit finds a unit by its name.
func FindUnit(name string) (Unit, error) {
	for _, u := range Units {
		if u.Name == name {
			return u, nil
		}
	}
	return Unit{}, fmt.Errorf("the unit %q is not known: choose ha, m2, km2, acre or mi2", name)
}
