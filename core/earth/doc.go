// Package earth knows where a point is and how much true ground a cell covers.
//
// It has four ideas, one to a file or a few files each:
//
//   - an [ellipsoid.Ellipsoid], with the closed-form area between parallels;
//   - a [projection.Projection]: forward, inverse and true areal scale;
//   - a [CRS], which ties an ellipsoid and a projection to coordinates in a unit;
//   - the area of an outline whose edges are straight in its own CRS ([OutlineArea]).
//
// Angles inside the package are radians, lengths metres, areas square metres.
// Coordinates of a CRS are in the unit of the CRS: degrees with x the longitude and y the
// latitude for geographic CRSs, whatever the axis order of the authority, and metres (or
// the CRS's own linear unit) with x the easting and y the northing for projected ones.
package earth
