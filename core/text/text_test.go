package text

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
)

// utf16Of writes a text as UTF-16 with a mark.
func utf16Of(s string, big bool) string {
	var b strings.Builder
	for _, u := range append([]uint16{0xfeff}, utf16.Encode([]rune(s))...) {
		if big {
			b.Write([]byte{byte(u >> 8), byte(u)})
		} else {
			b.Write([]byte{byte(u), byte(u >> 8)})
		}
	}
	return b.String()
}

// The same text in every encoding is the same.
func TestEncodings(t *testing.T) {
	const want = "code,name\r\n1,Größe – Ærø 𝄞\r\n"
	for name, data := range map[string]string{"plain": want, "with mark": "\xef\xbb\xbf" + want, "little": utf16Of(want, false), "big": utf16Of(want, true)} {
		got, assumed, err := Decode([]byte(data))
		require.NoError(t, err, name)
		assert.Equal(t, want, string(got), name)
		assert.Empty(t, assumed, name)
	}
	got, assumed, err := Decode([]byte("Gr\xf6\xdfe \x96 \x80"))
	require.NoError(t, err)
	assert.Equal(t, "Größe – €", string(got))
	assert.Contains(t, assumed, "read as Windows-1252")
	for data, want := range map[string]string{
		"\xef\xbb\xbfa\xff": "says that it is UTF-8", "\xff\xfea": "odd number of bytes", "\xff\xfe\x00\xd8": "says that it is UTF-16",
		"a\x81\xff": "neither UTF-8 nor Windows-1252", "a\x00b": "zero bytes", "\xffa\x00": "zero bytes", "a\x00b\x00": "zero bytes",
	} {
		_, _, err := Decode([]byte(data))
		assert.ErrorContains(t, err, want, "%q", data)
	}
	path := filepath.Join(t.TempDir(), "l.csv")
	require.NoError(t, os.WriteFile(path, []byte("\xe9"), 0o644))
	_, notes, err := Read(files.Disk, path)
	require.NoError(t, err)
	assert.Equal(t, []string{path + ": it is not UTF-8, and was read as Windows-1252: save it as UTF-8 if names look wrong"}, notes)
	_, _, err = Read(files.Disk, path+"x")
	assert.ErrorContains(t, err, "check the path")
}

// A table is the same whatever separates its cells and ends its lines.
func TestTables(t *testing.T) {
	want := [][]string{{"1", "Open water, still", "2.5"}, {"2", "=risk", ""}}
	for name, data := range map[string]string{
		"commas":           "code,name,area\n1,\"Open water, still\",2.5\n2,'=risk,\n",
		"CRLF":             "code,name,area\r\n1,\"Open water, still\",2.5\r\n2,'=risk,\r\n",
		"semicolons":       "code;name;area\n1;Open water, still;2,5\n2;'=risk;\n",
		"tabs":             "code\tname\tarea\n1\tOpen water, still\t2,5\n2\t=risk\t\n",
		"named":            "sep=;\ncode;name;area\n1;Open water, still;2,5\n2;'=risk;\n",
		"named, in CRLF":   "sep=;\r\ncode;name;area\r\n1;Open water, still;2,5\r\n2;=risk\r\n",
		"with empty lines": "\n# classes\n\ncode;name;area\n;;\n1; Open water, still ;2,5\n2;'=risk;;;\n",
	} {
		got, err := Parse([]byte(data), Options{Comments: true, Numbers: func(name string) bool { return name == "area" }})
		require.NoError(t, err, name)
		assert.Equal(t, []string{"code", "name", "area"}, got.Head, name)
		assert.Equal(t, want, got.Rows, name)
	}
	got, err := Parse([]byte("sep=;\na;b\n\n1;2\n"), Options{})
	require.NoError(t, err)
	assert.Equal(t, []int{4}, got.Lines, "lines are those of the file")
	for data, want := range map[string]string{
		"": "needs a line of names", "\n\n": "needs a line of names", "a,b\n1,2,3\n": "line 2 has 3 cells", "a,b\n1,\"2\n": "line 2 cannot be read",
		"a;area\n1;2,5\n2;2.5\n": `line 3, column "area": some numbers have a decimal comma and some a decimal point`,
	} {
		_, err := Parse([]byte(data), Options{Numbers: func(name string) bool { return name == "area" }})
		assert.ErrorContains(t, err, want, "%q", data)
	}
	_, err = Parse([]byte("a,b\n1\n"), Options{Even: true})
	assert.ErrorContains(t, err, "but the line of names has")
}

// Only a column that holds nothing but numbers takes part in the guess of decimal commas.
// What is no table of the kind is given up early, whatever its length.
func TestTablesAreGivenUpEarly(t *testing.T) {
	_, err := Parse([]byte("y\n\"y\n"), Options{Head: func(names []string) error { return errors.New("no " + names[0]) }})
	assert.EqualError(t, err, "no y", "the line that cannot be read is not reached")
	_, err = Parse([]byte("a\n1\n2\n"), Options{Most: 2})
	require.NoError(t, err)
	_, err = Parse([]byte("a\n1\n2\n3\n"), Options{Most: 2})
	assert.ErrorContains(t, err, "it has more than 2 rows")
}

func TestDecimalCommas(t *testing.T) {
	got, err := Parse([]byte("id;a;b;c\nx;1,5;1,5;1\ny;-0,25;n;2\nz;2;;\n"), Options{})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"x", "1.5", "1,5", "1"}, {"y", "-0.25", "n", "2"}, {"z", "2", "", ""}}, got.Rows)
	assert.Equal(t, []bool{false, true, false, false}, got.DecimalCommas)
	got, err = Parse([]byte("id;v\n1,1;1,5\n1,10;2\n"), Options{})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"1,1", "1.5"}, {"1,10", "2"}}, got.Rows, "ids stay as they are")
	got, err = Parse([]byte("a,b\n\"1,5\",\"1,5\"\n2,x\n"), Options{})
	require.NoError(t, err)
	assert.True(t, got.HasCommas(0))
	assert.False(t, got.HasCommas(1))
}

func TestCodes(t *testing.T) {
	for cell, want := range map[string]string{"1": "1", "1.0": "1", "-3.000": "-3", "4e2": "4e2", "12e4": "12e4", "1_2": "1_2", "+3.0": "+3", "007": "007", "Water": "Water", "": "", "3.5.1": "3.5.1", "e": "e", "inf": "inf"} {
		got, err := Code(cell)
		require.NoError(t, err, cell)
		assert.Equal(t, want, got, cell)
	}
	for _, cell := range []string{"1.5", "NaN", "nan", "1.10", "0.1"} {
		_, err := Code(cell)
		assert.Error(t, err, cell)
	}
}

// Whatever the bytes are, a table has rows as long as its head, or there is an error.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"a,b\n1,2\n", "sep=;\na;b\n1,5;2\n", utf16Of("a\tb\n1\t2", true), "a;area\n1;2,5\n", "# x\na\n\"1\n\"\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		plain, _, err := Decode(data)
		if err != nil {
			return
		}
		for _, o := range []Options{{}, {Comments: true, Numbers: func(name string) bool { return name == "area" }}, {Even: true}} {
			table, err := Parse(plain, o)
			if err != nil {
				continue
			}
			if len(table.Rows) != len(table.Lines) {
				t.Fatal("rows without a line")
			}
			for _, row := range table.Rows {
				if len(row) != len(table.Head) {
					t.Fatalf("%q", row)
				}
			}
		}
	})
}

func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"", "", 0}, {"a", "", 1}, {"zoneid", "zone-id", 1}, {"unti", "unit", 1}, {"mesure", "measure", 1}, {"kitten", "sitting", 3}} {
		assert.Equal(t, c.want, Distance(c.a, c.b), "%s %s", c.a, c.b)
		assert.Equal(t, c.want, Distance(c.b, c.a), "%s %s", c.b, c.a)
	}
}

func TestPrintable(t *testing.T) {
	assert.Equal(t, "a\tb\nc é \ufffd[31m \ufffdevil\ufffd \ufffd\ufffd", PrintableText("a\tb\nc é \x1b[31m \u202eevil\u2069 \u200f\u0085"))
	assert.Equal(t, "שלום عربى", PrintableText("שלום عربى"))
	assert.Equal(t, []byte("x\ufffd"), PrintableBytes([]byte("x\x07")))
}
