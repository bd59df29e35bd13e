package decimal

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatAColumnIs(t *testing.T) {
	for cells, want := range map[string]Column{
		"1 2 30":                 {Kind: Whole},
		"1  -3 0":                {Kind: Whole},
		"9223372036854775807":    {Kind: Whole},
		"9223372036854775808":    {},
		"1 9007199254740993":     {Kind: Whole},
		"1.5 9007199254740993":   {},
		"1.1 1.2 3":              {Kind: Real},
		"0.3333333333333333 2":   {Kind: Real},
		"1.10 1.20":              {Kind: Real, Decimals: 2},
		"3.50":                   {Kind: Real, Decimals: 2},
		"0.0000001 12":           {Kind: Real},
		"1.1 1.10":               {Doubtful: "1.10"},
		"3 3.50":                 {Doubtful: "3.50"},
		"12e4 7":                 {Doubtful: "12e4"},
		"1.5e-7 0.5":             {Doubtful: "1.5e-7"},
		"+5 6":                   {Doubtful: "+5"},
		"-0 1":                   {},
		"007 8":                  {},
		"1_2 12":                 {},
		"0x1F":                   {},
		"0x1p-2":                 {},
		"inf 1":                  {},
		"NaN 1":                  {},
		"W1 2":                   {},
		"":                       {},
		"0.10000000000000000555": {Kind: Real, Decimals: 20},
		"0.10000000000000000554": {Doubtful: "0.10000000000000000554"},
		"01e5":                   {},
	} {
		assert.Equal(t, want, Of(slices.Values(strings.Split(cells, " "))), cells)
	}
}

func TestParseTakesNoFormsOfGo(t *testing.T) {
	for _, bad := range []string{"5_0", "0x10", "0X1p3", "1_0.5", "", "1,5", "ten"} {
		_, err := Parse(bad)
		assert.ErrorIs(t, err, strconv.ErrSyntax, bad)
	}
	v, err := Parse("1e-7")
	require.NoError(t, err)
	assert.Equal(t, 1e-7, v)
	v, err = Parse("-inf")
	require.NoError(t, err)
	assert.True(t, math.IsInf(v, -1))
	_, err = Finite(" inf ")
	assert.Error(t, err)
	v, err = Finite(" 2.5 ")
	require.NoError(t, err)
	assert.Equal(t, 2.5, v)
}

// Whatever a column of numbers holds, each cell comes back as it was.
func FuzzOf(f *testing.F) {
	f.Add("1.10", "2.25")
	f.Add("12", "1e3")
	f.Fuzz(func(t *testing.T, a, b string) {
		c := Of(slices.Values([]string{a, b}))
		for _, cell := range []string{a, b} {
			if cell == "" || c.Kind == Text {
				continue
			}
			v, err := Parse(cell)
			require.NoError(t, err)
			decimals := -1
			if c.Decimals > 0 {
				decimals = c.Decimals
			}
			back := strconv.FormatFloat(v, 'f', decimals, 64)
			if c.Kind == Whole {
				n, err := strconv.ParseInt(cell, 10, 64)
				require.NoError(t, err)
				back = strconv.FormatInt(n, 10)
			}
			require.Equal(t, cell, back)
		}
	})
}
