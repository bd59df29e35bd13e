package cli

import (
	"fmt"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/text"
)

type webCacheOptions struct {
	Empty bool `opt:"empty" help:"remove what is kept"`
}

func webCacheCommand() *cli.Command {
	return command(cli.Command{
		Name:  "cache",
		Usage: "what is kept of files of the web",
		Description: `Shows the folder in which what was fetched from servers is kept between runs, and how much it holds; or empties it. What is removed is fetched
again when it is needed. VERDEX_CACHE_DIR names another folder; --no-cache does without one.

  verdex cache
  verdex cache --empty`,
	}, func(s *session, o *webCacheOptions) error {
		k := webCache(false)
		if k == nil {
			return usage("the system names no folder for what is kept: name one in VERDEX_CACHE_DIR")
		}
		if o.Empty {
			if err := k.Empty(); err != nil {
				return fmt.Errorf("%s: it could not be emptied (%w)", k.Dir, fault.Reason(err))
			}
		}
		held := k.Contents()
		c := s.canvas()
		c.line(left("folder", 10), k.Dir)
		c.line(left("files", 10), text.Number(float64(held.Files), 0))
		c.line(left("size", 10), size(held.Bytes), c.dim(" (at most "+size(k.Most())+" are kept)"))
		return c.flush()
	})
}
