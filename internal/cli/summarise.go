package cli

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/summary"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/model"
)

// summariseOptions are those of summarise.
type summariseOptions struct {
	job.SummariseOptions
	tableOptions   `group:"output"`
	savePlanOption `group:"output"`
}

func summariseCommand() *cli.Command {
	return command(cli.Command{
		Name:  "summarise",
		Usage: "statistics of a value raster in each zone, optionally for each class",
		Description: `Summarises the measurements in each zone, weighted by the true area of each cell and by the share of it
that lies in the zone. The statistics are count (of cells), area, mean, std, min, max, range, median and
any percentile from p1 to p99 (exact, by area), sum (value × share of the cell: for cells that hold
amounts), variety, majority and minority (for whole numbers that are codes).

  verdex summarise elevation.tif --zones wards.gpkg --zone-id code
  verdex summarise elevation.tif --zones wards.gpkg --stats mean,p10,p90 --out heights.csv
  verdex summarise elevation.tif --per-class cover.tif --legend legend.csv --zones wards.gpkg`,
	}, runSummarise)
}

func runSummarise(s *session, o *summariseOptions) error {
	out, err := o.destination()
	if err != nil {
		return err
	}
	r, err := job.Summarise(s.ctx, s.env(), o.SummariseOptions)
	if err != nil {
		return err
	}
	if out.format == "table" {
		return paintStatistics(s.canvas(), r)
	}
	return s.write(out, model.Summary(r))
}

// statisticDecimals are the decimals of each statistic: those that are values have the same.
func statisticDecimals(s *job.Summarised) []int {
	out := make([]int, len(s.Stats))
	most := map[summary.Kind]float64{} // areas, amounts and values have decimals in common
	for i, stat := range s.Stats {
		for _, row := range s.Rows {
			if v := math.Abs(model.Statistic(s, row, i)); !math.IsNaN(v) {
				most[stat.Kind] = math.Max(most[stat.Kind], v)
			}
		}
	}
	for i, stat := range s.Stats {
		switch stat.Kind {
		case summary.Cells:
			out[i] = 1
		case summary.Variety, summary.Code:
		default:
			out[i] = text.Decimals(most[stat.Kind])
		}
	}
	return out
}

// paintStatistics draws a row for each zone, and under it for each class.
func paintStatistics(c *canvas, s *job.Summarised) error {
	c.line(c.bold(fmt.Sprintf("Values of %s in %s, by true ground", s.Name, text.Count(len(s.Zones.Zones), "zone"))))
	c.line()
	head := []string{"zone"}
	if s.Classes {
		head = append(head, "class")
	}
	texts := len(head)
	for _, stat := range s.Stats {
		if stat.Kind == summary.Area {
			head = append(head, s.Unit.Name)
		} else {
			head = append(head, stat.Name)
		}
	}
	decimals := statisticDecimals(s)
	var lines [][]string
	last := -1
	for _, row := range s.Rows {
		z := s.Zones.Zones[row.Zone]
		line := []string{runewidth.Truncate(title(cover.Named{ID: z.ID, Name: z.Name}), 32, "…")}
		if s.Classes {
			if row.Zone == last {
				line[0] = ""
			}
			last = row.Zone
			line = append(line, strings.TrimSpace(fmt.Sprint(row.Class)+" "+model.SummaryClass(s, row.Class)))
		}
		for i := range row.Values {
			line = append(line, text.Number(model.Statistic(s, row, i), decimals[i]))
		}
		lines = append(lines, line)
	}
	widths := make([]int, len(head))
	for _, line := range append([][]string{head}, lines...) {
		for i, t := range line {
			widths[i] = max(widths[i], runewidth.StringWidth(t))
		}
	}
	write := func(line []string, paint func(string) string) {
		out := ""
		for i, t := range line {
			if i < texts {
				out += left(t, widths[i]) + "  "
			} else {
				out += right(t, widths[i]) + "  "
			}
		}
		c.line(paint(strings.TrimRight(out, " ")))
	}
	write(head, c.dim)
	for _, line := range lines {
		write(line, func(s string) string { return s })
	}
	return c.flush()
}
