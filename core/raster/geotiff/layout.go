package geotiff

import (
	"fmt"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
)

// layout is how the cells of the image lie in the file.
type layout struct {
	width, height   int
	blockW, blockH  int // of a block as it is decoded
	across, down    int
	samples, band   int
	planar          bool // one plane of blocks for each band
	tiled           bool
	compression     Compression
	predictor       uint64
	cell            raster.CellType
	offsets, counts field
	// virtual: an uncompressed strip of many rows is read as blocks of fewer rows; stripRows is
	// the height of the strips in the file.
	virtual   bool
	stripRows int
	problem   string // why the cells cannot be decoded
	bits      bool   // a mask of one bit a cell, of which eight are read as one
}

func readLayout(f *file, d *directory, band int) (*layout, error) {
	w, h := d.number(tagWidth, 0), d.number(tagHeight, 0)
	bits := d.isBitMask()
	if bits {
		w = (w + 7) / 8
	}
	if w == 0 || h == 0 || w > maxDimension || h > maxDimension {
		return nil, fmt.Errorf("it claims %d × %d cells: the file is damaged", w, h)
	}
	l := &layout{width: int(w), height: int(h), compression: Compression(d.number(tagCompression, 1)), predictor: d.number(tagPredictor, 1), bits: bits}
	samples := d.number(tagSamples, 1)
	if samples == 0 || samples > maxSamplesPerPixel {
		return nil, fmt.Errorf("it claims %d bands: the file is damaged", samples)
	}
	if band < 1 || uint64(band) > samples {
		return nil, fmt.Errorf("it has %s, and band %d was asked for", text.Count(int(samples), "band"), band)
	}
	l.samples, l.band = int(samples), band-1
	switch p := d.number(tagPlanar, 1); p {
	case 1:
	case 2:
		l.planar = samples > 1
	default:
		return nil, fmt.Errorf("its planar configuration is %d, which nobody defined", p)
	}
	if d.number(tagFillOrder, 1) != 1 {
		return nil, fmt.Errorf("its bits are stored in reverse order, which is not read: re-write it as an ordinary GeoTIFF")
	}
	l.problem = l.compression.problem()
	var err error
	if bits {
		l.cell = raster.Uint8
	} else if l.cell, err = cellType(d, l.samples); err != nil {
		return nil, err
	}
	if l.predictor != 1 && !(l.predictor == 2 && l.cell.Bytes() <= 4 && !l.cell.Floating()) && !(l.predictor == 3 && l.cell.Floating()) {
		return nil, fmt.Errorf("its predictor %d does not go with %s cells", l.predictor, l.cell)
	}
	if err := l.readBlocks(f, d); err != nil {
		return nil, err
	}
	return l, nil
}

// cellType reads bits per sample and sample format, which must be the same for all bands.
func cellType(d *directory, samples int) (raster.CellType, error) {
	bits, format := d.number(tagBits, 1), d.number(tagSampleFormat, 1)
	for i := range samples {
		if v, ok := d.at(d.fields[tagBits], uint64(i)); ok && v != bits {
			return 0, fmt.Errorf("its bands have %d and %d bits, which is not read: store the band of classes in a file of its own", bits, v)
		}
		if v, ok := d.at(d.fields[tagSampleFormat], uint64(i)); ok && v != format {
			return 0, fmt.Errorf("its bands mix whole and floating-point numbers, which is not read: store the band of classes in a file of its own")
		}
	}
	if format == 4 {
		format = 1 // undefined: taken as unsigned, as TIFF 6.0 says
	}
	for t, want := range map[raster.CellType][2]uint64{
		raster.Uint8: {8, 1}, raster.Int8: {8, 2}, raster.Uint16: {16, 1}, raster.Int16: {16, 2},
		raster.Uint32: {32, 1}, raster.Int32: {32, 2}, raster.Float32: {32, 3}, raster.Float64: {64, 3},
	} {
		if bits == want[0] && format == want[1] {
			return t, nil
		}
	}
	kind := map[uint64]string{1: "unsigned", 2: "signed", 3: "floating-point", 5: "complex", 6: "complex"}[format]
	return 0, fmt.Errorf("its cells are %s numbers of %d bits, which are not read: re-write them with 8, 16 or 32 bits", kind, bits)
}

// interleaved is how many samples of each cell lie in a block, and first where that of the band lies among their bytes.
func (l *layout) interleaved() (samples, first int) {
	if l.planar {
		return 1, 0
	}
	return l.samples, l.band * l.cell.Bytes()
}

// rows is how many rows of cells are stored in the blocks of row by: strips, unlike tiles, end with the raster.
func (l *layout) rows(by int) int {
	if l.tiled {
		return l.blockH
	}
	return min(l.blockH, l.height-by*l.blockH)
}

// readBlocks finds the blocks and checks that there are as many as the image needs.
func (l *layout) readBlocks(f *file, d *directory) error {
	samples, _ := l.interleaved()
	perCell := uint64(l.cell.Bytes() * samples)
	var bw, bh uint64
	if d.has(tagTileWidth) || d.has(tagTileHeight) {
		l.tiled = true
		bw, bh = d.number(tagTileWidth, 0), d.number(tagTileHeight, 0)
		if l.bits {
			bw = (bw + 7) / 8
		}
		l.offsets, l.counts = d.fields[tagTileOffsets], d.fields[tagTileCounts]
	} else {
		bw, bh = uint64(l.width), d.number(tagRowsPerStrip, uint64(l.height))
		bh = min(bh, uint64(l.height))
		l.offsets, l.counts = d.fields[tagStripOffsets], d.fields[tagStripCounts]
	}
	if bw == 0 || bh == 0 || bw > maxDimension || bh > maxDimension {
		return fmt.Errorf("its blocks are %d × %d cells: the file is damaged", bw, bh)
	}
	l.stripRows = int(bh)
	if !l.tiled && l.compression == Uncompressed && bw*perCell*bh > 1<<20 {
		l.virtual = true
		bh = max(1, (1<<20)/(bw*perCell))
	}
	if bw*bh > maxBlock/perCell {
		return fmt.Errorf("its blocks of %d × %d cells take %d MB each, more than the %d MB that are read at once: re-write it in tiles of 512 × 512",
			bw, bh, bw*bh/1e6*perCell, maxBlock>>20)
	}
	l.blockW, l.blockH = int(bw), int(bh)
	l.across = (l.width + l.blockW - 1) / l.blockW
	l.down = (l.height + l.blockH - 1) / l.blockH
	inFile := uint64(l.across) * ((uint64(l.height) + uint64(l.stripRows) - 1) / uint64(l.stripRows))
	if l.planar {
		inFile *= uint64(l.samples)
	}
	if l.offsets.count < inFile || l.counts.count < inFile {
		if l.counts.count == 0 && l.offsets.count >= inFile && l.compression == Uncompressed && !l.tiled {
			return nil // some old writers leave out the sizes of uncompressed strips
		}
		return fmt.Errorf("%d × %d cells need %d blocks, but it lists %d: the file is damaged", l.width, l.height, inFile, min(l.offsets.count, l.counts.count))
	}
	reach := uint64(0)
	for i := range inFile {
		at, _ := d.at(l.offsets, i)
		n, _ := d.at(l.counts, i)
		reach = max(reach, satAdd(at, n))
	}
	if reach > f.size {
		return fmt.Errorf("the file ends inside its cells (it has %d bytes, %d are needed): it was cut short, copy it again", f.size, reach)
	}
	return nil
}

// describe says for people how the file is laid out.
func (l *layout) describe(big bool) string {
	name := "GeoTIFF"
	if big {
		name = "BigTIFF"
	}
	blocks := fmt.Sprintf("tiles of %d × %d", l.blockW, l.blockH)
	if !l.tiled {
		blocks = "strips of " + text.Count(l.stripRows, "row")
	}
	return fmt.Sprintf("%s, %v, %s", name, l.compression, blocks)
}
