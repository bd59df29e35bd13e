package geotiff

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
)

// WorldFiles are the endings of files beside a TIFF that say where its cells lie: six numbers, a line each.
var WorldFiles = []string{".tfw", ".TFW", ".tifw", ".wld"}

// placeBeside takes the place of a raster that states none from a world file beside it, and its CRS from the .prj file beside that.
func placeBeside(from files.System, path string, h *raster.Header) error {
	if files.IsURL(path) {
		return nil
	}
	name := files.FindBeside(from, path, WorldFiles...)
	if name == "" {
		return nil
	}
	text, err := from.ReadFile(name)
	if err != nil {
		return err
	}
	g := h.Grid
	if err := worldFile(string(text), &g); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	h.Unplaced, h.CRSProblem = false, "it has no CRS: no .prj file stands beside "+name
	note := "where its cells lie is what " + name + " says"
	if prj := files.FindBeside(from, path, ".prj", ".PRJ"); prj != "" {
		if text, err = from.ReadFile(prj); err != nil {
			return err
		}
		if g.CRS, err = earth.ParseCRS(strings.TrimSpace(string(text))); err != nil {
			h.CRSProblem = fmt.Sprintf("the CRS in %s is not understood (%v)", prj, err)
		} else {
			h.CRSProblem = ""
			note += ", in the CRS of " + prj
		}
	}
	h.Notes = append(h.Notes, note)
	if err := g.Check(); err != nil {
		return fmt.Errorf("%w: is that what %s is to say?", err, name)
	}
	h.Grid = g
	return nil
}

// worldFile reads the width of a cell, two rotations, the height of a cell (below 0 where row 0 is the northern one), and the centre of the first cell.
func worldFile(text string, g *raster.Grid) error {
	words := strings.Fields(text)
	var v [6]float64
	for i := range v {
		if i >= len(words) {
			return fmt.Errorf("it has %d numbers, and a world file has six", len(words))
		}
		var err error
		word := words[i]
		if !strings.Contains(word, ".") { // as some programs write them
			word = strings.Replace(word, ",", ".", 1)
		}
		if v[i], err = decimal.Parse(word); err != nil || math.IsNaN(v[i]) || math.IsInf(v[i], 0) {
			return fmt.Errorf("line %d: %q is not a number", i+1, words[i])
		}
	}
	if math.Abs(v[1])+math.Abs(v[2]) > 1e-12*(math.Abs(v[0])+math.Abs(v[3])) {
		return fmt.Errorf("its grid is rotated against its CRS, which is not read: turn it north-up first")
	}
	g.DX, g.DY = v[0], v[3]
	g.X0, g.Y0 = v[4]-v[0]/2, v[5]-v[3]/2
	return nil
}
