package cli

import (
	"slices"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/option"
)

//go:generate go run ./manual ../../docs

// Root is the program as a tree of commands, for the reference that is made of it.
func Root(version string) *cli.Command { return newRoot(version, nil, nil) }

// Options are the options of a command with their defaults, nil for one with commands below it.
func Options(c *cli.Command) any { return c.Metadata[optionsKey] }

// OptionGroup is the options of a command that are about one thing.
type OptionGroup struct {
	Name    string // such as ZONES; "" for those of the command itself
	Options []option.Option
}

// OptionGroups are the options of a command as the help shows them.
func OptionGroups(c *cli.Command) (out []OptionGroup) {
	for _, o := range optionsOf(c) {
		if o.Argument != "" {
			continue
		}
		name := groups[o.Group]
		i := slices.IndexFunc(out, func(g OptionGroup) bool { return g.Name == name })
		if i < 0 {
			i, out = len(out), append(out, OptionGroup{Name: name})
		}
		out[i].Options = append(out[i].Options, o)
	}
	slices.SortStableFunc(out, func(a, b OptionGroup) int {
		return slices.Index(groupOrder, a.Name) - slices.Index(groupOrder, b.Name)
	})
	return out
}
