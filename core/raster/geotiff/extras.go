package geotiff

import (
	"encoding/xml"
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
)

// isBitMask reports whether a directory is that of a mask of one bit a cell (TIFF 6.0, p. 37).
func (d *directory) isBitMask() bool {
	return d.number(tagSubfile, 0)&4 != 0 && d.number(tagBits, 1) == 1 && d.number(tagSamples, 1) == 1
}

// alpha is the band that says how transparent cells are (ExtraSamples 1 or 2, TIFF 6.0, p. 31), 0 for none.
func (d *directory) alpha(samples int) int {
	f := d.fields[tagExtraSamples]
	for i := range f.count {
		v, ok := d.at(f, i)
		if band := samples - int(f.count) + int(i) + 1; ok && (v == 1 || v == 2) && band >= 1 && samples > 1 {
			return band
		}
	}
	return 0
}

// scaling is what numbers of a band are to be multiplied with, and what is then added, by the usual metadata tag.
func (d *directory) scaling(band int) (scale, offset float64, err error) {
	scale = 1
	text := strings.TrimRight(d.text(tagMetadata), "\x00")
	if text == "" {
		return scale, offset, nil
	}
	var meta struct {
		Items []struct {
			Sample string `xml:"sample,attr"`
			Role   string `xml:"role,attr"`
			Value  string `xml:",chardata"`
		} `xml:"Item"`
	}
	if err := xml.Unmarshal([]byte(text), &meta); err != nil {
		return scale, offset, fmt.Errorf("its metadata tag is not understood (%v), so that a scale which it may state is not used", err)
	}
	for _, i := range meta.Items {
		if i.Sample != strconv.Itoa(band-1) || i.Role != "scale" && i.Role != "offset" {
			continue
		}
		v, err := decimal.Parse(strings.TrimSpace(i.Value))
		if err != nil || math.IsNaN(v) || math.IsInf(v, 0) || i.Role == "scale" && v == 0 {
			return 1, 0, fmt.Errorf("its %s %q is not a number that could be one, and is not used", i.Role, i.Value)
		}
		if i.Role == "scale" {
			scale = v
		} else {
			offset = v
		}
	}
	return scale, offset, nil
}
