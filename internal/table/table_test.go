package table

import (
	"encoding/csv"
	"encoding/json"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var sample = Table{
	Columns: []string{"name", "area", "note"},
	Rows:    [][]any{{`Tarn, "upper"`, 1. / 3, nil}, {"Varra", 1e21, math.NaN()}, {"line\nbreak", math.Copysign(0, -1), 7}},
	Digits:  -1,
}

func TestCSVReadsBackAsItWas(t *testing.T) {
	var b strings.Builder
	require.NoError(t, sample.Write(&b, "csv"))
	rows, err := csv.NewReader(strings.NewReader(b.String())).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"name", "area", "note"}, {`Tarn, "upper"`, "0.3333333333333333", ""},
		{"Varra", "1000000000000000000000", ""}, {"line\nbreak", "0", "7"}}, rows)
}

func TestJSONReadsBackAsItWas(t *testing.T) {
	var b strings.Builder
	require.NoError(t, sample.Write(&b, "json"))
	var rows []map[string]any
	require.NoError(t, json.Unmarshal([]byte(b.String()), &rows))
	assert.Equal(t, []map[string]any{{"name": `Tarn, "upper"`, "area": 1. / 3, "note": nil},
		{"name": "Varra", "area": 1e21, "note": nil}, {"name": "line\nbreak", "area": 0.0, "note": 7.0}}, rows)
	b.Reset()
	require.NoError(t, (&Table{Columns: []string{"a"}}).Write(&b, "json"))
	require.NoError(t, json.Unmarshal([]byte(b.String()), &rows))
	assert.Empty(t, rows)
}

func TestDigitsAndFormats(t *testing.T) {
	assert.Equal(t, "0.33", Number(1./3, 2))
	assert.Equal(t, "-2", Number(-2, -1))
	f, err := FormatOf("x/Y.CSV")
	require.NoError(t, err)
	assert.Equal(t, "csv", f)
	_, err = FormatOf("x.docx")
	assert.ErrorContains(t, err, "end it with .csv or .json")
	assert.Error(t, sample.Write(&strings.Builder{}, "xml"))
}
