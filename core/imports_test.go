package core

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "github.com/verdex-land/verdex/"

// Packages may import those that come after them in this list, and their own subfolders.
var layers = []string{"cmd/verdex", "internal/release", "internal/cli", "internal/plan", "internal/demo", "internal/pack", "internal/sheets", "internal/draw", "internal/report", "internal/book", "internal/postgrestest", "internal/output", "internal/remote", "internal/table", "internal/model", "internal/sampletest", "core/job", "core/accuracy", "core/account", "core/overlay", "core/change", "core/summary", "core/survey", "core/extent", "core/check", "core/tally", "core/zone", "core/stac", "core/vector", "core/patch", "core/cover", "core/rows", "core/area", "core/epoch", "core/raster", "core/cql", "core/earth", "core/planar", "core/text", "core/files", "core/spread", "core/spill", "core/option", "core/fault", "core/decimal", "core/portable"}

func layer(path string) int {
	return slices.IndexFunc(layers, func(l string) bool { return path == l || strings.HasPrefix(path, l+"/") })
}

func TestImportsPointOneWay(t *testing.T) {
	checked := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		from := filepath.ToSlash(filepath.Dir(strings.TrimPrefix(path, "../")))
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range f.Imports {
			name, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			to, ours := strings.CutPrefix(name, module)
			if !ours {
				continue
			}
			checked++
			require.GreaterOrEqual(t, layer(from), 0, "%s belongs to no layer", from)
			require.GreaterOrEqual(t, layer(to), 0, "%s belongs to no layer", to)
			assert.LessOrEqual(t, layer(from), layer(to), "%s imports %s", path, to)
			if strings.HasPrefix(from, "core/") {
				assert.True(t, strings.HasPrefix(to, "core/"), "%s imports %s", path, to)
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, checked, 20)
}

// A program that measures has no database server, spreadsheet, figure or command line in its build.
func TestMeasuringIsSmall(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "./job").Output()
	require.NoError(t, err)
	deps := strings.Fields(string(out))
	assert.Contains(t, deps, module+"core/tally")
	for _, d := range deps {
		for _, heavy := range []string{"github.com/jackc/", "github.com/xuri/", "gonum.org/", "github.com/urfave/", "github.com/jedib0t/", "github.com/vbauerster/", module + "internal/"} {
			assert.False(t, strings.HasPrefix(d, heavy), "core/job builds with %s", d)
		}
	}
}

// Every package of the core shows how it is used.
func TestEveryPackageHasAnExample(t *testing.T) {
	packages, examples := map[string]bool{}, map[string]bool{}
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
			return err
		}
		dir := filepath.Dir(path)
		if !strings.HasSuffix(path, "_test.go") {
			packages[dir] = true
			return nil
		}
		source, err := os.ReadFile(path)
		if bytes.Contains(source, []byte("\nfunc Example")) && bytes.Contains(source, []byte("// Output:")) {
			examples[dir] = true
		}
		return err
	}))
	for dir := range packages {
		assert.True(t, examples[dir], "core/%s has no runnable example", dir)
	}
	assert.Greater(t, len(packages), 30)
}

// The seam between jobs and the command line: only internal/cli knows the library of flags; no message of the core says how an option is
// given, and the core writes to no stream.
func TestTheCoreKnowsNoCommandLine(t *testing.T) {
	files := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		source, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		files++
		assert.Empty(t, breaches(strings.TrimPrefix(filepath.ToSlash(path), "../"), string(source)))
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, files, 150)
	for broken, want := range map[string]string{
		"import _ \"github.com/urfave/cli/v3\"":                                "imports github.com/urfave/cli/v3",
		"import _ \"log\"":                                                     "imports log",
		"import \"fmt\"\nfunc f() { fmt.Println(1) }":                          "fmt.Println",
		"import \"fmt\"\nfunc f() { fmt.Printf(\"x\") }":                       "fmt.Printf",
		"import \"os\"\nvar w = os.Stderr":                                     "os.Stderr",
		"func f() { println(1) }":                                              "println",
		"const m = \"name it with --zone-id\"":                                 "--zone-id",
		"const m = `--crs gives one`":                                          "--crs",
		"import \"errors\"\nvar e = errors.New(\"use --force, or rename it\")": "--force",
	} {
		got := breaches("core/x/x.go", "package x\n"+broken)
		if assert.Len(t, got, 1, broken) {
			assert.Contains(t, got[0], want)
		}
	}
	assert.Len(t, breaches("internal/book/x.go", "package x\nimport _ \"github.com/urfave/cli/v3\""), 1)
	assert.Empty(t, breaches("internal/cli/x.go", "package x\nimport _ \"github.com/urfave/cli/v3\"\nconst m = \"--crs\""))
}

var optionText = regexp.MustCompile(`(^|[^-\w])--[a-z]`)

// breaches are the places where a file of the module breaks the seam.
func breaches(path, source string) (out []string) {
	file, err := parser.ParseFile(token.NewFileSet(), path, source, 0)
	if err != nil {
		return []string{err.Error()}
	}
	core := strings.HasPrefix(path, "core/")
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.ImportSpec:
			name, _ := strconv.Unquote(n.Path.Value)
			if strings.HasPrefix(name, "github.com/urfave/cli") && !strings.HasPrefix(path, "internal/cli/") || core && slices.Contains([]string{"log", "flag", "golang.org/x/term"}, name) {
				out = append(out, fmt.Sprintf("%s imports %s", path, name))
			}
			return false
		case *ast.BasicLit:
			if text, err := strconv.Unquote(n.Value); core && n.Kind == token.STRING && err == nil && optionText.MatchString(text) {
				out = append(out, fmt.Sprintf("%s has the message %q", path, text))
			}
		case *ast.SelectorExpr:
			if x, ok := n.X.(*ast.Ident); core && ok && (x.Name == "fmt" && strings.HasPrefix(n.Sel.Name, "Print") || x.Name == "os" && strings.HasPrefix(n.Sel.Name, "Std")) {
				out = append(out, fmt.Sprintf("%s uses %s.%s", path, x.Name, n.Sel.Name))
			}
		case *ast.CallExpr:
			if f, ok := n.Fun.(*ast.Ident); core && ok && (f.Name == "print" || f.Name == "println") {
				out = append(out, fmt.Sprintf("%s calls %s", path, f.Name))
			}
		}
		return true
	})
	return out
}

// What Go computes in its assembly on one processor and not on another has other last digits there; core/portable has the same functions.
func TestMathIsPortable(t *testing.T) {
	read := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "core/portable/") || strings.Contains(path, "demo/make/") {
			return err
		}
		read++
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		assert.Empty(t, regexp.MustCompile(`\bmath\.(Exp|Exp2|Sinh|Cosh|Tanh|Pow)\(`).FindAllString(string(data), -1), path)
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, read, 100)
}
