package delimited

import "testing"

func FuzzParse(f *testing.F) {
	f.Add([]byte("id;wkt\n1;POLYGON((12 58,13 58,13 59,12 58))\n"))
	f.Add([]byte("lat,lon,v\n58,12,0.5\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _ = Parse("fuzz", b) // any error will do
	})
}
