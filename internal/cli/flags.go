package cli

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/internal/plan"
)

// This file makes flags of structs of options, and reads them back. A flag is made anew for each run of the program.

// flagsOf are the flags of a struct of options.
func flagsOf(options any) (out []cli.Flag) {
	for _, o := range option.Of(options) {
		if o.Argument != "" {
			continue
		}
		usage, name := usageOf(o), o.Name
		group, sources := groups[o.Group], fromEnvironment(o.Name)
		switch o.Type {
		case reflect.TypeFor[string]():
			out = append(out, &cli.StringFlag{Name: name, Usage: usage, Value: o.Default, Category: group, OnlyOnce: true, Sources: sources})
		case reflect.TypeFor[[]string]():
			out = append(out, &cli.StringSliceFlag{Name: name, Usage: usage, Category: group})
		case reflect.TypeFor[bool]():
			out = append(out, &cli.BoolFlag{Name: name, Usage: usage, Category: group, Sources: sources})
		case reflect.TypeFor[int]():
			out = append(out, &cli.IntFlag{Name: name, Usage: usage, Value: valueOf[int](options, o), Category: group, OnlyOnce: true, Sources: sources})
		case reflect.TypeFor[float64]():
			out = append(out, &cli.FloatFlag{Name: name, Usage: usage, Value: valueOf[float64](options, o), Category: group, OnlyOnce: true, Sources: sources})
		case reflect.TypeFor[time.Duration]():
			out = append(out, &cli.DurationFlag{Name: name, Usage: usage, Value: valueOf[time.Duration](options, o), Category: group, OnlyOnce: true, Sources: sources})
		default:
			panic(fmt.Sprintf("the option %s has a type that no flag has", name))
		}
	}
	return out
}

// environment are the options that an environment variable may give, VERDEX_ and the name: those that say how the program works, what numbers are shown in, and who posts. What is
// measured stands on the command line or in a plan, where it is seen.
var environment = []string{"quiet", "log-json", "color", "offline", "no-cache", "threads", "unit", "digits", "compress", "dpi", "author", "wait"}

// fromEnvironment is the environment variable of an option, if it has one.
func fromEnvironment(name string) cli.ValueSourceChain {
	if name == "author" || !slices.Contains(environment, name) { // the author's is read where the user of the system is, too
		return cli.ValueSourceChain{}
	}
	return cli.EnvVars("VERDEX_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_")))
}

// valueOf is the value of an option of options that have their defaults.
func valueOf[T any](options any, o option.Option) T { return o.Get(options).(T) }

// usageOf is the help of an option, with its value in the quotes that the library takes for it.
func usageOf(o option.Option) string {
	word := o.Word()
	if word == "" {
		return o.Help
	}
	return strings.Replace(o.Help, "<"+word+">", "`"+word+"`", 1)
}

// readFlags fills options with what the command line says.
func readFlags(c *cli.Command, options any) {
	for _, o := range option.Of(options) {
		switch {
		case o.Argument != "":
			o.Set(options, c.Args().Slice())
		case o.Type == reflect.TypeFor[string]():
			o.Set(options, c.String(o.Name))
		case o.Type == reflect.TypeFor[[]string]():
			o.Set(options, c.StringSlice(o.Name))
		case o.Type == reflect.TypeFor[bool]():
			o.Set(options, c.Bool(o.Name))
		case o.Type == reflect.TypeFor[int]():
			o.Set(options, c.Int(o.Name))
		case o.Type == reflect.TypeFor[float64]():
			o.Set(options, c.Float(o.Name))
		case o.Type == reflect.TypeFor[time.Duration]():
			o.Set(options, c.Duration(o.Name))
		}
	}
}

// optionsKey is the key under which a command has its options with their defaults.
const optionsKey = "options"

// doKey is the key under which a command has what it does, as a function of a session and its options.
const doKey = "do"

// flagsKey is the key under which a command has the function that gives it its options.
const flagsKey = "flags"

// giveFlags gives a command and those below it their options.
func giveFlags(c *cli.Command) {
	if do, ok := c.Metadata[flagsKey]; ok {
		do.(func(*cli.Command))(c)
	}
	for _, sub := range c.Commands {
		giveFlags(sub)
	}
}

// optionsOf are the options of a command, nil for one with commands below it.
func optionsOf(c *cli.Command) []option.Option {
	if defaults, ok := c.Metadata[optionsKey]; ok {
		return option.Of(defaults)
	}
	return nil
}

// command makes a command of its description and of a struct of options, which is filled when it runs. [giveFlags] gives it flags for them.
func command[O any](c cli.Command, do func(s *session, o *O) error) *cli.Command {
	c.Metadata = map[string]any{flagsKey: func(c *cli.Command) {
		defaults := new(O)
		option.Fill(defaults)
		c.Flags = flagsOf(defaults)
		c.Metadata[optionsKey], c.Metadata[doKey] = defaults, func(s *session, options any) error { return do(s, options.(*O)) }
		for _, o := range option.Of(defaults) {
			if o.Argument != "" && o.Argument != "-" {
				c.ArgsUsage = o.Argument
			}
		}
	}}
	c.Action = func(ctx context.Context, c *cli.Command) error {
		o := new(O)
		readFlags(c, o)
		secrets, err := hideSecrets(o)
		if err != nil {
			return err
		}
		if err := option.Check(o); err != nil {
			return err
		}
		run := func(s *session) error { return do(s, o) }
		if which := given[string](o, plan.PartOption); which != "" && commandName(c) != "run" { // a plan does its parts by itself
			err = withSession(ctx, c, o, secrets, func(s *session) error { return s.measurePart(which, run) })
		} else {
			err = withFiles(ctx, c, o, secrets, run)
		}
		var misuse *fault.Error
		if errors.As(err, &misuse) && misuse.Misuse && misuse.Option == "" && len(misuse.Remedies) == 0 {
			err = fmt.Errorf("%w (verdex %s --help shows examples)", err, commandName(c))
		}
		return err
	}
	return &c
}

// optionText writes an option, or with "" the command of a job, as it stands on the command line.
func optionText(name, value string) string {
	switch {
	case name == "":
		return "verdex " + value
	case value == "":
		return "--" + name
	case strings.ContainsAny(value, " *?;$&'\""):
		return fmt.Sprintf("--%s %q", name, value)
	}
	return "--" + name + " " + value
}

// messageOf is the text of an error, with options as they stand on the command line.
func messageOf(err error) string { return fault.Text(err, optionText) }
