// Command manual writes the reference: a page for each command in Markdown and as a man page, the columns of all tables, and the JSON
// Schema of the options. All of it is made of the options and tables themselves; go generate ./internal/cli runs it.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/cpuguy83/go-md2man/v2/md2man"
	ucli "github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/internal/cli"
	"github.com/verdex-land/verdex/internal/model"
)

func main() {
	for name, data := range files() {
		path := filepath.Join(os.Args[1], name)
		err := os.MkdirAll(filepath.Dir(path), 0o755)
		if err == nil {
			err = os.WriteFile(path, data, 0o644)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

// files are those of the reference, by their paths in docs.
func files() map[string][]byte {
	out := map[string][]byte{"reference/tables.md": tables()}
	schema := map[string]any{}
	var index bytes.Buffer
	index.WriteString("# Commands\n\nThis reference is made from the program; `verdex COMMAND --help` prints the same. The columns of all tables are in [tables.md](tables.md), and the JSON\nSchema of all options in [options.schema.json](options.schema.json).\n\n| command | what it does |\n| --- | --- |\n")
	for _, c := range commands() {
		out["reference/"+c.file()+".md"] = c.page(false)
		out["man/"+c.file()+".1"] = md2man.Render(append([]byte(fmt.Sprintf("%% %s 1\n\n", strings.ToUpper(c.file()))), c.page(true)...))
		fmt.Fprintf(&index, "| [`%s`](%s.md) | %s |\n", c.name, c.file(), c.Usage)
		if defaults := cli.Options(c.Command); defaults != nil {
			schema[strings.TrimPrefix(c.name, "verdex ")] = option.Schema(defaults)
		}
	}
	out["reference/README.md"] = index.Bytes()
	text, err := json.MarshalIndent(map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Options of the commands of Verdex", "$defs": schema}, "", "  ")
	if err != nil {
		panic(err)
	}
	out["reference/options.schema.json"] = append(text, '\n')
	return out
}

// command is a command with its whole name.
type command struct {
	*ucli.Command
	name string
}

// commands are all commands, those with others below them first.
func commands() (out []command) {
	var walk func(c *ucli.Command, above string)
	walk = func(c *ucli.Command, above string) {
		name := strings.TrimSpace(above + " " + c.Name)
		out = append(out, command{c, name})
		for _, sub := range c.Commands {
			if !sub.Hidden && sub.Name != "help" && sub.Name != "completion" {
				walk(sub, name)
			}
		}
	}
	walk(cli.Root("dev"), "")
	return out
}

func (c command) file() string { return strings.ReplaceAll(c.name, " ", "-") }

// page is the page of a command: in the form that man pages are made of, or for a browser.
func (c command) page(man bool) []byte {
	var b bytes.Buffer
	heading := func(text string) {
		if man {
			b.WriteString("# " + strings.ToUpper(text) + "\n\n")
		} else {
			b.WriteString("## " + text[:1] + strings.ToLower(text[1:]) + "\n\n")
		}
	}
	// entries are things with what they mean.
	entries := func(list [][2]string) {
		for _, e := range list {
			if man {
				fmt.Fprintf(&b, "**%s**\n: %s\n\n", e[0], escaped(e[1]))
			} else {
				fmt.Fprintf(&b, "- `%s`: %s\n", e[0], escaped(e[1]))
			}
		}
		if !man {
			b.WriteString("\n")
		}
	}
	if man {
		fmt.Fprintf(&b, "# NAME\n\n%s - %s\n\n", c.name, c.Usage)
	} else {
		fmt.Fprintf(&b, "# %s\n\n%s.\n\n", c.name, strings.ToUpper(c.Usage[:1])+c.Usage[1:])
	}
	heading("Synopsis")
	arguments := c.ArgsUsage
	if len(c.Commands) > 0 {
		arguments = "COMMAND [ARGUMENTS]"
	}
	fmt.Fprintf(&b, "`%s`\n\n", strings.Join(strings.Fields(c.name+" "+arguments+" [OPTIONS]"), " "))
	if c.Description != "" {
		heading("Description")
		b.WriteString(prose(c.Description) + "\n")
	}
	if len(c.Commands) > 0 {
		heading("Commands")
		var list [][2]string
		for _, sub := range c.Commands {
			if !sub.Hidden && sub.Name != "help" && sub.Name != "completion" {
				list = append(list, [2]string{sub.Name, sub.Usage})
			}
		}
		entries(list)
	}
	name := "Options"
	for _, group := range cli.OptionGroups(c.Command) {
		if group.Name != "" {
			name = "Options: " + group.Name
		}
		heading(name)
		var list [][2]string
		for _, o := range group.Options {
			list = append(list, describe(o))
		}
		entries(list)
	}
	if c.name == "verdex" {
		heading("Options")
		b.WriteString("These stand with every command.\n\n")
		var list [][2]string
		for _, f := range c.Flags {
			if text, ok := f.(ucli.DocGenerationFlag); ok {
				list = append(list, [2]string{"--" + f.Names()[0], text.GetUsage()})
			}
		}
		entries(list)
		heading("Exit status")
		entries([][2]string{{"0", "done"}, {"1", "failed"}, {"2", "the command line is wrong"}, {"3", "done, but a check falls short and --strict was given"}})
	}
	return append(bytes.TrimRight(b.Bytes(), "\n"), '\n')
}

// describe is an option with its value, and what it means.
func describe(o option.Option) (out [2]string) {
	word := o.Word()
	values := slices.DeleteFunc(slices.Clone(o.Choices), func(v string) bool { return v == "" })
	out[0] = "--" + o.Name
	switch {
	case len(values) > 0 && len(values) < 5:
		out[0] += " " + strings.Join(values, "|")
	case word != "":
		out[0] += " " + strings.ToUpper(word)
	}
	out[1] = strings.Replace(o.Help, "<"+word+">", word, 1)
	if o.Default != "" {
		out[1] += " (default: " + o.Default + ")"
	}
	return out
}

func escaped(s string) string { return strings.NewReplacer("<", `\<`, "_", `\_`).Replace(s) }

// prose is a description as Markdown: lines that are indented are examples.
func prose(text string) string {
	var b strings.Builder
	code := false
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		indented := strings.HasPrefix(line, "  ")
		if indented != code {
			b.WriteString("```\n")
			code = indented
		}
		if indented {
			b.WriteString(strings.TrimPrefix(line, "  ") + "\n")
		} else {
			b.WriteString(escaped(line) + "\n")
		}
	}
	if code {
		b.WriteString("```\n")
	}
	return b.String()
}

// tables are the columns of every table.
func tables() []byte {
	var b bytes.Buffer
	b.WriteString("# Tables\n\nThe columns of every table, in their order, whatever format it is written in. A text is quoted where it must be; a number is empty where nothing is known.\n")
	kinds := map[model.Type]string{model.Text: "text", model.Whole: "whole number", model.Number: "number"}
	units := map[string]string{"area": "the unit in `unit`", "%": "%", "cells": "cells", "share": "share of 1", "": ""}
	for _, k := range model.Kinds {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n\n| column | type | unit | what it holds |\n| --- | --- | --- | --- |\n", k.Name, k.About)
		for _, c := range k.Columns {
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", c.Name, kinds[c.Type], units[c.Unit], c.About)
		}
		if k.More != "" {
			fmt.Fprintf(&b, "\nBesides: %s.\n", k.More)
		}
	}
	return b.Bytes()
}
