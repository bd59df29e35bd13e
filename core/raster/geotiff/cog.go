package geotiff

import (
	"fmt"
	"io"
)

// CheckCOG says what keeps a file from being laid out as a cloud-optimised GeoTIFF (OGC 21-026): tiles
// throughout; overviews when the image is larger than a tile or two, each smaller than the one before; all directories
// ahead of the cells; and the cells of smaller images ahead of those of larger ones. It returns nothing
// when nothing does.
func CheckCOG(r io.ReaderAt, size int64) ([]string, error) {
	f, offset, err := openFile(r, size)
	if err != nil {
		return nil, err
	}
	var problems []string
	type image struct {
		w, h             uint64
		first, last, dir uint64
	}
	var images []image
	seen := map[uint64]bool{}
	for offset != 0 && !seen[offset] && len(seen) < maxDirectories {
		seen[offset] = true
		d, next, err := f.directory(offset)
		if err != nil {
			return nil, err
		}
		m := image{w: d.number(tagWidth, 0), h: d.number(tagHeight, 0), dir: offset}
		if !d.has(tagTileWidth) {
			problems = append(problems, fmt.Sprintf("the image of %d × %d cells is in strips, not in tiles", m.w, m.h))
		}
		list := d.fields[tagTileOffsets]
		if !d.has(tagTileOffsets) {
			list = d.fields[tagStripOffsets]
		}
		for i := range list.count {
			at, _ := d.at(list, i)
			if at == 0 {
				continue
			}
			if m.first == 0 || at < m.first {
				m.first = at
			}
			m.last = max(m.last, at)
		}
		if len(images) > 0 {
			before := images[len(images)-1]
			if d.number(tagSubfile, 0)&1 == 0 {
				problems = append(problems, fmt.Sprintf("it holds another image of %d × %d cells that is not an overview", m.w, m.h))
			}
			if m.w >= before.w && m.h >= before.h {
				problems = append(problems, fmt.Sprintf("the overview of %d × %d cells does not get smaller", m.w, m.h))
			}
			if m.first != 0 && before.first != 0 && m.last > before.first {
				problems = append(problems, fmt.Sprintf("cells of the overview of %d × %d lie behind those of the image before it", m.w, m.h))
			}
		}
		images = append(images, m)
		offset = next
	}
	for _, m := range images {
		for _, o := range images {
			if o.first != 0 && m.dir > o.first {
				problems = append(problems, "a directory lies behind cells")
				return problems, nil
			}
		}
	}
	if len(images) == 1 && (images[0].w > 1024 || images[0].h > 1024) {
		problems = append(problems, "it has no overviews")
	}
	return problems, nil
}
