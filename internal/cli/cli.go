// Package cli is what the user meets: commands, options, messages, exit codes. Nothing else knows the terminal.
//
// Each command has a file of its own, which fills a struct of options (flags.go), calls a job, and shows or writes what it
// returns. session.go is a command while it runs, files.go checks and commits its files, output.go writes tables, rasters and
// features, report.go writes notes and progress, and paint.go and grid.go draw.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"regexp"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/internal/output"
)

// Exit codes.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
	exitStrict = 3
	exitSignal = 128 // and the number of the signal
)

// usageError is a wrong use of the command line.
type usageError struct{ error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// errStrict says that the work is done but a check fell short.
var errStrict = errors.New("a check fell short")

func init() {
	cli.VersionPrinter = func(c *cli.Command) { fmt.Fprintf(c.Root().Writer, "verdex %s\n", c.Root().Version) }
}

// Main runs the program and returns its exit code.
func Main(args []string, version string, stdout, stderr io.Writer) (code int) {
	defer func() {
		if p := recover(); p != nil && slices.Contains(args, "--log-json") {
			slog.New(slog.NewJSONHandler(stderr, nil)).Error(fmt.Sprintf("an unforeseen fault: %v", p), "code", "fault", "stack", string(debug.Stack()))
			code = exitFailed
		} else if p != nil {
			fmt.Fprintf(stderr, "verdex: an unforeseen fault: %v\nThis is a mistake in Verdex, not in your files. Please report it with these lines:\n%s", p, debug.Stack())
			code = exitFailed
		}
	}()
	tuneGarbage()
	temporaries := &output.Temporaries{}
	ctx, signalled, stop := interruptible(context.WithValue(context.Background(), temporariesKey{}, temporaries), temporaries, stderr)
	defer stop()
	root := newRootFor(args, version, stdout, stderr)
	if len(args) > 3 && args[1] == completeCommand {
		completeWords(root, stdout, args[2], args[3:])
		return exitDone
	}
	args = negatedExpression(root, args)
	err := helpFor(root, root.Run(context.WithValue(ctx, argumentsKey{}, args), args))
	fail := func(code string, message string, exit int) int {
		switch {
		case root.Bool("log-json"):
			slog.New(slog.NewJSONHandler(stderr, nil)).Error(message, "code", code)
		case code == "interrupted":
			fmt.Fprintln(stderr, interrupted)
		default:
			fmt.Fprintf(stderr, "verdex: %s\n", printableLines(message))
		}
		return exit
	}
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errStrict) && root.Bool("log-json"):
		return fail("check", errStrict.Error(), exitStrict)
	case errors.Is(err, errStrict):
		return exitStrict
	case errors.Is(err, errSilent):
		return exitFailed
	case errors.Is(err, context.Canceled) && ctx.Err() != nil:
		return fail("interrupted", strings.TrimPrefix(interrupted, "verdex: "), signalled())
	case closedOutput(err):
		return exitSignal + int(syscall.SIGPIPE)
	}
	if m := badEnvironment.FindStringSubmatch(err.Error()); m != nil {
		err = usage("%s is %s, which --%s does not take: correct it, or unset it", m[2], m[1], m[3])
	}
	message, exit := messageOf(err), exitFailed
	if isMisuse(err) {
		exit = exitUsage
	}
	return fail(errorCode(err, message), message, exit)
}

// badEnvironment is what the library says of an environment variable that an option does not take.
var badEnvironment = regexp.MustCompile(`^could not parse (".*") as .* value from environment variable "(\w+)" for flag ([\w-]+)`)

// isMisuse reports whether the command line is wrong, whatever the files hold.
func isMisuse(err error) bool {
	var wrong usageError
	var misuse *fault.Error
	return errors.As(err, &wrong) || errors.As(err, &misuse) && misuse.Misuse
}

// newRoot is the program with all of its commands.
func newRoot(version string, stdout, stderr io.Writer) *cli.Command {
	root := commands(version, stdout, stderr)
	giveFlags(root)
	return root
}

// newRootFor is the program for a command line that need not have more than the command that it begins with: the options of all take longer to prepare
// than most of what runs.
func newRootFor(args []string, version string, stdout, stderr io.Writer) *cli.Command {
	root := commands(version, stdout, stderr)
	switch {
	case len(args) == 2 && args[1] == "--version":
	case len(args) > 1 && root.Command(args[1]) != nil:
		giveFlags(root.Command(args[1]))
	default:
		giveFlags(root)
	}
	return root
}

// commands are the program and its commands, without their options.
func commands(version string, stdout, stderr io.Writer) *cli.Command {
	root := &cli.Command{
		Name:    "verdex",
		Usage:   "turns classified maps into accounts of land",
		Version: version,
		Description: `Verdex reads categorical rasters and zones, measures how much true ground each class
holds in every zone, and reports what changed between years.

  verdex demo                     writes sample data and does the whole job on it
  verdex look cover.tif           what is in a raster, and what will go wrong with it
  verdex measure cover.tif --zones wards.geojson --zone-id code
  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --zones wards.geojson`,
		Writer:         stdout,
		ErrWriter:      stderr,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "quiet", Sources: fromEnvironment("quiet"), Usage: "print nothing but results, warnings and errors"},
			&cli.BoolFlag{Name: "log-json", Sources: fromEnvironment("log-json"), Usage: "write notes and warnings as JSON lines"},
			&cli.StringFlag{Name: "color", Sources: fromEnvironment("color"), Value: "auto", OnlyOnce: true, Validator: knownColor, Usage: "colours and drawn signs: `WHEN` is auto (on a terminal), always or never"},
			&cli.BoolFlag{Name: "offline", Sources: fromEnvironment("offline"), Usage: "ask no server: of files of the web only what is in the cache is read"},
			&cli.BoolFlag{Name: "no-cache", Sources: fromEnvironment("no-cache"), Usage: "keep nothing of files of the web, and use nothing that was kept"},
			&cli.IntFlag{Name: "threads", Sources: fromEnvironment("threads"), OnlyOnce: true, Validator: func(n int) error { return within(n, 0, 1024) }, Usage: "processors to use; 0 takes all"},
		},
		Commands: []*cli.Command{lookCommand(), mosaicCommand(), clipCommand(), alignCommand(), reclassifyCommand(), deriveCommand(), patchesCommand(), zonesCommand(), measureCommand(), changeCommand(), accountCommand(), bookCommand(), summariseCommand(), attachCommand(), gatherCommand(), planCommand(), checkCommand(), runCommand(), explainCommand(), drawCommand(), reportCommand(), webCacheCommand(), demoCommand(), completionCommand(), versionCommand()},
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
	if len(c.Commands) > 0 && c.Action == nil {
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

// knownColor refuses what --color does not take.
func knownColor(when string) error {
	if when != "auto" && when != "always" && when != "never" {
		return fmt.Errorf("%s: give auto, always or never", when)
	}
	return nil
}

// within refuses a number outside a range.
func within(n, least, most int) error {
	if n < least || n > most {
		return fmt.Errorf("%d: give a number from %d to %d", n, least, most)
	}
	return nil
}
