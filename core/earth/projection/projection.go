// Package projection maps an ellipsoid to the plane: one file for each method.
//
// To add a method, write a file with a [Method] (its names, its parameters and what makes it of them) and a [Projection]
// (forward, inverse and areal scale), and add the method to the list in method.go. Registry, CRS texts and GeoTIFF keys find
// it from there.
//
// Angles are in radians and lengths in metres, except in [Params], which are as files state them: angles in degrees.
// Longitudes count from the prime meridian of the CRS. Projections do not change once they are made, and may be used from
// several goroutines at once.
package projection

// Projection maps geographic coordinates on one ellipsoid to the plane.
type Projection interface {
	// Forward maps longitude and latitude (radians) to easting and northing (metres). It
	// reports false where the projection is not defined or no longer accurate.
	Forward(lon, lat float64) (x, y float64, ok bool)
	// Inverse is the reverse of Forward.
	Inverse(x, y float64) (lon, lat float64, ok bool)
	// ArealScale is planar area divided by area on the ellipsoid at a point.
	ArealScale(lon, lat float64) float64
	// Domain is the ground that is mapped one to one. Longitudes count from the prime meridian of the CRS.
	Domain() Domain
	// Traits says what cell areas may rely on.
	Traits() Traits
}

// Traits are the properties of a projection that decide how cell areas vary over a grid.
type Traits struct {
	Method    string // the name of the method in the trade
	EqualArea bool   // areal scale is 1 everywhere
	Conformal bool   // the areal scale is the square of the linear scale
	ByRow     bool   // areal scale depends on the northing only
	Mirrored  bool   // x counts to the west and y to the north: the plane is a mirror image of the ground
}

// Parallels are maps on which each parallel is a straight line of one scale: at a height, x gives the longitude, also
// beyond the rim of the map.
type Parallels interface {
	// Unbounded is Inverse with the longitude from the central meridian, which may be more than half a turn.
	Unbounded(x, y float64) (dlon, lat float64, ok bool)
}
