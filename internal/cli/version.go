package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"runtime"
	"runtime/debug"

	"github.com/urfave/cli/v3"
)

// versionInfo is what the program says of itself.
type versionInfo struct {
	Version  string `json:"version"`
	Revision string `json:"revision,omitempty"` // of the source
	Time     string `json:"time,omitempty"`     // of the revision
	Modified bool   `json:"modified,omitempty"` // the source was not quite that of the revision
	Go       string `json:"go"`
	OS       string `json:"os"`
	Arch     string `json:"arch"`
}

// versionOf is the version that was set when the program was built, or else that of the module it was installed from.
func versionOf(set string) versionInfo {
	v := versionInfo{Version: set, Go: runtime.Version(), OS: runtime.GOOS, Arch: runtime.GOARCH}
	build, ok := debug.ReadBuildInfo()
	if !ok {
		return v
	}
	if (set == "" || set == "dev") && build.Main.Version != "" && build.Main.Version != "(devel)" {
		v.Version = build.Main.Version
	}
	for _, s := range build.Settings {
		switch s.Key {
		case "vcs.revision":
			v.Revision = s.Value
		case "vcs.time":
			v.Time = s.Value
		case "vcs.modified":
			v.Modified = s.Value == "true"
		}
	}
	return v
}

func versionCommand() *cli.Command {
	return &cli.Command{
		Name:  "version",
		Usage: "the version of the program, and what it was built from",
		Description: `Prints the version; with --json, also the revision of the source, the version of Go, and the system.

  verdex version
  verdex version --json`,
		Flags: []cli.Flag{&cli.BoolFlag{Name: "json", Usage: "print a JSON object"}},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() > 0 {
				return usage("verdex version takes no arguments")
			}
			v := versionOf(c.Root().Version)
			if !c.Bool("json") {
				_, err := fmt.Fprintln(c.Root().Writer, "verdex", v.Version)
				return err
			}
			e := json.NewEncoder(c.Root().Writer)
			e.SetIndent("", "  ")
			return e.Encode(v)
		},
	}
}
