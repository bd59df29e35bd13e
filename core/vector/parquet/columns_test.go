package parquet

import (
	"bytes"
	"testing"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/compress"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/vector"
)

// Identifiers, dates and decimals are what people write for them, under every compression that is read.
func TestColumnsOfOtherWriters(t *testing.T) {
	type row struct {
		ID       [16]byte `parquet:"id,uuid"`
		Day      int32    `parquet:"day,date"`
		Share    int64    `parquet:"share,decimal(2:18)"`
		Geometry []byte   `parquet:"geometry"`
	}
	square := vector.Geometry{Type: "Polygon", Polygons: []vector.Polygon{{{{1, 2}, {3, 2}, {3, 4}, {1, 2}}}}}
	outline := square.Geom(false).AppendWKB(nil)
	for _, codec := range []compress.Codec{&parquet.Uncompressed, &parquet.Snappy, &parquet.Gzip, &parquet.Zstd, &parquet.Brotli, &parquet.Lz4Raw} {
		var b bytes.Buffer
		w := parquet.NewGenericWriter[row](&b, parquet.Compression(codec), parquet.KeyValueMetadata("geo", `{"version":"1.1.0","primary_column":"geometry","columns":{"geometry":{"encoding":"WKB","geometry_types":["Polygon"]}}}`))
		rows := make([]row, 500)
		for i := range rows {
			rows[i] = row{[16]byte{0x12, 0x3e, 0x45, 0x67, 0xe8, 0x9b, 0x12, 0xd3, 0xa4, 0x56, 0x42, 0x66, 0x14, 0x17, 0x40, byte(i)}, 19000 + int32(i%2), int64(i) * 125, outline}
		}
		_, err := w.Write(rows)
		require.NoError(t, err, codec.String())
		require.NoError(t, w.Close())
		l := &vector.Layer{}
		if codec == &parquet.Lz4Raw {
			assert.ErrorContains(t, Decode(bytes.NewReader(b.Bytes()), int64(b.Len()), l), "LZ4_RAW, which is not read")
			continue
		}
		require.NoError(t, Decode(bytes.NewReader(b.Bytes()), int64(b.Len()), l), codec.String())
		require.Len(t, l.Features, 500)
		assert.Equal(t, []any{"123e4567-e89b-12d3-a456-426614174001", "2022-01-09", 1.25}, l.Features[1].Values, codec.String())
	}
}

func TestDecimal(t *testing.T) {
	assert.Equal(t, 12.34, decimal([]byte{0x04, 0xd2}, 2))
	assert.Equal(t, -12.34, decimal([]byte{0xff, 0xfb, 0x2e}, 2))
	assert.Equal(t, 0.0, decimal(nil, 2))
}
