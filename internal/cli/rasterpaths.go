package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/text"
)

// coverPaths are the rasters that a command names, with patterns resolved.
func coverPaths(c *cli.Command) ([]string, error) {
	args, err := namedRasters(c)
	if err != nil {
		return nil, err
	}
	return rasterPaths(args)
}

// namedRasters are what the arguments of a command name, and what stands in the list of --from-list.
func namedRasters(c *cli.Command) ([]string, error) {
	args := c.Args().Slice()
	list := c.String("from-list")
	if list == "" {
		return args, nil
	}
	more, err := listed(list)
	return append(args, more...), err
}

// listed are the rasters that a list has on its lines. Their paths are relative to the list.
func listed(list string) (out []string, err error) {
	data, _, err := text.Read(list)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(data)) {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if !filepath.IsAbs(line) {
			line = filepath.Join(filepath.Dir(list), line)
		}
		out = append(out, line)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s: the list names no raster: write one path on each line", list)
	}
	return out, nil
}

// rasterPaths are the rasters that are named, with patterns resolved.
func rasterPaths(args []string) (out []string, err error) {
	for _, a := range args {
		if _, err := os.Stat(a); err == nil || !strings.ContainsAny(a, "*?[") {
			out = append(out, a)
			continue
		}
		found, err := filepath.Glob(a)
		if err != nil {
			return nil, usage("the pattern %q is not understood (%v)", a, err)
		}
		if len(found) == 0 {
			return nil, fmt.Errorf("%s: no file fits the pattern: check the path", a)
		}
		out = append(out, found...)
	}
	return out, nil
}

// bandOf splits FILE@BAND.
func bandOf(arg string) (path string, band int) {
	if _, err := os.Stat(arg); err != nil {
		if i := strings.LastIndexByte(arg, '@'); i > 0 {
			if n, err := strconv.Atoi(arg[i+1:]); err == nil {
				return arg[:i], n
			}
		}
	}
	return arg, 1
}
