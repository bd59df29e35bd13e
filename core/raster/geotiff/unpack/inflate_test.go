package unpack

import (
	"bytes"
	"compress/flate"
	"compress/zlib"
	"errors"

	"hash/adler32"
	"io"
	"math/rand"
	"testing"

	kzlib "github.com/klauspost/compress/zlib"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// samples are contents of many kinds.
func samples() map[string][]byte {
	r := rand.New(rand.NewSource(1))
	noise := make([]byte, 100000)
	r.Read(noise)
	patchy := make([]byte, 512*512) // as a tile of classes is
	for i := range patchy {
		if i%512 > 0 && r.Intn(20) > 0 {
			patchy[i] = patchy[i-1]
		} else if i >= 512 && r.Intn(5) > 0 {
			patchy[i] = patchy[i-512]
		} else {
			patchy[i] = byte(1 + r.Intn(9))
		}
	}
	text := bytes.Repeat([]byte("the quick brown fox jumps over the lazy dog; "), 4000)
	skew := make([]byte, 70000) // codes of up to 15 bits
	for i := range skew {
		for k := 0; k < 40 && r.Intn(2) > 0; k++ {
			skew[i]++
		}
	}
	out := map[string][]byte{"noise": noise, "patchy": patchy, "text": text, "zeros": make([]byte, 300000), "skew": skew, "nothing": {}, "one": {7}, "few": []byte("abcabcabcabcabc")}
	for d := 1; d < 40; d++ { // matches of every short distance
		b := make([]byte, 3000)
		for i := range b {
			if b[i] = byte(r.Intn(256)); i >= d && i > 100 {
				b[i] = b[i-d]
			}
		}
		out["distance "+string(rune('0'+d/10))+string(rune('0'+d%10))] = b
	}
	return out
}

func packed(t testing.TB, b []byte, level int) []byte {
	var out bytes.Buffer
	w, err := zlib.NewWriterLevel(&out, level)
	require.NoError(t, err)
	_, err = w.Write(b)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestWhatWasPackedComesBack(t *testing.T) {
	var d Inflater
	for name, want := range samples() {
		for _, level := range []int{flate.HuffmanOnly, 0, 1, 6, 9} {
			p := packed(t, want, level)
			for _, more := range []int{0, 1, 500} { // room that is left over
				dst := make([]byte, len(want)+more)
				n, err := d.Zlib(dst, p)
				require.NoError(t, err, "%s %d", name, level)
				require.Equal(t, len(want), n)
				require.True(t, bytes.Equal(want, dst[:n]), "%s %d", name, level)
			}
			n, err := d.Zlib(make([]byte, len(want)), append(bytes.Clone(p), "rest"...))
			require.NoError(t, err)
			require.Equal(t, len(want), n)
			if len(want) > 0 {
				_, err = d.Zlib(make([]byte, len(want)-1), p)
				require.ErrorIs(t, err, ErrLong, "%s %d", name, level)
			}
		}
	}
}

// A stream that is cut off anywhere is an error, and so is one with another checksum.
func TestCutStreams(t *testing.T) {
	var d Inflater
	for name, want := range samples() {
		if len(want) > 5000 {
			want = want[:5000]
		}
		p := packed(t, want, 6)
		dst := make([]byte, len(want))
		for i := range p {
			_, err := d.Zlib(dst, p[:i])
			require.ErrorIs(t, err, io.ErrUnexpectedEOF, "%s %d of %d", name, i, len(p))
		}
		p[len(p)-1] ^= 1
		_, err := d.Zlib(dst, p)
		require.ErrorIs(t, err, ErrChecksum)
	}
}

// Streams that are wrong are rejected as the standard library rejects them.
func TestWrongStreams(t *testing.T) {
	var d Inflater
	r := rand.New(rand.NewSource(2))
	for name, want := range samples() {
		if len(want) > 20000 {
			want = want[:20000]
		}
		p := packed(t, want, 6)
		for range 300 {
			bad := bytes.Clone(p)
			for range 1 + r.Intn(3) {
				bad[r.Intn(len(bad))] ^= 1 << r.Intn(8)
			}
			compare(t, &d, name, bad, len(want)+1000)
		}
	}
}

// compare decodes a stream with the decoder and with the standard library.
func compare(t testing.TB, d *Inflater, name string, p []byte, room int) {
	dst, intact := fenced(room)
	n, err := d.Zlib(dst, p)
	require.True(t, intact(), "%s: something was written behind the room", name)
	z, theirs := zlib.NewReader(bytes.NewReader(p))
	var want []byte
	if theirs == nil {
		want, theirs = io.ReadAll(io.LimitReader(z, int64(room)+1))
	}
	if len(want) > room {
		tooLong(t, err, z)
		return
	}
	require.Equal(t, theirs == nil, err == nil, "%s: %v, and the standard library says %v", name, err, theirs)
	if err == nil {
		require.True(t, bytes.Equal(want, dst[:n]), name)
	}
}

// tooLong checks the error of a stream that holds more than there is room for. One that has a block without an end is damaged, which is known before it is decoded;
// the standard library finds it out when the stream has ended.
func tooLong(t testing.TB, err error, rest io.Reader) {
	if errors.Is(err, ErrLong) {
		return
	}
	require.ErrorIs(t, err, ErrCorrupt)
	_, theirs := io.Copy(io.Discard, rest)
	require.Error(t, theirs)
}

// fenced is room for so many bytes, and whether those around it are as they were.
func fenced(room int) (dst []byte, intact func() bool) {
	const fence = 400
	all := bytes.Repeat([]byte{0xa5}, room+2*fence)
	side := bytes.Repeat([]byte{0xa5}, fence)
	return all[fence : fence+room : fence+room], func() bool { return bytes.Equal(all[:fence], side) && bytes.Equal(all[fence+room:], side) }
}

func TestChecksums(t *testing.T) {
	for name, b := range samples() {
		for n := 0; n < min(len(b), 200); n++ {
			require.Equal(t, adler32.Checksum(b[:n]), Adler32(b[:n]), name)
		}
		require.Equal(t, adler32.Checksum(b), Adler32(b), name)
	}
	full := bytes.Repeat([]byte{255}, 1<<20)
	assert.Equal(t, adler32.Checksum(full), Adler32(full))
	assert.Equal(t, uint32(1), Adler32(nil))
}

func FuzzZlib(f *testing.F) {
	for _, b := range samples() {
		f.Add(packed(f, b[:min(len(b), 2000)], 6))
		f.Add(packed(f, b[:min(len(b), 500)], flate.HuffmanOnly))
	}
	var d Inflater
	f.Fuzz(func(t *testing.T, p []byte) {
		compare(t, &d, "fuzz", p, 10000)
		if len(p) > 2 { // the body with a right head and no right checksum
			var raw Inflater
			dst, intact := fenced(5000)
			n, _, err := raw.Raw(dst, p[2:])
			require.True(t, intact())
			z := flate.NewReader(bytes.NewReader(p[2:]))
			want, theirs := io.ReadAll(io.LimitReader(z, 5001))
			if len(want) > len(dst) {
				tooLong(t, err, z)
				return
			}
			require.Equal(t, theirs == nil, err == nil, "%v, and the standard library says %v", err, theirs)
			if err == nil {
				require.True(t, bytes.Equal(want, dst[:n]))
			}
		}
	})
}

func BenchmarkZlib(b *testing.B) {
	for _, name := range []string{"patchy", "text", "noise", "zeros"} {
		want := samples()[name]
		p := packed(b, want, 6)
		dst := make([]byte, len(want))
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(want)))
			var d Inflater
			for b.Loop() {
				if _, err := d.Zlib(dst, p); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(name+"-library", func(b *testing.B) {
			b.SetBytes(int64(len(want)))
			var in bytes.Reader
			in.Reset(p)
			z, err := kzlib.NewReader(&in)
			require.NoError(b, err)
			for b.Loop() {
				in.Reset(p)
				if err := z.(kzlib.Resetter).Reset(&in, nil); err != nil {
					b.Fatal(err)
				}
				if _, err := io.ReadFull(z, dst); err != nil {
					b.Fatal(err)
				}
				io.Copy(io.Discard, z)
			}
		})
	}
}
