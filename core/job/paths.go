package job

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/text"
)

// Rasters returns the rasters that arguments and a list of rasters ("" for none) name, with patterns resolved.
func Rasters(from files.System, args []string, list string) ([]string, error) {
	if list != "" {
		more, err := Listed(from, list)
		if err != nil {
			return nil, err
		}
		args = slices.Concat(args, more)
	}
	return matching(from, args)
}

// Listed returns the rasters that a list has on its lines. Their paths are relative to the list.
func Listed(from files.System, list string) (out []string, err error) {
	data, _, err := text.Read(from, list)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(data)) {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		name, err := files.Follow(from, list, line)
		if err != nil {
			return nil, err
		}
		out = append(out, name)
	}
	if len(out) == 0 {
		return nil, fault.Errorf("%s: the list is empty", list).Do("write one path on each line")
	}
	return out, nil
}

// matching resolves patterns. What is no pattern stays as it is.
func matching(from files.System, args []string) (out []string, err error) {
	for _, a := range args {
		path, _ := open.Split(a)
		if _, err := os.Stat(path); err == nil || !strings.ContainsAny(path, "*?[") || files.IsURL(path) {
			out = append(out, a)
			continue
		}
		found, err := filepath.Glob(path)
		if err != nil {
			return nil, fault.Misusef("", "", "the pattern %q is not valid (%v)", a, err)
		}
		if len(found) == 0 {
			return nil, fault.Errorf("%s: no file matches the pattern", a).Do("check the path")
		}
		for _, f := range found {
			out = append(out, f+a[len(path):])
		}
	}
	return out, nil
}

// Scene is the files of one date.
type Scene struct {
	Date  string // "" where files were named one by one
	Paths []string
}

// scenes returns the rasters of a stack: each argument is one, and a pattern with {date} one for each date.
func (w *work) scenes(args []string) (out []Scene, err error) {
	for _, arg := range args {
		if where, asset, is := w.isCatalog(arg); is {
			found, err := w.scenesOf(where, asset)
			if err != nil {
				return nil, err
			}
			out = append(out, found...)
			continue
		}
		if strings.Contains(arg, "{") && !files.IsURL(arg) {
			if _, err := os.Stat(arg); errors.Is(err, fs.ErrNotExist) {
				found, err := Dated(arg)
				if err != nil {
					return nil, err
				}
				out = append(out, found...)
				continue
			}
		}
		paths, err := matching(w.env.files(), []string{arg})
		if err != nil {
			return nil, err
		}
		for _, p := range paths {
			out = append(out, Scene{Paths: []string{p}})
		}
	}
	return out, nil
}

var placeholder = regexp.MustCompile(`\{([a-z]+)\}`)

// Dated groups the files that match a pattern by what stands in the place of {date}, in the order of the dates.
func Dated(pattern string) ([]Scene, error) {
	if n := strings.Count(pattern, "{date}"); n != 1 {
		return nil, fault.Misusef("", "", "the pattern %q groups files by {date}, which it contains %s", pattern, text.Count(n, "time"))
	}
	glob := placeholder.ReplaceAllString(pattern, "*")
	// The same as an expression, which keeps {date}; other placeholders match anything but a separator.
	expression, rest := "^", filepath.Clean(pattern)
	for rest != "" {
		at := placeholder.FindStringIndex(rest)
		if at == nil {
			expression += regexp.QuoteMeta(rest)
			break
		}
		expression += regexp.QuoteMeta(rest[:at[0]])
		if rest[at[0]:at[1]] == "{date}" {
			expression += `([0-9][0-9T:.-]*)`
		} else {
			expression += `[^/\\\\]+`
		}
		rest = rest[at[1]:]
	}
	expression = strings.ReplaceAll(strings.ReplaceAll(expression, `\*`, `[^/\\]*`), `\?`, `[^/\\]`) + "$"
	match, err := regexp.Compile(expression)
	if err != nil {
		return nil, fault.Misusef("", "", "the pattern %q is not valid (%v)", pattern, err)
	}
	found, err := filepath.Glob(glob)
	if err != nil {
		return nil, fault.Misusef("", "", "the pattern %q is not valid (%v)", pattern, err)
	}
	by := map[string][]string{}
	for _, f := range found {
		if m := match.FindStringSubmatch(filepath.Clean(f)); m != nil {
			by[m[1]] = append(by[m[1]], f)
		}
	}
	if len(by) == 0 {
		return nil, fault.Errorf("%s: no file matches the pattern with digits in the place of {date}", pattern).Do("check the path")
	}
	var out []Scene
	for date, paths := range by {
		slices.Sort(paths)
		out = append(out, Scene{date, paths})
	}
	slices.SortFunc(out, func(a, b Scene) int { return strings.Compare(a.Date, b.Date) })
	return out, nil
}
