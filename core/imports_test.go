package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "github.com/verdex-land/verdex/"

// Packages may import those that come after them in this list, and their own subfolders.
var layers = []string{"cmd/verdex", "internal/cli", "internal/demo", "internal/book", "internal/postgrestest", "internal/output", "internal/table", "core/account", "core/tally", "core/zone", "core/vector", "core/patch", "core/cover", "core/raster", "core/cql", "core/earth", "core/spill", "core/spread", "core/text", "core/files", "core/fault"}

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
				if strings.HasPrefix(from, "core/") {
					assert.NotContains(t, []string{"fmt.Println", "github.com/urfave/cli/v3", "log", "golang.org/x/term"}, name, "%s: the core prints nothing and knows no flags", path)
				}
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
