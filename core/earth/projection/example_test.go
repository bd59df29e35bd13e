package projection_test

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/earth/projection"
)

// The centre of a projection lies at its false easting and northing.
func Example() {
	m := projection.ByCode(9820)
	p, err := m.New(ellipsoid.GRS80, projection.Params{projection.Lon0: 10, projection.Lat0: 52, projection.East: 4321000, projection.North: 3210000})
	if err != nil {
		panic(err)
	}
	const degree = math.Pi / 180
	x, y, ok := p.Forward(10*degree, 52*degree)
	fmt.Println(m.Name, x, y, ok, p.ArealScale(12*degree, 50*degree))
	// Output:
	// Lambert azimuthal equal area 4.321e+06 3.21e+06 true 1
}
