package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/cover"

	"github.com/mattn/go-runewidth"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/zone"
)

// zonesJSON is what look says of a file of zones as JSON.
type zonesJSON struct {
	File     string         `json:"file"`
	Format   string         `json:"format"`
	Layers   []string       `json:"layers,omitempty"`
	CRS      string         `json:"crs"`
	Features int            `json:"features"`
	Kinds    map[string]int `json:"geometry"`
	Pieces   int            `json:"pieces"`
	Vertices int            `json:"vertices"`
	Area     float64        `json:"area_ha"`
	Fields   []zone.Field   `json:"fields"`
	Zones    []zoneJSON     `json:"zones"`
	Findings []finding      `json:"findings,omitempty"`
	Notes    []string       `json:"notes,omitempty"`
}

type zoneJSON struct {
	ID     string  `json:"zone_id"`
	Name   string  `json:"zone_name"`
	Pieces int     `json:"pieces"`
	Area   float64 `json:"area_ha"`
	Share  float64 `json:"pct_on_raster,omitempty"`
}

type fieldValueJSON struct {
	Value    string  `json:"value"`
	Features int     `json:"features"`
	Area     float64 `json:"area_ha"`
}

func zonesJSONOf(z *job.ZonesLook) any {
	if z.FieldValues != nil {
		var out []fieldValueJSON
		for _, v := range z.FieldValues {
			out = append(out, fieldValueJSON(v))
		}
		return out
	}
	out := zonesJSON{File: z.File, Format: z.Format, CRS: z.CRS, Features: z.Features, Kinds: z.Kinds, Pieces: z.Pieces, Vertices: z.Vertices, Area: z.Area,
		Fields: z.Fields, Findings: findings(z.Findings), Notes: z.Notes}
	for _, l := range z.Layers {
		out.Layers = append(out.Layers, fmt.Sprintf("%s (%s, %s)", l.Name, strings.ToLower(l.Geometry), text.Count(int(l.Features), "feature")))
	}
	for _, l := range z.Zones {
		out.Zones = append(out.Zones, zoneJSON{l.ID, l.Name, l.Pieces, l.Area, l.OnRaster})
	}
	return out
}

// lookZones reports what a file of zones holds, and how its zones lie on a raster beside it.
func (s *session) lookZones(o *lookOptions) error {
	z, err := job.LookZones(s.ctx, s.env(), o.LookOptions)
	if err != nil {
		return err
	}
	if o.JSON {
		return s.writeJSON(zonesJSONOf(z))
	}
	c := s.canvas()
	switch {
	case z.Several:
		err = paintLayers(c, z)
	case z.FieldValues != nil:
		err = paintFieldValues(c, o.Values, z.FieldValues)
	default:
		err = paintZones(c, z)
	}
	if err != nil {
		return err
	}
	s.notes(z.Notes)
	for _, f := range z.Findings {
		s.finding(f, "")
	}
	return s.strict(o.Strict)
}

// paintLayers lists the layers of a file that has several.
func paintLayers(c *canvas, z *job.ZonesLook) error {
	paintFacts(c, []job.Fact{{Key: "file", Value: z.File}, {Key: "format", Value: z.Format}, {Key: "layers", Value: fmt.Sprintf("%d; look at one with verdex look %s#LAYER", len(z.Layers), z.File)}})
	c.line()
	width := 5
	for _, l := range z.Layers {
		width = max(width, runewidth.StringWidth(l.Name))
	}
	c.line(c.dim(left("layer", width) + "  " + left("geometry", 20) + right("features", 12)))
	for _, l := range z.Layers {
		c.line(left(l.Name, width), "  ", left(strings.ToLower(l.Geometry), 20), right(text.Number(float64(l.Features), 0), 12))
	}
	return c.flush()
}

func paintZones(c *canvas, z *job.ZonesLook) error {
	order := slices.SortedFunc(maps.Keys(z.Kinds), func(a, b string) int { return cmp.Or(z.Kinds[b]-z.Kinds[a], cmp.Compare(a, b)) })
	var kinds []string
	for _, k := range order {
		kinds = append(kinds, fmt.Sprintf("%s %s", text.Number(float64(z.Kinds[k]), 0), k))
	}
	facts := []job.Fact{{Key: "file", Value: z.File}, {Key: "format", Value: z.Format}}
	if z.Layer != "" {
		facts = append(facts, job.Fact{Key: "layer", Value: z.Layer})
	}
	facts = append(facts, job.Fact{Key: "CRS", Value: z.CRS},
		job.Fact{Key: "features", Value: fmt.Sprintf("%s (%s), in %s with %s", text.Number(float64(z.Features), 0), strings.Join(kinds, ", "), text.Count(z.Pieces, "piece"), text.Count(z.Vertices, "corner"))},
		job.Fact{Key: "true area", Value: text.Number(z.Area, 1) + " ha in all"})
	if len(z.Zones) > 0 && len(z.Zones) != z.Features {
		facts = append(facts, job.Fact{Key: "zones", Value: text.Number(float64(len(z.Zones)), 0)})
	}
	paintFacts(c, facts)
	c.line()
	width := 5
	for _, f := range z.Fields {
		width = max(width, runewidth.StringWidth(f.Name))
	}
	c.line(c.dim(left("field", width) + "  " + left("kind", 13) + right("values", 9) + right("distinct", 10) + "  " + left("id?", 8) + "example"))
	for _, f := range z.Fields {
		id := ""
		switch {
		case f.ID && f.Distinct == f.Values:
			id = "yes"
		case f.ID:
			id = "pieces" // features that share one would be one zone
		}
		c.line(left(f.Name, width), "  ", left(f.Kind, 13), right(text.Number(float64(f.Values), 0), 9), right(text.Number(float64(f.Distinct), 0), 10), "  ", left(id, 8), runewidth.Truncate(f.Example, 40, "…"))
	}
	if len(z.Zones) > 0 {
		c.line()
		head := left("zone", 28) + right("pieces", 8) + right("hectares", 16)
		if z.Raster != "" {
			head += right("% on raster", 14)
		}
		c.line(c.dim(head))
	}
	for i, l := range z.Zones {
		if i == 40 {
			c.line(c.dim("… and " + text.Count(len(z.Zones)-40, "more zone")))
			break
		}
		line := left(title(cover.Named{ID: l.ID, Name: l.Name}), 28) + right(fmt.Sprint(l.Pieces), 8) + right(text.Number(l.Area, 1), 16)
		if z.Raster != "" {
			line += right(fmt.Sprintf("%.2f", l.OnRaster), 14)
		}
		c.line(line)
	}
	return c.flush()
}

// paintFieldValues lists the values of a field with their features and areas.
func paintFieldValues(c *canvas, field string, values []job.FieldValue) error {
	width := runewidth.StringWidth(field)
	for _, v := range values {
		width = min(60, max(width, runewidth.StringWidth(v.Value)))
	}
	c.line(c.dim(left(field, width) + right("features", 12) + right("hectares", 16)))
	for _, v := range values {
		c.line(left(runewidth.Truncate(v.Value, width, "…"), width), right(text.Number(float64(v.Features), 0), 12), right(text.Number(v.Area, 1), 16))
	}
	return c.flush()
}
