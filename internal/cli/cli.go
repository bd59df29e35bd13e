// Package cli is what the user meets: commands, flags, messages, exit codes. Nothing else knows the
// terminal. Each command has a file of its own; inputs.go opens what commands read, output.go
// writes files whole or not at all, report.go tells notes and progress, paint.go draws tables.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/internal/output"
)

// Exit codes.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
	exitStrict = 3
)

// gcPercent lets garbage grow to five times of what is kept before it is collected. What is kept is small (a
// few windows, the zones, the sums), so that this costs tens of megabytes, and a measuring with many zones is
// a twentieth faster.
const gcPercent = 400

// usageError is a wrong use of the command line.
type usageError struct{ error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// errStrict says that the work is done but a check fell short.
var errStrict = errors.New("a check fell short")

// collect sets how far garbage may grow, unless the user has done so.
func collect(percent int) {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(percent)
	}
}

func init() {
	cli.VersionPrinter = func(c *cli.Command) { fmt.Fprintf(c.Root().Writer, "verdex %s\n", c.Root().Version) }
}

// Main runs the program and returns its exit code.
func Main(args []string, version string, stdout, stderr io.Writer) (code int) {
	defer func() {
		if p := recover(); p != nil {
			fmt.Fprintf(stderr, "verdex: an unforeseen fault: %v\nThis is a mistake in Verdex, not in your files. Please report it with these lines:\n%s", p, debug.Stack())
			code = exitFailed
		}
	}()
	collect(gcPercent)
	temporaries := &output.Temporaries{}
	ctx, stop := interruptible(context.WithValue(context.Background(), temporariesKey{}, temporaries), temporaries, stderr)
	defer stop()
	root := newRoot(version, stdout, stderr)
	args = negatedExpression(root, args)
	err := helpFor(root, root.Run(context.WithValue(ctx, argumentsKey{}, args), args))
	var wrong usageError
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errStrict):
		return exitStrict
	case errors.Is(err, context.Canceled) && ctx.Err() != nil:
		fmt.Fprintln(stderr, interrupted)
		return exitFailed
	case errors.As(err, &wrong):
		fmt.Fprintf(stderr, "verdex: %s\n", printableLines(err.Error()))
		return exitUsage
	}
	fmt.Fprintf(stderr, "verdex: %s\n", printableLines(err.Error()))
	return exitFailed
}

func newRoot(version string, stdout, stderr io.Writer) *cli.Command {
	root := &cli.Command{
		Name:    "verdex",
		Usage:   "turns classified maps into accounts of land",
		Version: version,
		Description: `Verdex reads categorical rasters and zones, measures how much true ground each class
holds in every zone, and tells what changed between years.

  verdex demo                     writes sample data and does the whole job on it
  verdex look cover.tif           what is in a raster, and what will go wrong with it
  verdex measure cover.tif --zones wards.geojson --zone-id code
  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --zones wards.geojson`,
		Writer:                stdout,
		ErrWriter:             stderr,
		EnableShellCompletion: true,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "quiet", Usage: "say nothing but results, warnings and errors"},
			&cli.BoolFlag{Name: "log-json", Usage: "notes and warnings as JSON lines"},
			&cli.IntFlag{Name: "threads", Validator: func(n int) error { return within(n, 0, 1024) }, Usage: "processors to use; 0 takes all"},
		},
		Commands: []*cli.Command{lookCommand(), mosaicCommand(), clipCommand(), alignCommand(), reclassifyCommand(), deriveCommand(), patchesCommand(), zonesCommand(), measureCommand(), changeCommand(), accountCommand(), bookCommand(), summariseCommand(), attachCommand(), demoCommand()},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() > 0 {
				return noCommand(c, c.Args().First())
			}
			return cli.ShowRootCommandHelp(c)
		},
	}
	prepareCommand(root)
	return root
}

// prepareCommand gives a command and those below it what all have in common.
func prepareCommand(c *cli.Command) {
	c.OnUsageError = func(ctx context.Context, c *cli.Command, err error, _ bool) error { return misused(ctx, c, err) }
	c.DisableSliceFlagSeparator = true // names of files may have commas
	if has(c, "zones-crs") || has(c, "crs") && c.Name != "grid" {
		c.Flags = append(c.Flags, overrideFlag())
	}
	for _, f := range c.Flags { // of two values one would be ignored
		switch f := f.(type) {
		case *cli.StringFlag:
			f.OnlyOnce = true
		case *cli.IntFlag:
			f.OnlyOnce = true
		case *cli.FloatFlag:
			f.OnlyOnce = true
		case *cli.DurationFlag:
			f.OnlyOnce = true
		}
	}
	switch {
	case len(c.Commands) == 0:
		c.Action = withFiles(c.Action)
	case c.Action == nil:
		c.Action = func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() > 0 {
				return noCommand(c, c.Args().First())
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
	for _, sub := range c.Commands {
		prepareCommand(sub)
	}
}
