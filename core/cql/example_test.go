package cql_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/cql"
)

func ExampleParseCondition() {
	e, err := cql.ParseCondition("district = 'North' AND area_km2 > 5")
	if err != nil {
		panic(err)
	}
	ward := map[string]any{"district": "North", "area_km2": 7.5}
	holds, err := e.Holds(func(name string) any { return ward[name] })
	fmt.Println(e.Names(), holds, err)
	// Output:
	// [district area_km2] true <nil>
}

func ExampleParseNumber() {
	e, err := cql.ParseNumber("(nir - red) / (nir + red)")
	if err != nil {
		panic(err)
	}
	p, err := e.Compile(e.Names(), []bool{false, false}, cql.Number)
	fmt.Println(e.Names(), p != nil, err)
	// Output:
	// [nir red] true <nil>
}
