package delimited_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/vector/delimited"
)

func ExampleParse() {
	l, err := delimited.Parse("places.csv", []byte("name,lon,lat\nTorm,12.52,58.31\n"))
	if err != nil {
		panic(err)
	}
	fmt.Println(l.Features[0].Values[0], l.Features[0].Geometry.Points)
	// Output:
	// Torm [[12.52 58.31]]
}
