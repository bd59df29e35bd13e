package open

import (
	"os"
	"strconv"
	"strings"
)

// Split divides FILE#BAND into the path and the number of the band, counted from 1. What names a file as it is, or has no number
// behind its last #, is a path whose band is 1.
func Split(name string) (path string, band int) {
	if i := strings.LastIndexByte(name, '#'); i > 0 {
		if n, err := strconv.Atoi(name[i+1:]); err == nil {
			if _, err := os.Stat(name); err != nil {
				return name[:i], n
			}
		}
	}
	return name, 1
}
