package cli

import (
	"encoding/json"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/output"
	"github.com/verdex-land/verdex/internal/table"
)

// parameters are the command and its options as JSON, without passwords.
func parameters(c *cli.Command) string {
	options := map[string]any{}
	for _, f := range c.FlagNames() {
		if f == "quiet" || f == "log-json" || f == "threads" || f == "force" || f == "out" || f == "format" {
			continue
		}
		switch v := c.Value(f).(type) {
		case string:
			options[f] = book.NameOf(v)
		default:
			options[f] = v
		}
	}
	arguments := []string{}
	for _, a := range c.Args().Slice() {
		arguments = append(arguments, book.NameOf(a))
	}
	text, err := json.Marshal(struct {
		Command   string         `json:"command"`
		Arguments []string       `json:"arguments"`
		Options   map[string]any `json:"options"`
	}{commandName(c), arguments, options})
	if err != nil { // of texts and numbers
		panic(err)
	}
	return string(text)
}

// authorOf is who posts: --author, $VERDEX_AUTHOR, or the user of the system.
func authorOf(c *cli.Command) string {
	if a := strings.TrimSpace(c.String("author")); a != "" {
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

// provenanceSheet tells what a workbook was made from.
func provenanceSheet(c *cli.Command, inputs []output.Input) *table.Sheet {
	s := &table.Sheet{Name: "Provenance", FreezeRows: 1}
	head := table.Style{Head: true}
	s.Add(table.Text("what", head), table.Text("value", head), table.Text("size in bytes", head), table.Text("last changed (UTC)", head))
	line := func(what, value string) { s.Add(table.Text(what, table.Style{}), table.Text(value, table.Style{})) }
	line("program", "verdex "+c.Root().Version)
	line("command", parameters(c))
	line("areas", "true areas on the ellipsoid of the CRS; cells that an outline cuts count by their share")
	for _, in := range inputs {
		if full, err := filepath.Abs(in.Path); err == nil && in.Role != "" {
			s.Add(table.Text(in.Role, table.Style{}), table.Text(full, table.Style{}), table.Cell{Value: int(in.Size())}, table.Text(in.Modified().UTC().Format(time.DateTime), table.Style{}))
		}
	}
	return s
}
