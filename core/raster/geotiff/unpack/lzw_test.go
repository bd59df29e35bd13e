package unpack

import (
	"bytes"
	"io"
	"math/rand"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/image/tiff/lzw"
)

// packedLZW packs in the way of TIFF, or in that of old files.
func packedLZW(b []byte, old, mark bool) []byte {
	var out []byte
	var buffer uint64
	have := uint(0)
	width := uint(9)
	put := func(code int) {
		if old {
			buffer |= uint64(code) << have
			have += width
			for have >= 8 {
				out = append(out, byte(buffer))
				buffer >>= 8
				have -= 8
			}
			return
		}
		buffer = buffer<<width | uint64(code)
		have += width
		for have >= 8 {
			out = append(out, byte(buffer>>(have-8)))
			have -= 8
		}
	}
	early := 1
	if old {
		early = 0
	}
	table := map[string]int{}
	next := 0
	clear := func() {
		put(lzwClear)
		table, next, width = map[string]int{}, lzwFirst, 9
	}
	code := func(s string) int {
		if len(s) == 1 {
			return int(s[0])
		}
		return table[s]
	}
	clear()
	s := ""
	for _, c := range b {
		longer := s + string([]byte{c})
		if _, ok := table[longer]; ok || len(longer) == 1 {
			s = longer
			continue
		}
		put(code(s))
		table[longer] = next
		// The decoder makes a string one code later.
		if next++; next+early > 1<<width && width < lzwBits {
			width++
		}
		if next == 1<<lzwBits-2 {
			s2 := string([]byte{c})
			put(code(s2))
			clear()
			s = ""
			continue
		}
		s = string([]byte{c})
	}
	if s != "" {
		put(code(s))
		if next++; next+early > 1<<width && width < lzwBits {
			width++
		}
	}
	if mark {
		put(lzwEnd)
	}
	if have > 0 {
		if old {
			out = append(out, byte(buffer))
		} else {
			out = append(out, byte(buffer<<(8-have)))
		}
	}
	return out
}

func TestStringsComeBack(t *testing.T) {
	var l LZW
	for name, want := range samples() {
		for _, old := range []bool{false, true} {
			for _, mark := range []bool{false, true} {
				p := packedLZW(want, old, mark)
				if !old && mark { // the packer of this test is right
					got, err := io.ReadAll(lzw.NewReader(bytes.NewReader(p), lzw.MSB, 8))
					require.NoError(t, err, name)
					require.True(t, bytes.Equal(want, got), name)
				}
				for _, more := range []int{0, 1, 100} {
					dst := make([]byte, len(want)+more)
					n, ended, err := l.Decode(dst, p)
					require.NoError(t, err, "%s %v", name, old)
					require.Equal(t, len(want), n, "%s %v", name, old)
					require.True(t, bytes.Equal(want, dst[:n]), "%s %v", name, old)
					require.Equal(t, mark, ended)
				}
				if len(want) > 0 {
					_, _, err := l.Decode(make([]byte, len(want)-1), p)
					require.ErrorIs(t, err, ErrLong)
				}
			}
		}
	}
}

// compareLZW decodes a block with the decoder and with the one of a library.
func compareLZW(t testing.TB, l *LZW, p []byte) {
	if len(p) > 1 && p[0] == 0 && p[1]&1 != 0 { // of old files
		l.Decode(make([]byte, 5000), p)
		return
	}
	dst, intact := fenced(5000)
	n, ended, err := l.Decode(dst, p)
	require.True(t, intact())
	want, theirs := io.ReadAll(io.LimitReader(lzw.NewReader(bytes.NewReader(p), lzw.MSB, 8), 5001))
	switch {
	case len(want) > len(dst):
		require.ErrorIs(t, err, ErrLong)
	case theirs == nil:
		require.NoError(t, err)
		require.True(t, ended)
		require.True(t, bytes.Equal(want, dst[:n]))
	case err == nil: // it does not end
		require.False(t, ended)
	}
}

func TestWrongStrings(t *testing.T) {
	var l LZW
	r := rand.New(rand.NewSource(3))
	for _, want := range samples() {
		p := packedLZW(want[:min(len(want), 4000)], false, true)
		for range 200 {
			bad := bytes.Clone(p)
			bad[r.Intn(len(bad))] ^= 1 << r.Intn(8)
			compareLZW(t, &l, bad)
			compareLZW(t, &l, bad[:r.Intn(len(bad))])
		}
	}
}

func FuzzLZW(f *testing.F) {
	for _, b := range samples() {
		f.Add(packedLZW(b[:min(len(b), 1000)], false, true))
		f.Add(packedLZW(b[:min(len(b), 1000)], true, true))
	}
	var l LZW
	f.Fuzz(func(t *testing.T, p []byte) { compareLZW(t, &l, p) })
}

func BenchmarkLZW(b *testing.B) {
	for _, name := range []string{"patchy", "text", "noise"} {
		want := samples()[name]
		p := packedLZW(want, false, true)
		dst := make([]byte, len(want))
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(want)))
			var l LZW
			for b.Loop() {
				if _, _, err := l.Decode(dst, p); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(name+"-library", func(b *testing.B) {
			b.SetBytes(int64(len(want)))
			for b.Loop() {
				r := lzw.NewReader(bytes.NewReader(p), lzw.MSB, 8)
				if _, err := io.ReadFull(r, dst); err != nil {
					b.Fatal(err)
				}
				r.Close()
			}
		})
	}
}
