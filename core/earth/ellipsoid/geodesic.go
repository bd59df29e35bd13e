package ellipsoid

import "math"

// Direct gives the point that lies at a distance in metres along the geodesic that leaves lat, lon with an
// azimuth, all in radians: T. Vincenty, Direct and inverse solutions of geodesics on the ellipsoid, Survey
// Review 23 (1975). Its series is good to a tenth of a millimetre over any distance.
func (e Ellipsoid) Direct(lon, lat, azimuth, distance float64) (lon2, lat2 float64) {
	b := e.B()
	s1, c1 := math.Sincos(azimuth)
	u1 := math.Atan((1 - e.F) * math.Tan(lat))
	su, cu := math.Sincos(u1)
	sigma1 := math.Atan2(math.Tan(u1), c1)
	sinAlpha := cu * s1
	cos2Alpha := 1 - sinAlpha*sinAlpha
	u2 := cos2Alpha * (e.A*e.A - b*b) / (b * b)
	a := 1 + u2/16384*(4096+u2*(-768+u2*(320-175*u2)))
	k := u2 / 1024 * (256 + u2*(-128+u2*(74-47*u2)))
	sigma := distance / (b * a)
	var s, c, cm float64
	for range 100 {
		cm = math.Cos(2*sigma1 + sigma)
		s, c = math.Sincos(sigma)
		delta := k * s * (cm + k/4*(c*(2*cm*cm-1)-k/6*cm*(4*s*s-3)*(4*cm*cm-3)))
		next := distance/(b*a) + delta
		if math.Abs(next-sigma) < 1e-15 {
			sigma = next
			break
		}
		sigma = next
	}
	cm = math.Cos(2*sigma1 + sigma)
	s, c = math.Sincos(sigma)
	lat2 = math.Atan2(su*c+cu*s*c1, (1-e.F)*math.Hypot(sinAlpha, su*s-cu*c*c1))
	lambda := math.Atan2(s*s1, cu*c-su*s*c1)
	t := e.F / 16 * cos2Alpha * (4 + e.F*(4-3*cos2Alpha))
	l := lambda - (1-t)*e.F*sinAlpha*(sigma+t*s*(cm+t*c*(2*cm*cm-1)))
	return lon + l, lat2
}
