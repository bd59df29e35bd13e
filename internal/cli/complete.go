package cli

import (
	"context"
	_ "embed"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/option"
)

// Completion works by one hidden command: a shell hands over the words up to the cursor as they stand on the line, unexpanded, and reads what could stand there. The first line of
// the answer says what follows: words, each with its meaning behind a tab, or files, which the shell lists itself. No shell evaluates anything of the line.

// completeCommand is the hidden command: completeCommand SHELL WORD…, of which the last word is the one that the cursor is in.
const completeCommand = "__complete"

//go:embed completion.bash
var bashCompletion string

//go:embed completion.zsh
var zshCompletion string

//go:embed completion.fish
var fishCompletion string

//go:embed completion.ps1
var powerShellCompletion string

func completionCommand() *cli.Command {
	c := &cli.Command{
		Name:  "completion",
		Usage: "a script that lets a shell complete commands, options, values and files",
		Description: `Prints a script for a shell. It asks the program what could stand at the cursor, and evaluates nothing of the line.

  eval "$(verdex completion bash)"                                         in ~/.bashrc
  eval "$(verdex completion zsh)"                                          in ~/.zshrc, behind compinit
  verdex completion fish > ~/.config/fish/completions/verdex.fish
  verdex completion powershell | Out-String | Invoke-Expression            in $PROFILE`,
	}
	for _, s := range []struct{ name, script string }{{"bash", bashCompletion}, {"zsh", zshCompletion}, {"fish", fishCompletion}, {"powershell", powerShellCompletion}} {
		c.Commands = append(c.Commands, &cli.Command{Name: s.name, Usage: "the script for " + s.name, Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() > 0 {
				return usage("verdex completion %s takes no arguments", s.name)
			}
			_, err := io.WriteString(c.Root().Writer, s.script)
			return err
		}})
	}
	return c
}

// completeWords answers a shell.
func completeWords(root *cli.Command, w io.Writer, shell string, words []string) {
	apart := shell == "bash" // which takes words apart at =
	if apart {
		words = joined(words)
	}
	if len(words) == 0 {
		words = []string{""}
	}
	files, list := completions(root, words[:len(words)-1], words[len(words)-1])
	if files {
		fmt.Fprintln(w, "files")
		return
	}
	fmt.Fprintln(w, "words")
	for _, c := range list {
		if apart {
			c[0] = c[0][strings.LastIndexByte(c[0], '=')+1:]
		}
		fmt.Fprintf(w, "%s\t%s\n", c[0], strings.ReplaceAll(c[1], "\t", " "))
	}
}

// joined puts words together that were taken apart at =.
func joined(words []string) (out []string) {
	for i := 0; i < len(words); i++ {
		if words[i] == "=" && len(out) > 0 {
			out[len(out)-1] += "="
			if i+1 < len(words) {
				i++
				out[len(out)-1] += words[i]
			}
			continue
		}
		out = append(out, words[i])
	}
	return out
}

// completions are what could stand for a word behind others: files, or words with their meaning.
func completions(root *cli.Command, before []string, word string) (files bool, out [][2]string) {
	c := root
	var waiting string // the option whose value comes next
	plain := false     // behind --, where everything is an argument
	for _, w := range before {
		switch {
		case waiting != "":
			waiting = ""
		case plain:
		case w == "--":
			plain = true
		case strings.HasPrefix(w, "-"):
			name, _, has := strings.Cut(strings.TrimLeft(w, "-"), "=")
			if !has && takesValue(c, root, name) {
				waiting = name
			}
		default:
			if sub := c.Command(w); sub != nil {
				c = sub
			}
		}
	}
	name, value, has := strings.Cut(strings.TrimLeft(word, "-"), "=")
	switch {
	case waiting != "":
		return valuesOf(c, waiting, "", word)
	case !plain && strings.HasPrefix(word, "-") && has:
		return valuesOf(c, name, word[:len(word)-len(value)], value)
	case !plain && strings.HasPrefix(word, "-"):
		for _, from := range []*cli.Command{c, root} {
			for _, f := range from.Flags {
				if n := "--" + f.Names()[0]; strings.HasPrefix(n, word) {
					out = append(out, [2]string{n, meaningOf(f)})
				}
			}
			if from == root && c == root {
				break
			}
		}
		return false, append(out, prefixed("--help", "show help", word)...)
	}
	for _, sub := range c.Commands {
		if !sub.Hidden && strings.HasPrefix(sub.Name, word) {
			out = append(out, [2]string{sub.Name, sub.Usage})
		}
	}
	if len(c.Commands) > 0 {
		return false, out
	}
	return true, nil
}

func prefixed(name, meaning, word string) [][2]string {
	if strings.HasPrefix(name, word) {
		return [][2]string{{name, meaning}}
	}
	return nil
}

// takesValue reports whether an option of a command, or one of all commands, takes a value.
func takesValue(c, root *cli.Command, name string) bool {
	for _, from := range []*cli.Command{c, root} {
		for _, f := range from.Flags {
			if f.Names()[0] == name {
				_, truth := f.(*cli.BoolFlag)
				return !truth
			}
		}
	}
	return false
}

// valuesOf are the values of an option that begin with a word, each behind a text; or files.
func valuesOf(c *cli.Command, name, behind, word string) (files bool, out [][2]string) {
	choices := map[string][]string{"color": {"auto", "always", "never"}}[name]
	for _, o := range optionsOf(c) {
		if o.Name == name && o.Argument == "" {
			if choices = o.Choices; len(choices) == 0 {
				return o.Input != "" || o.Output != "" || namesFile(o), nil
			}
		}
	}
	for _, v := range choices {
		if v != "" && strings.HasPrefix(v, word) {
			out = append(out, [2]string{behind + v, ""})
		}
	}
	return false, out
}

// namesFile reports whether the value of an option is a file by its help.
func namesFile(o option.Option) bool {
	return strings.Contains(o.Word(), "FILE") || strings.Contains(o.Word(), "FOLDER") || strings.Contains(o.Word(), "RASTER")
}

// meaningOf is the help of an option without the marks around its value.
func meaningOf(f cli.Flag) string {
	if d, ok := f.(cli.DocGenerationFlag); ok {
		return strings.ReplaceAll(d.GetUsage(), "`", "")
	}
	return ""
}
