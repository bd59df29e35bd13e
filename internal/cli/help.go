package cli

import (
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// groups are the headings of options in the help, and groupOrder is their order: the way of the data.
// Options without a group are the command's own and come first.
var (
	groups     = map[string]string{"": "", "rasters": "RASTERS", "layers": "LAYERS", "zones": "ZONES", "classes": "CLASSES", "checks": "CHECKS", "book": "BOOK", "output": "OUTPUT"}
	groupOrder = []string{"", "RASTERS", "LAYERS", "ZONES", "CLASSES", "CHECKS", "BOOK", "OUTPUT"}
)

func init() {
	// The library lists groups by the alphabet. Its template calls orderedGroups instead.
	library := cli.HelpPrinterCustom
	cli.HelpPrinterCustom = func(w io.Writer, text string, data any, functions map[string]any) {
		functions = maps.Clone(functions)
		if functions == nil {
			functions = map[string]any{}
		}
		functions["orderedGroups"] = orderedGroups
		library(w, strings.ReplaceAll(text, `{{template "visibleFlagCategoryTemplate" .}}`, groupTemplate), data, functions)
	}
}

// groupTemplate prints the options of a command under their headings.
const groupTemplate = `{{range orderedGroups .}}
   {{if .Name}}{{.Name}}

   {{end}}{{$n := len .Flags}}{{range $i, $f := .Flags}}{{$f}}
{{if ne (subtract $n $i) 1}}   {{end}}{{end}}{{end}}`

// orderedGroups are the groups of options of a command, in the order of groupOrder.
func orderedGroups(c *cli.Command) []cli.VisibleFlagCategory {
	out := c.VisibleFlagCategories()
	slices.SortStableFunc(out, func(a, b cli.VisibleFlagCategory) int {
		return slices.Index(groupOrder, a.Name()) - slices.Index(groupOrder, b.Name())
	})
	return out
}
