package unpack

import (
	"encoding/binary"
	"math/rand"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestSumsOfDifferences(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	for n := range 300 {
		b := make([]byte, n)
		r.Read(b)
		want := append([]byte(nil), b...)
		for i := 1; i < n; i++ {
			want[i] += want[i-1]
		}
		got := append([]byte(nil), b...)
		AddUp8(got)
		require.Equal(t, want, got)
		b = b[:n&^1]
		want = append([]byte(nil), b...)
		for i := 2; i < len(b); i += 2 {
			binary.LittleEndian.PutUint16(want[i:], binary.LittleEndian.Uint16(want[i:])+binary.LittleEndian.Uint16(want[i-2:]))
		}
		got = append([]byte(nil), b...)
		AddUp16(got)
		require.Equal(t, want, got)
		b = b[:n&^3]
		want = append([]byte(nil), b...)
		for i := 4; i < len(b); i += 4 {
			binary.LittleEndian.PutUint32(want[i:], binary.LittleEndian.Uint32(want[i:])+binary.LittleEndian.Uint32(want[i-4:]))
		}
		got = append([]byte(nil), b...)
		AddUp32(got)
		require.Equal(t, want, got)
	}
}

func BenchmarkAddUp(b *testing.B) {
	row := make([]byte, 4096)
	for name, f := range map[string]func([]byte){"8": AddUp8, "16": AddUp16, "32": AddUp32, "8-plain": func(r []byte) {
		for i := 1; i < len(r); i++ {
			r[i] += r[i-1]
		}
	}} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(row)))
			for b.Loop() {
				f(row)
			}
		})
	}
}
