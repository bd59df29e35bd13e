package spread

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// short takes so many bytes.
type short struct {
	bytes.Buffer
	room int
}

var errFull = errors.New("full")

func (s *short) Write(b []byte) (int, error) {
	if s.Len()+len(b) > s.room {
		return 0, errFull
	}
	return s.Buffer.Write(b)
}

func TestInOrder(t *testing.T) {
	number := func() func(*bytes.Buffer, int) error {
		return func(out *bytes.Buffer, i int) error {
			if i < 0 {
				return errors.New("negative")
			}
			out.WriteString(strings.Repeat("x", i%5*1000)) // they do not take equally long
			_, err := fmt.Fprintln(out, i)
			return err
		}
	}
	var b, want bytes.Buffer
	p := NewInOrder(&b, number)
	for i := range 1000 {
		require.True(t, p.Add(i))
		require.NoError(t, number()(&want, i))
		if i%300 == 0 {
			require.NoError(t, p.Wait())
			require.Equal(t, want.Len(), b.Len())
		}
	}
	require.NoError(t, p.Close())
	assert.True(t, want.String() == b.String())

	for _, c := range []struct {
		bad  int
		room int
		want string
	}{{-1, 1 << 30, "negative"}, {1, 100000, "full"}} {
		full := &short{room: c.room}
		p = NewInOrder(full, number)
		n := 0
		for p.Add(1) {
			if n++; n == 500 {
				p.Add(c.bad)
			}
			if n == 1<<22 {
				break
			}
		}
		assert.Less(t, n, 1<<22, c.want)
		assert.ErrorContains(t, p.Wait(), c.want)
		assert.ErrorContains(t, p.Close(), c.want)
	}
	require.NoError(t, NewInOrder(&b, number).Close())
}
