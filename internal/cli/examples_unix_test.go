//go:build unix

package cli

import (
	"bytes"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/internal/demo"
	"github.com/verdex-land/verdex/internal/postgrestest"
)

// block is a piece of code in a document.
type block struct {
	line     int
	language string
	text     string
}

// blocksOf are the pieces of code of a document.
func blocksOf(t *testing.T, path string) (out []block) {
	t.Helper()
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	var at *block
	for i, line := range strings.Split(string(data), "\n") {
		switch fence, isFence := strings.CutPrefix(line, "```"); {
		case isFence && at == nil:
			at = &block{line: i + 2, language: fence}
		case isFence:
			out = append(out, *at)
			at = nil
		case at != nil:
			at.text += line + "\n"
		}
	}
	return out
}

// Every example of the documents does what the document says, on the sample data: commands end well, and where a command stands behind $,
// what follows is its output, in which … stands for any text. A file that stands in the document, as in ```csv people.csv, is written first.
func TestExamplesOfTheDocuments(t *testing.T) {
	program, err := program()
	require.NoError(t, err)
	for document, least := range map[string]int{"guide.md": 30, "book.md": 2, "formats.md": 0, "../README.md": 8} {
		t.Run(filepath.Base(document), func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, os.Symlink(program, filepath.Join(dir, "verdex")))
			server := ""
			ran := 0
			web := httptest.NewServer(demo.Handler())
			defer web.Close()
			run := func(line int, command, want string) {
				if command == "verdex demo serve &" { // it runs
					return
				}
				command = strings.ReplaceAll(command, "http://127.0.0.1:8790", web.URL)
				if strings.Contains(command, "postgres://ines@server/land") {
					if server == "" {
						server = postgrestest.Database(t)
					}
					name := server
					if strings.Contains(command, "?search_path=") && strings.Contains(server, "?") {
						name += "&"
						command = strings.Replace(command, "?search_path=", "search_path=", 1)
					}
					command = strings.ReplaceAll(command, "postgres://ines@server/land", name)
					if !strings.Contains(command, `"`) {
						command = strings.Replace(command, name, "'"+name+"'", 1)
					}
				}
				c := exec.Command("bash", "-c", command)
				c.Dir = dir
				c.Env = append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"), "COLUMNS=140", "NO_COLOR=", "VERDEX_AUTHOR=Ines Tarn")
				out, err := c.CombinedOutput()
				where := fmt.Sprintf("%s:%d: %s", document, line, command)
				if !strings.Contains(want, "\nverdex: ") && !strings.HasPrefix(want, "verdex: ") {
					require.NoError(t, err, "%s\n%s", where, out)
				}
				ran++
				if want != "" {
					assert.Regexp(t, pattern(want), string(out), where)
				}
			}
			run(0, "verdex demo --files-only orrin", "")
			for _, b := range blocksOf(t, filepath.Join("../../docs", document)) {
				if _, name, named := strings.Cut(b.language, " "); named {
					require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(b.text), 0o644))
					continue
				}
				if b.language != "" {
					continue
				}
				lines := strings.Split(strings.ReplaceAll(strings.TrimRight(b.text, "\n"), "\\\n", ""), "\n")
				for i := 0; i < len(lines); i++ {
					command, shown := strings.CutPrefix(lines[i], "$ ")
					switch {
					case shown:
						var want []string
						for i+1 < len(lines) && !strings.HasPrefix(lines[i+1], "$ ") {
							i++
							want = append(want, lines[i])
						}
						run(b.line+i, command, strings.Join(want, "\n"))
					case strings.HasPrefix(command, "verdex "):
						command, _, _ = strings.Cut(command, "    ") // what it is
						run(b.line+i, command, "")
					}
				}
			}
			assert.Greater(t, ran, least)
		})
	}
}

// pattern is output in which … stands for any text.
func pattern(want string) string {
	var b strings.Builder
	b.WriteString(`(?s)^`)
	for i, part := range strings.Split(want, "…") {
		if i > 0 {
			b.WriteString(".*")
		}
		b.WriteString(regexp.QuoteMeta(part))
	}
	b.WriteString(`\s*$`)
	return b.String()
}

// The example program of the README builds, and prints what the README says.
func TestExampleProgramOfTheReadme(t *testing.T) {
	dir := t.TempDir()
	for _, b := range blocksOf(t, "../../README.md") {
		if b.language != "go" {
			continue
		}
		path := filepath.Join(dir, "main.go")
		require.NoError(t, os.WriteFile(path, []byte(b.text), 0o644))
		binary := filepath.Join(dir, "measure")
		out, err := exec.Command("go", "build", "-o", binary, path).CombinedOutput()
		require.NoError(t, err, string(out))
		verdex(t, "demo", "--files-only", filepath.Join(dir, "orrin"))
		c := exec.Command(binary)
		c.Dir = dir
		var errs bytes.Buffer
		c.Stderr = &errs
		got, err := c.Output()
		require.NoError(t, err, errs.String())
		assert.Contains(t, string(got), "W1 Open water 416.4 ha\n")
		return
	}
	t.Error("the README has no example program")
}
