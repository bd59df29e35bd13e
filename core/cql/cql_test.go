package cql

import (
	"errors"
	"math"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var river = map[string]any{
	"name": "Orrin", "district": "North", "area_km2": 6.5, "people": 1200.0, "coastal": false, "note": nil, "odd name": "x", "eo:cloud_cover": 0.1,
}

func get(name string) any { return river[name] }

// Conditions of every operator, among them the forms of the standard's own examples.
func TestConditions(t *testing.T) {
	for text, want := range map[string]bool{
		"district = 'North' AND area_km2 > 5":               true,
		"district <> 'North'":                               false,
		"area_km2 <= 6.5 AND area_km2 >= 6.5":               true,
		"area_km2 < 6.5 OR people = 1.2e3":                  true,
		"NOT coastal":                                       true,
		"coastal = FALSE":                                   true,
		"name LIKE 'Or%'":                                   true,
		"name LIKE '_rri_'":                                 true,
		"name NOT LIKE '%x%'":                               true,
		"CASEI(name) LIKE CASEI('ORR%')":                    true,
		"CASEI(name) IN (CASEI('oRRIN'), CASEI('straße'))":  true,
		"people BETWEEN 1000 AND 1500":                      true,
		"people NOT BETWEEN 1000 AND 1500":                  false,
		"people IN (1, 1200)":                               true,
		"district NOT IN ('South','West')":                  true,
		"note IS NULL":                                      true,
		"note IS NOT NULL":                                  false,
		"missing IS NULL":                                   true,
		"note = 'x'":                                        false,
		"NOT (note = 'x')":                                  false, // null either way
		"note = 'x' OR TRUE":                                true,
		"note = 'x' AND FALSE IS NULL":                      false,
		"people / area_km2 > 184 AND people/area_km2 < 185": true,
		"people % 7 = 3":                                    true,
		"people div 7 = 171":                                true,
		"2 ^ 3 ^ 2 = 512":                                   true,
		"-2 ^ 2 = -4":                                       true,
		"1 + 2 * 3 = 7":                                     true,
		"(1 + 2) * 3 = 9":                                   true,
		"10 - 4 - 3 = 3":                                    true,
		"people / 0 IS NULL":                                true,
		"\"odd name\" = 'x'":                                true,
		"eo:cloud_cover BETWEEN 0.1 AND 0.2":                true,
		"name = 'it''s'":                                    false,
		"not coastal and district='North'":                  true,
		"TRUE OR FALSE AND FALSE":                           true,
	} {
		e, err := ParseCondition(text)
		require.NoError(t, err, text)
		got, err := e.Holds(get)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
}

// Whole numbers beyond 2^53 are compared exactly, and differ from their neighbours.
func TestLargeWholeNumbers(t *testing.T) {
	for text, want := range map[string][2]bool{ // for 9007199254740993 and for 9223372036854775807
		"id = 9007199254740993":                              {true, false},
		"id = 9007199254740992":                              {false, false},
		"id IN (9007199254740992, 9223372036854775806)":      {false, false},
		"id < 9007199254740994 AND id > 9007199254740992":    {true, false},
		"id > 9223372036854775806":                           {false, true},
		"id < 9223372036854775808":                           {true, true},
		"-id = -9007199254740992 OR id > 9.1e15":             {true, true}, // arithmetic is that of float64
		"id BETWEEN 9007199254740993 AND 1e300 AND id > 0.5": {true, true},
	} {
		e, err := ParseCondition(text)
		require.NoError(t, err, text)
		for i, id := range []int64{9007199254740993, 9223372036854775807} {
			got, err := e.Holds(func(string) any { return id })
			require.NoError(t, err, text)
			assert.Equal(t, want[i], got, "%s of %d", text, id)
		}
	}
}

func TestWhatIsNotTakenIsMarked(t *testing.T) {
	for text, want := range map[string][2]string{ // what, and the text before the mark
		"":                               {"nothing to evaluate", ""},
		"a = ":                           {"the end stands where a name", "a = "},
		"a == 1":                         {`"=" stands where`, "a ="},
		"a != 1":                         {"write <> for not equal", "a "},
		"a = 'x":                         {"does not end", "a = "},
		"S_INTERSECTS(geom, POINT(1 2))": {"no function but CASEI", ""},
		"T_AFTER(d, DATE('2020-01-01'))": {"no function but CASEI", ""},
		"d > DATE('2020-01-01')":         {"is part of CQL2 that is not supported", "d > "},
		"ACCENTI(name) = 'x'":            {"is part of CQL2 that is not supported", ""},
		"a + 'x' > 1":                    {"this is a text where a number is needed", "a + "},
		"a > 1 AND 5":                    {"this is a number where a condition is needed", "a > 1 AND "},
		"a IN (1, 'x')":                  {"this is a text, which is compared with a number", "a IN (1, "},
		"a BETWEEN 1 OR 2":               {"stands where AND is needed", "a BETWEEN 1 "},
		"(a = 1":                         {`stands where ")" is needed`, "(a = 1"},
		"a = 1 b":                        {`"b" is not expected here`, "a = 1 "},
		"a NOT 5":                        {"BETWEEN, IN or LIKE", "a NOT "},
		"1 + 2":                          {"this is a number, but a condition is needed", "1 "},
		strings.Repeat("(", 300) + "a":   {"nested too deep", ""},
		"ä = 'ö' AND §":                  {"is not part of the language", "ä = 'ö' AND "},
	} {
		_, err := ParseCondition(text)
		var s *SyntaxError
		require.ErrorAs(t, err, &s, text)
		assert.Contains(t, s.What, want[0], text)
		if want[1] != "" {
			assert.Equal(t, want[1], text[:s.At], text)
			lines := strings.Split(s.Error(), "\n")
			assert.Equal(t, 2+utf8.RuneCountInString(want[1]), strings.IndexByte(lines[2], '^'), text)
		}
	}
	e, err := ParseCondition("slop > 3")
	require.NoError(t, err)
	assert.ErrorContains(t, e.Known([]string{"slope", "Slop"}, "layer"), `there is no layer "slop" (there are: slope, Slop; did you mean "Slop"?)`)
	e, err = ParseCondition("name > 3")
	require.NoError(t, err)
	_, err = e.Holds(get)
	assert.ErrorContains(t, err, "compared with")
}

// A program over blocks gives what evaluation value by value gives, null and all.
func TestBlocksAgreeWithRows(t *testing.T) {
	values := []float64{math.NaN(), -2, -1, 0, 0.5, 1, 2, 3, 41, 1e200, -1e308, 1e-300}
	var a, b []float64
	for _, x := range values {
		for _, y := range values {
			a, b = append(a, x), append(b, y)
		}
	}
	for _, text := range []string{"a > 1", "a = b", "a <> 2", "a <= b", "a >= b AND b > 0", "a < 1 OR b < 1", "NOT (a > b)", "a IN (41, 2, 0)", "a NOT IN (1)", "a BETWEEN 0 AND b",
		"a IS NULL", "a / b > 1", "a % b = 0", "a div b = 1", "(a + b) * 2 - -a > 3", "a ^ 2 = 4", "TRUE AND a > 0", "a < b", "a > b OR a IS NULL", "a * b > 5", "a * a IS NULL", "a * b * b < 1", "a / b IS NULL", "a - b * a <> 0", "a ^ b > 0", "a + a - a = a"} {
		e, err := ParseCondition(text)
		require.NoError(t, err, text)
		p, err := e.Compile([]string{"a", "b"}, nil, e.root.kind)
		require.NoError(t, err, text)
		got := p.Truths([][]float64{a, b})
		for i := range a {
			v, err := e.value(e.root, func(name string) any {
				x := map[string]float64{"a": a[i], "b": b[i]}[name]
				if math.IsNaN(x) {
					return nil
				}
				return x
			})
			require.NoError(t, err)
			want := Unknown
			if v != nil {
				want = truthOf(v.(bool))
			}
			assert.Equal(t, want, got[i], "%s with a = %g, b = %g", text, a[i], b[i])
		}
	}
	e, err := ParseNumber("(a - b) / (a + b)")
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, e.Names())
	assert.Equal(t, []string{"a", "b"}, e.Arithmetic())
	p, err := e.Compile([]string{"b", "a"}, nil, e.root.kind)
	require.NoError(t, err)
	got := p.Numbers([][]float64{{3, 0, 1, math.NaN()}, {5, 0, -1, 2}})
	assert.Equal(t, 0.25, got[0])
	for _, v := range got[1:] {
		assert.True(t, math.IsNaN(v))
	}
	assert.EqualValues(t, 2, p.ZeroDivisions())
	e, err = ParseNumber("a * b")
	require.NoError(t, err)
	p, err = e.Compile([]string{"a", "b"}, nil, e.root.kind)
	require.NoError(t, err)
	got = p.Numbers([][]float64{{1e200, 1, math.Inf(1)}, {1e200, 2, 1}})
	assert.True(t, math.IsNaN(got[0]) && got[1] == 2 && math.IsNaN(got[2]))
	assert.EqualValues(t, 1, p.Overflows())
	// Cells of single precision are compared with limits of single precision.
	for text, want := range map[string]uint8{"a < 0.7": False, "a >= 0.7": True, "a = 0.7": True, "0.7 = a": True, "0.7 > a": False, "a BETWEEN 0.7 AND 0.7": True,
		"a IN (0.1, 0.7)": True, "-a = -0.7": False, "b < 0.7": True} {
		e, err = ParseCondition(text)
		require.NoError(t, err)
		p, err = e.Compile([]string{"a", "b"}, []bool{true, false}, e.root.kind)
		require.NoError(t, err)
		assert.Equal(t, want, p.Truths([][]float64{{float64(float32(0.7))}, {0.6999999}})[0], text)
	}
	e, err = ParseCondition("name = 'x'")
	require.NoError(t, err)
	_, err = e.Compile([]string{"name"}, nil, e.root.kind)
	var s *SyntaxError
	assert.True(t, errors.As(err, &s))
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{"district = 'North' AND area_km2 > 5", "(nir - red) / (nir + red)", "a NOT BETWEEN 1 AND 2 OR CASEI(b) LIKE 'x%' AND c IS NOT NULL", "NOT \"x y\" IN (1,2e3,-.5)"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		e, err := Parse(text)
		if err != nil {
			_ = err.Error()
			return
		}
		_, _ = e.Holds(get)
		if p, err := e.Compile(e.Names(), nil, e.root.kind); err == nil && len(e.Names()) > 0 {
			in := make([][]float64, len(e.Names()))
			for i := range in {
				in[i] = []float64{1, 0, math.NaN()}
			}
			if e.Kind() == Truth {
				p.Truths(in)
			} else {
				p.Numbers(in)
			}
		}
	})
}

// BenchmarkIndex gives the ratio of a compiled expression to the same loop written by hand.
func BenchmarkIndex(b *testing.B) {
	nir, red, out := make([]float64, BlockSize), make([]float64, BlockSize), make([]float64, BlockSize)
	for i := range nir {
		nir[i], red[i] = float64(i%251+20), float64(i%97+1)
	}
	e, err := ParseNumber("(nir - red) / (nir + red)")
	require.NoError(b, err)
	p, err := e.Compile([]string{"nir", "red"}, nil, e.root.kind)
	require.NoError(b, err)
	in := [][]float64{nir, red}
	var hand, program float64
	b.Run("by-hand", func(b *testing.B) {
		for b.Loop() {
			for i := range out {
				s := nir[i] + red[i]
				if s == 0 {
					out[i] = math.NaN()
					continue
				}
				out[i] = (nir[i] - red[i]) / s
			}
		}
		hand = float64(b.Elapsed().Nanoseconds()) / float64(b.N)
	})
	b.Run("compiled", func(b *testing.B) {
		for b.Loop() {
			p.Numbers(in)
		}
		program = float64(b.Elapsed().Nanoseconds()) / float64(b.N)
		b.ReportMetric(program/hand, "ratio")
	})
}

// BenchmarkCondition is the same for a condition.
func BenchmarkCondition(b *testing.B) {
	cover, slope, out := make([]float64, BlockSize), make([]float64, BlockSize), make([]uint8, BlockSize)
	for i := range cover {
		cover[i], slope[i] = float64(i*7%11), float64(i*13%60)
	}
	e, err := ParseCondition("cover IN (3, 4) AND slope > 25")
	require.NoError(b, err)
	p, err := e.Compile([]string{"cover", "slope"}, nil, e.root.kind)
	require.NoError(b, err)
	in := [][]float64{cover, slope}
	var hand, program float64
	b.Run("by-hand", func(b *testing.B) {
		for b.Loop() {
			for i := range out {
				out[i] = False
				if (cover[i] == 3 || cover[i] == 4) && slope[i] > 25 {
					out[i] = True
				}
			}
		}
		hand = float64(b.Elapsed().Nanoseconds()) / float64(b.N)
	})
	b.Run("compiled", func(b *testing.B) {
		for b.Loop() {
			p.Truths(in)
		}
		program = float64(b.Elapsed().Nanoseconds()) / float64(b.N)
		b.ReportMetric(program/hand, "ratio")
	})
}
