package cli

import (
	"context"
	"encoding/json"
	"io"
	"os"
	"os/user"
	"strings"

	"github.com/verdex-land/verdex/core/vector/tables"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/output"
	"github.com/verdex-land/verdex/internal/plan"
	"github.com/verdex-land/verdex/internal/remote"
)

// session is a command while it runs.
type session struct {
	*reporter
	*commandFiles
	ctx     context.Context
	name    string // such as "book post"
	options any    // a pointer to its options
	stdout  io.Writer
	system  files.System   // where inputs come from
	remote  *remote.System // the same, as it reads files of the web
	version string
	threads int
	color   string      // auto, always or never
	counter job.Counter // of a part of a job, or of all parts; nil for a job that is done in one run
	plan    *planned    // the plan whose step this is; nil for a command by itself
}

// canvas draws on standard output.
func (s *session) canvas() *canvas { return newCanvas(s.stdout, s.color) }

// env is the environment of the command's jobs.
func (s *session) env() job.Env {
	env := job.Env{
		Threads: s.threads,
		Files:   s.system,
		Log:     s.reporter,
		Opened:  func(role, path string) { s.Read(output.Input{Role: role, Path: path}) },
		Tables:  s.readTable,
	}
	if s.counter != nil {
		env.Counter = s.counter
	}
	if s.plan != nil {
		env.Counter, env.Maker = s.plan.counter, s.plan.maker
	}
	return env
}

// Claim declares an output. A step of a plan replaces what the plan has written before.
func (s *session) Claim(path string, rules output.Rules) error {
	if s.plan != nil && s.plan.owns(path) {
		rules.Replace = true
	}
	return s.commandFiles.Claim(path, rules)
}

// readTable reads a table of an account: a file, or BOOK#ACCOUNT.
func (s *session) readTable(ctx context.Context, name string, needed, optional []string, each func(rows.Row) error) (*cover.Legend, []string, error) {
	if s.plan != nil && s.plan.tables[name] != nil {
		list, err := rows.Parse(name, s.plan.tables[name], needed, optional)
		for _, r := range list {
			if err == nil {
				err = each(r)
			}
		}
		return nil, nil, err
	}
	where, of := vectors.Split(name)
	if !book.IsBook(where) {
		s.Read(output.Input{Role: "table", Path: name})
		notes, err := tables.Each(s.system, name, needed, optional, each)
		return nil, notes, err
	}
	b, err := s.openBook(where, false, waitOf(s.options))
	if err != nil {
		return nil, nil, err
	}
	defer b.Close()
	if of == "" {
		return nil, nil, usage("%s: it is a book: name an account of it, as %s#ACCOUNT (verdex book list shows them)", b.Name, b.Name)
	}
	list, err := b.Current(ctx, of)
	if err != nil {
		return nil, nil, err
	}
	accounts := book.List(list)
	notes, err := accounts.Reader()(b.Name+"#"+of, needed, optional, each)
	return accounts.Legend(), notes, err
}

// commandName is the name of a command without that of the program, such as "book post".
func commandName(c *cli.Command) string {
	name := c.FullName() // within demo, that stands before it
	return name[strings.LastIndex(name, "verdex ")+len("verdex "):]
}

// unrecorded are options that do not change what a command finds.
var unrecorded = map[string]bool{"force": true, "out": true, "format": true, plan.SaveOption: true, plan.PartOption: true}

// parameters are the command and its options as JSON, without passwords. Only options that were given are in it.
func (s *session) parameters() string {
	return s.parametersAs(func(_ option.Option, text string) string { return text })
}

// parametersAs are the parameters with values as a function writes them.
func (s *session) parametersAs(write func(o option.Option, text string) string) string {
	options, arguments := map[string]any{}, []string{}
	for _, o := range option.Of(s.options) {
		switch v := o.Get(s.options).(type) {
		case []string:
			var list []string
			for _, text := range v {
				list = append(list, write(o, text))
			}
			if o.Argument != "" {
				for _, a := range list {
					arguments = append(arguments, book.NameOf(a))
				}
			} else if len(v) > 0 {
				options[o.Name] = list
			}
		case string:
			if o.Given(s.options) && !unrecorded[o.Name] {
				options[o.Name] = book.NameOf(write(o, v))
			}
		default:
			if o.Given(s.options) && !unrecorded[o.Name] {
				options[o.Name] = v
			}
		}
	}
	text, err := json.Marshal(struct {
		Command   string         `json:"command"`
		Arguments []string       `json:"arguments"`
		Options   map[string]any `json:"options"`
	}{s.name, arguments, options})
	if err != nil { // of texts and numbers
		panic(err)
	}
	return string(text)
}

// parametersFrom are the parameters with files named from a folder.
func (s *session) parametersFrom(dir string) string {
	return s.parametersAs(func(o option.Option, text string) string {
		if o.Input == "" && o.Output == "" || o.Input == "-" {
			return text
		}
		before, path := "", text
		if _, err := os.Stat(text); err != nil {
			if label, rest, ok := strings.Cut(text, "="); ok {
				before, path = label+"=", rest
			}
		}
		if len(filesNamed(path)) == 0 && o.Output == "" {
			return text
		}
		return before + plan.Relative(dir, path)
	})
}

// authorOf is who posts: as the option says, $VERDEX_AUTHOR, or the user of the system.
func authorOf(given string) string {
	if a := strings.TrimSpace(given); a != "" {
		return a
	}
	if a := strings.TrimSpace(os.Getenv("VERDEX_AUTHOR")); a != "" {
		return a
	}
	if u, err := user.Current(); err == nil {
		if u.Name != "" && u.Name != u.Username {
			return u.Name + " (" + u.Username + ")"
		}
		return u.Username
	}
	return "unknown"
}
