package cli

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/text"
)

type argumentsKey struct{}

var (
	unknownFlag = regexp.MustCompile(`^flag provided but not defined: -(.*)$`)
	wrongValue  = regexp.MustCompile(`^invalid value "(.*)" for (?:flag|argument) -?([\w-]+): (.*)$`)
	noValue     = regexp.MustCompile(`^flag needs an argument: -*([\w-]+)$`)
	noTopic     = regexp.MustCompile(`^No help topic for '(.*)'$`)
)

// misused words what the parser of the command line says of a mistake: with what was typed, and with what may have been meant.
func misused(ctx context.Context, c *cli.Command, err error) error {
	said := strings.TrimSuffix(err.Error(), ".")
	hint := strings.TrimSpace("verdex "+commandName(c)) + " --help lists the options"
	if m := unknownFlag.FindStringSubmatch(said); m != nil {
		name, _, _ := strings.Cut(m[1], "=")
		if near := text.Nearest(name, flagNames(c)); near != "" {
			return usage("there is no option %s; did you mean --%s? (%s)", typed(ctx, name), near, hint)
		}
		return usage("there is no option %s (%s)", typed(ctx, name), hint)
	}
	if m := wrongValue.FindStringSubmatch(said); m != nil {
		reason := m[3]
		switch {
		case strings.Contains(reason, "can't duplicate"):
			return usage("--%s is given twice: give it once (%s)", m[2], hint)
		case strings.Contains(reason, "invalid syntax"):
			reason = "this is not what the option takes"
		case strings.Contains(reason, "out of range"):
			reason = "this number is too large"
		default:
			_, after, ok := strings.Cut(reason, ": ")
			if ok {
				reason = after
			}
		}
		return usage("--%s %s: %s (%s)", m[2], m[1], reason, hint)
	}
	if m := noValue.FindStringSubmatch(said); m != nil {
		return usage("--%s needs a value (%s)", m[1], hint)
	}
	return usage("%s (%s)", said, hint)
}

// typed is an option as it was typed, with one dash or two.
func typed(ctx context.Context, name string) string {
	args, _ := ctx.Value(argumentsKey{}).([]string)
	for _, a := range args {
		if a, _, _ := strings.Cut(a, "="); strings.HasPrefix(a, "-") && strings.TrimLeft(a, "-") == strings.TrimLeft(name, "-") {
			return a
		}
	}
	return "-" + name
}

// flagNames are the options of a command and of those above it.
func flagNames(c *cli.Command) (out []string) {
	for _, above := range c.Lineage() {
		for _, f := range above.Flags {
			out = append(out, f.Names()...)
		}
	}
	return out
}

// noCommand says that there is no command of a name, and which may have been meant: one that is written alike, or one of that name below
// another command.
func noCommand(c *cli.Command, name string) error {
	prefix := strings.TrimSpace("verdex " + commandName(c))
	var names []string
	for _, sub := range c.Commands {
		names = append(names, sub.Name)
	}
	if near := text.Nearest(name, names); near != "" {
		return usage("there is no command %q; did you mean %s %s? (%s --help lists the commands)", name, prefix, near, prefix)
	}
	for _, other := range c.Root().Commands {
		if other.Name == name {
			return usage("there is no command %q below %s: verdex %s stands alone (%s --help lists the commands)", name, prefix, name, prefix)
		}
		if i := slices.IndexFunc(other.Commands, func(sub *cli.Command) bool { return sub.Name == name }); i >= 0 {
			return usage("there is no command %q; did you mean verdex %s %s? (%s --help lists the commands)", name, other.Name, name, prefix)
		}
	}
	return usage("there is no command %q (%s --help lists the commands)", name, prefix)
}

// negatedExpression moves the expression of derive expr, which may begin with a minus, behind all options.
func negatedExpression(root *cli.Command, args []string) []string {
	at := slices.Index(args, "expr")
	if at < 1 || args[at-1] != "derive" || slices.Contains(args, "--") {
		return args
	}
	flags := map[string]bool{} // whether a value follows
	for _, f := range slices.Concat(root.Command("derive").Command("expr").Flags, root.Flags) {
		_, isBool := f.(*cli.BoolFlag)
		flags[f.Names()[0]] = !isBool
	}
	for i := at + 1; i < len(args); i++ {
		a := args[i]
		if name := strings.TrimLeft(a, "-"); strings.HasPrefix(a, "-") && flags[name] {
			i++ // its value
			continue
		}
		if strings.HasPrefix(a, "-") && !strings.HasPrefix(a, "--") && a != "-h" && a != "-v" {
			out := slices.Delete(slices.Clone(args), i, i+1)
			return append(out, "--", a)
		}
	}
	return args
}

// helpFor words that a topic of help is unknown.
func helpFor(root *cli.Command, err error) error {
	if m := noTopic.FindStringSubmatch(fmt.Sprint(err)); m != nil {
		return noCommand(root, m[1])
	}
	return err
}
