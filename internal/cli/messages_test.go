package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
			assert.Contains(t, program, longest, m[1])
		}
	}
	assert.Greater(t, found, 100)
}
