package cli

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
)

// unitSize is a unit of area in m².
func unitSize(name string) float64 {
	u, err := area.Find(name)
	if err != nil {
		return 1
	}
	return u.M2
}

// amount is an area with its unit, to as many decimals as say something.
func amount(v float64, unit string) string {
	decimals := 2
	if a := math.Abs(v); a > 0 && a < 1 {
		decimals = 4
	}
	return text.Number(v, decimals) + " " + unit
}

// paintExplained draws where a number comes from.
func paintExplained(c *canvas, e *explained) error {
	fact := func(key, value string) {
		lines := strings.Split(wrapped(value, c.width-15), "\n")
		for i, l := range lines {
			if i > 0 {
				key = ""
			}
			c.line("  " + c.dim(left(key, 13)) + strings.TrimLeft(l, " "))
		}
	}
	if x := e.Explanation; x != nil {
		paintExplanation(c, x, fact)
	} else if r := e.Row; r != nil {
		when := r.Epoch
		if when != "" {
			when = ", " + when
		}
		c.line(c.bold(fmt.Sprintf("%s in %s%s: %s", r.Class, r.Zone, when, amount(r.Area, r.Unit))))
		c.line()
	} else if n := len(e.Postings); n > 0 {
		p := e.Postings[n-1]
		c.line(c.bold(fmt.Sprintf("posting %d: %s", p.ID, amount(p.Area, p.Unit))))
		c.line()
	}
	paintCheckNames(e, fact)
	for i, p := range e.Postings {
		key := "posted"
		if i > 0 {
			key = ""
		}
		line := fmt.Sprintf("as %d in account %s: %s, by %s, %s UTC, %s", p.ID, p.Account, amount(p.Area, p.Unit), p.Author, timeText(p.At), p.State)
		if p.Before != nil {
			line += fmt.Sprintf("; supersedes %d, which had %s (%s)", p.Supersedes, amount(*p.Before, p.Unit), text.Signed(p.Area-*p.Before, 4))
		}
		if p.Note != "" {
			line += "; " + p.Note
		}
		fact(key, line)
		if len(p.Changed) > 0 {
			fact("", "since then "+strings.Join(p.Changed, "; "))
		}
		for _, in := range p.Inputs {
			fact("", "from "+in)
		}
	}
	if e.MadeBy != "" {
		fact("made by", e.MadeBy)
	}
	for _, n := range e.Notes {
		fact("note", n)
	}
	return c.flush()
}

// paintCheckNames lists the checks that hold, and what the others found in the zone.
func paintCheckNames(e *explained, fact func(key, value string)) {
	var hold []string
	for _, k := range e.Checks {
		if k.Outcome == "holds" || k.Outcome == "holds here" {
			hold = append(hold, k.Name)
		}
	}
	if len(hold) > 0 {
		fact("checks", strings.Join(hold, ", ")+map[bool]string{true: " holds", false: " hold"}[len(hold) == 1])
	}
	for _, k := range e.Checks {
		if len(k.Found) > 0 {
			fact("", k.Name+" falls short: "+strings.Join(k.Found, "; "))
		}
	}
}

// paintExplanation draws what a number is made of.
func paintExplanation(c *canvas, x *job.Explanation, fact func(key, value string)) {
	zone := x.ZoneID
	if x.ZoneName != "" && x.ZoneName != x.ZoneID {
		zone = fmt.Sprintf("%s (%s)", x.ZoneName, x.ZoneID)
	}
	what, when := x.ClassName, x.Epoch
	if x.FromName != "" {
		what, when = x.FromName+" to "+x.ClassName, x.FromEpoch+" to "+x.Epoch
	}
	if when != "" {
		when = ", " + when
	}
	c.line(c.bold(fmt.Sprintf("%s in %s%s: %s", what, zone, when, amount(x.Area, x.Unit))))
	c.line()
	share := fmt.Sprintf("%s %% of the zone, which has %s", text.Number(x.PctOfZone, 2), amount(x.ZoneArea, x.Unit))
	if x.FromName != "" {
		share += fmt.Sprintf("; %s %% of what was %s and is mapped at both epochs", text.Number(x.PctOfOpening, 2), x.FromName)
	} else if x.PctOfClassified > 0 {
		share += fmt.Sprintf("; %s %% of what is classified in it", text.Number(x.PctOfClassified, 2))
	}
	fact("share", share)
	if x.FromName == "" {
		cut := "none is cut by the outline"
		if x.CutCells > 0 {
			cut = fmt.Sprintf("and the parts of %s that the outline cuts, together %s", text.Count(int(x.CutCells), "cell"), text.Number(x.CutShare, 2))
		}
		fact("cells", fmt.Sprintf("%s: %s whole, %s", text.Number(x.Cells, 2), text.Number(float64(x.WholeCells), 0), cut))
	} else {
		fact("cells", text.Number(x.Cells, 2)+", cut ones by their share")
	}
	if x.GreatestCell > 0 {
		fact("true cell", fmt.Sprintf("%s m² on average, %s to %s", text.Number(x.MeanCell, 3), text.Number(x.LeastCell, 3), text.Number(x.GreatestCell, 3)))
	} else if x.MeanCell > 0 {
		fact("true cell", text.Number(x.MeanCell, 3)+" m² on average")
	}
	if x.NominalCell > 0 && x.Area > 0 {
		fact("nominal", fmt.Sprintf("%s by cells × %s m², which is off by %s %%", amount(x.Nominal, x.Unit), text.Number(x.NominalCell, 3), text.Signed((x.Nominal-x.Area)/x.Area*100, 4)))
	} else if x.NominalCell == 0 {
		fact("nominal", "none: the raster is in degrees, so a count of cells says nothing about area")
	}
	difference := ""
	if x.Area > 0 {
		difference = fmt.Sprintf(" (%s %%)", text.Signed((x.OtherEdgeArea-x.Area)/x.Area*100, 2))
	}
	fact("edges", fmt.Sprintf("%s; by %s it would be %s%s", x.Edges, x.OtherEdges, amount(x.OtherEdgeArea, x.Unit), difference))
	paintSources(c, x, fact)
	fact("read", fmt.Sprintf("%s; %s of %s of %d × %d cells", strings.Join(x.Rasters, ", "), text.Number(float64(x.Blocks), 0), text.Count(x.Of, "block"), x.BlockW, x.BlockH))
	if len(x.Others) > 0 {
		var list []string
		for _, o := range x.Others {
			label := o.Epoch
			if o.FromEpoch != "" {
				label = o.FromEpoch + "–" + o.Epoch
			}
			list = append(list, label+": "+amount(o.Area, x.Unit))
		}
		fact("other epochs", strings.Join(list, " · "))
	}
}

// sourceText names what a part of a number is made of.
func sourceText(s job.SourceShare) string {
	switch {
	case strings.HasPrefix(s.FromValue, "class "):
		return s.FromValue + ", then " + s.Value
	case s.FromValue != "":
		return "value " + s.FromValue + ", then " + s.Value
	case s.Value == "nodata":
		return "nodata"
	case s.Value == "":
		return "values in " + s.LineFrom
	}
	return "value " + s.Value
}

// paintSources draws which values and lines of a crosswalk a number is made of.
func paintSources(c *canvas, x *job.Explanation, fact func(key, value string)) {
	const most = 12
	width := 22
	for _, s := range x.Sources[:min(most, len(x.Sources))] {
		width = max(width, min(32, len(sourceText(s))+1))
	}
	for i, s := range x.Sources {
		key := "made of"
		if i > 0 {
			key = ""
		}
		if i == most {
			fact("", fmt.Sprintf("and %d more", len(x.Sources)-most))
			return
		}
		line := left(sourceText(s), width) + right(amount(s.Area, x.Unit), 18) + right(text.Number(s.Pct, 1)+" %", 9)
		if s.Line > 0 {
			line += fmt.Sprintf("  by line %d of %s (%s)", s.Line, s.Crosswalk, s.LineFrom)
			if s.Note != "" {
				line += ": " + s.Note
			}
		}
		c.line("  " + c.dim(left(key, 13)) + line)
	}
	if len(x.Sources) == 0 {
		fact("made of", "nothing: no value of the zone is of that class")
	}
}
