package cli

import (
	"bytes"
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/verdex-land/verdex/internal/demo"
)

// eachLiteral calls a function with the path of each file of the program and each text in it.
func eachLiteral(t *testing.T, do func(path, text string)) {
	t.Helper()
	for _, dir := range []string{"../../core", "../../internal"} {
		require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			require.NoError(t, err)
			ast.Inspect(file, func(n ast.Node) bool {
				if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
					text, err := strconv.Unquote(lit.Value)
					require.NoError(t, err)
					do(path, text)
				}
				return true
			})
			return nil
		}))
	}
}

// Every message that the documents explain is one of the program: the longest of its pieces between the parts that vary stands in a text of
// the program.
func TestExplainedMessagesExist(t *testing.T) {
	var literals strings.Builder
	eachLiteral(t, func(_, text string) { literals.WriteString(text + "\n") })
	program := literals.String()
	text, err := os.ReadFile("../../docs/messages.md")
	require.NoError(t, err)
	varies := regexp.MustCompile(`…|\b[A-Z]\b|"[^"]*"|\d[\d.,]*|--[a-z-]+( [A-Z=…]+)?|check [a-z]+:|\([^)]*\)`)
	quoted := regexp.MustCompile("`([^`]+)`")
	found := 0
	for _, line := range strings.Split(string(text), "\n") {
		cell, _, row := strings.Cut(strings.TrimPrefix(line, "| "), " | ")
		if !row || strings.HasPrefix(cell, "---") {
			continue
		}
		for _, m := range quoted.FindAllStringSubmatch(cell, -1) {
			longest := ""
			for _, piece := range varies.Split(m[1], -1) {
				if piece = strings.Trim(piece, " :,"); len(piece) > len(longest) {
					longest = piece
				}
			}
			if len(longest) < 6 {
				continue
			}
			found++
			assert.True(t, strings.Contains(program, longest), "no message of the program has %q (%s)", longest, m[1])
		}
	}
	assert.Greater(t, found, 100)
}

// Every code of the documents is one of the program and stands for the same message, and the other way round; no message has two codes.
func TestCodesOfMessages(t *testing.T) {
	text, err := os.ReadFile("../../docs/messages.md")
	require.NoError(t, err)
	row := regexp.MustCompile("(?m)^\\| (`.+?) \\| .* \\| `([a-z0-9-]+)` \\|$")
	quoted := regexp.MustCompile("`([^`]+)`")
	documented := map[string][]string{}
	for _, m := range row.FindAllStringSubmatch(string(text), -1) {
		for _, q := range quoted.FindAllStringSubmatch(m[1], -1) {
			documented[m[2]] = append(documented[m[2]], q[1])
		}
	}
	assert.Greater(t, len(documented), 150)
	codes := map[string]bool{}
	for line := range strings.Lines(codesText) {
		code, message, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		require.True(t, ok, line)
		codes[code] = true
		if assert.Contains(t, documented, code) {
			assert.True(t, slices.ContainsFunc(documented[code], func(d string) bool { return strings.ReplaceAll(d, "(x, y)", "(…)") == message }), "%s: %s", code, message)
		}
	}
	for code := range documented {
		assert.Contains(t, codes, code)
	}
	for _, m := range messageCodes() {
		assert.GreaterOrEqual(t, m.size, 8, m.code)
	}
	for message, code := range map[string]string{
		"a.tif: cannot be opened (no such file or directory): check the path":                                      "cannot-open",
		"a.tif: it has no CRS, so nothing says where its cells lie: give one with --crs EPSG:NUMBER":               "no-crs",
		"a.gpkg: it has 3 layers: name one, as in a.gpkg#x (layers: x, y, z)":                                      "several-layers",
		"--where (character 5):\n  a = = 1\n      ^\n\"=\" is not expected here":                                   "cql-syntax",
		"w.geojson: zone W1: its outline crosses itself at (12.5, 58.3): mend it":                                  "outline-crosses-itself",
		"x.csv: it exists already: choose another name, or replace it with --force":                                "output-exists",
		"x.csv: it exists already, and this plan has not written it, or it was changed since: choose another name": "not-of-this-plan",
		"something that no page explains":                                                                          "other",
	} {
		assert.Equal(t, code, codeOf(message, "other"), message)
	}
}

// With --log-json the last line of standard error says how a command ended, with the code of it.
func TestCodesOfEndings(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	t.Chdir(dir)
	for line, want := range map[string]struct {
		exit int
		code string
	}{
		"measure nope.tif":                                    {exitFailed, "cannot-open"},
		"measure cover_2020.tif --zone x":                     {exitUsage, "mistyped"},
		"measure cover_2020.tif --unit parsec":                {exitUsage, "usage"},
		"measure cover_2020.tif --out legend.csv":             {exitFailed, "output-exists"},
		"measure cover_2004.tif --legend legend.csv --strict": {exitStrict, "check"},
	} {
		var out, errs bytes.Buffer
		assert.Equal(t, want.exit, Main(append([]string{"verdex", "--log-json"}, strings.Fields(line)...), "test", &out, &errs), line)
		lines := strings.Split(strings.TrimSpace(errs.String()), "\n")
		var last struct{ Level, Msg, Code string }
		require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-1]), &last), errs.String())
		assert.Equal(t, "ERROR", last.Level, line)
		assert.Equal(t, want.code, last.Code, line)
		assert.NotEmpty(t, last.Msg)
	}
}
