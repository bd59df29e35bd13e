package plan

import (
	"encoding/csv"
	"fmt"
	"maps"
	"math"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/text"
)

// quoted writes a text as YAML.
func quoted(text string) string {
	if text == "" || strings.ContainsAny(text, ":#{}[],&*!|>'\"%@`?") || strings.TrimSpace(text) != text || slices.Contains([]string{"true", "false", "null", "yes", "no", "~"}, strings.ToLower(text)) {
		return strconv.Quote(text)
	}
	return text
}

func (s *scaffold) write() {
	s.line("# yaml-language-server: $schema=%s", SchemaName)
	s.line("# A plan: it states the whole job. verdex check tests it, verdex run does it.")
	s.line("plan: %d", Version)
	name := filepath.Base(s.dir)
	if full, err := filepath.Abs(s.dir); err == nil {
		name = filepath.Base(full)
	}
	s.line("title: %s", quoted("Land cover of "+name))
	s.line("# contact: who answers questions about it")
	s.line("# licence: the terms under which the outputs may be used, such as CC-BY-4.0")
	s.line("")
	epochs := s.epochs()
	s.writeLegend(epochs)
	s.writeZones()
	s.writeLayers()
	s.writeEpochs(epochs)
	s.writeRest(epochs)
	s.Files = append([]DraftFile{{"plan.yaml", []byte(s.body.String())}}, s.Files...)
}

// writeLegend names the legend, or makes one of the values that occur.
func (s *scaffold) writeLegend(epochs []dateCovers) {
	if s.legend != "" {
		s.Found = append(s.Found, s.legend+": a legend")
		s.line("legend: %s", quoted(s.legend))
		s.line("")
		if l, err := cover.ReadLegend(files.Disk, filepath.Join(s.dir, s.legend)); err == nil {
			s.known = map[int]bool{}
			for _, c := range l.Classes {
				s.known[c.Code] = true
			}
		}
		return
	}
	s.known = map[int]bool{}
	s.legend = "legend.csv"
	classes := [][]string{{"code", "name", "color", "group"}}
	if len(epochs) > 0 {
		last := epochs[len(epochs)-1].of[0]
		for _, v := range last.look.Values {
			if v.Missing || v.Value != math.Trunc(v.Value) {
				continue
			}
			color := ""
			if k := int(v.Value); k >= 0 && k < len(last.header.Palette) {
				color = last.header.Palette[k].String()
			}
			s.known[int(v.Value)] = true
			classes = append(classes, []string{strconv.Itoa(int(v.Value)), fmt.Sprintf("class %d", int(v.Value)), color, ""})
		}
		s.decide(0, "what the classes of %s are called: fill in name, color and group in %s", last.name, s.legend)
	} else {
		classes = append(classes, []string{"1", "class 1", "", ""}, []string{"2", "class 2", "", ""})
		s.decide(0, "which classes there are: fill in %s", s.legend)
	}
	s.Files = append(s.Files, DraftFile{s.legend, table(classes)})
	s.line("legend: %s", s.legend)
	s.line("")
}

func table(lines [][]string) []byte {
	var b strings.Builder
	w := csv.NewWriter(&b)
	w.WriteAll(lines) // into memory
	return []byte(b.String())
}

// writeZones names the files of zones, with the field that identifies them.
func (s *scaffold) writeZones() {
	if len(s.zones) == 0 {
		s.comment(0, "There is no file of zones here, so the whole of each raster is measured. Zones would be:")
		s.line("# zones: {zones: wards.gpkg, zone-id: code, zone-name: name}")
		s.line("")
		return
	}
	s.line("zones:")
	for _, z := range s.zones {
		name := strings.TrimSuffix(filepath.Base(z.File), filepath.Ext(z.File))
		id, label := "", ""
		pieces := false
		for _, f := range z.Fields {
			if f.ID && (id == "" || pieces && f.Distinct == z.Features) && !strings.EqualFold(f.Name, "fid") {
				id, pieces = f.Name, f.Distinct < z.Features
			}
			if label == "" && strings.Contains(strings.ToLower(f.Name), "name") {
				label = f.Name
			}
		}
		for _, f := range z.Fields { // pieces of one place share their id
			if f.ID && f.Distinct < z.Features && f.Distinct > 1 && f.Name != label && !pieces && idLike(f.Name) {
				id, pieces = f.Name, true
			}
		}
		what := fmt.Sprintf("%s: %s in %s", filepath.Base(z.File), text.Count(z.Features, "feature"), z.CRS)
		placed := z.CRS != "" && !strings.HasPrefix(z.CRS, "none")
		if !placed {
			what = fmt.Sprintf("%s: %s without a CRS", filepath.Base(z.File), text.Count(z.Features, "feature"))
		}
		s.Found = append(s.Found, what)
		s.comment(2, "%s", what)
		switch {
		case z.Several:
			s.decide(2, "which layer of %s has the zones: add #LAYER", filepath.Base(z.File))
		case pieces:
			s.comment(2, "Some features of %s share their value of %s: they are pieces of one zone.", filepath.Base(z.File), id)
		case id == "":
			var names []string
			for _, f := range z.Fields {
				names = append(names, f.Name)
			}
			s.decide(2, "which field of %s identifies the zones (%s)", filepath.Base(z.File), strings.Join(names, ", "))
		}
		if !placed && !z.Several {
			s.decide(2, "the CRS of %s, which does not state one: add zones-crs: EPSG:NUMBER", filepath.Base(z.File))
		}
		for _, f := range z.Findings {
			s.comment(2, "%s: %s", filepath.Base(z.File), f.What)
		}
		s.line("  %s:", quoted(name))
		s.line("    zones: %s", quoted(filepath.Base(z.File)))
		if id != "" {
			s.line("    zone-id: %s", quoted(id))
		}
		if label != "" && label != id {
			s.line("    zone-name: %s", quoted(label))
		}
	}
	s.line("")
}

// writeLayers names rasters of measurements, and the bands of scenes.
func (s *scaffold) writeLayers() {
	if len(s.values)+len(s.scenes) == 0 {
		return
	}
	s.line("layers:")
	taken := map[string]bool{}
	for _, v := range s.values {
		name := safeName(strings.TrimSuffix(v.name, filepath.Ext(v.name)), taken)
		what := fmt.Sprintf("%s: measurements (%v)", v.name, v.header.Type)
		if m := v.look.Measurements; m != nil {
			what = fmt.Sprintf("%s: measurements from %s to %s", v.name, text.Number(m.Least, 1), text.Number(m.Greatest, 1))
		} else if n := len(v.look.Values); n > 0 {
			what = fmt.Sprintf("%s: measurements from %s to %s", v.name, text.Number(v.look.Values[0].Value, 1), text.Number(v.look.Values[n-1].Value, 1))
		}
		s.Found = append(s.Found, what)
		s.comment(2, "%s", what)
		if strings.Contains(strings.ToLower(v.name), "elev") || strings.Contains(strings.ToLower(v.name), "dem") {
			s.line("  slope: {slope: %s, in: percent}", quoted(v.name))
			continue
		}
		s.line("  %s: %s", name, quoted(v.name))
	}
	if len(s.scenes) > 0 { // others are likely to have the same bands
		f := s.scenes[0]
		file, per := f.name, ""
		if f.date != "" {
			file, per = strings.Replace(f.name, f.date, "{epoch}", 1), " of each date"
		}
		what := fmt.Sprintf("%s%s: %s", file, per, text.Count(f.header.Bands, "band"))
		s.Found = append(s.Found, what)
		s.comment(2, "%s", what)
		s.decide(2, "which band of %s is which, and what is computed of them", file)
		for b := range min(f.header.Bands, 12) {
			s.line("  band%d: %s", b+1, quoted(fmt.Sprintf("%s#%d", file, b+1)))
		}
		s.line("  index: {expr: (band2 - band1) / (band2 + band1)}")
	}
	s.line("")
}

func safeName(name string, taken map[string]bool) string {
	name = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' {
			return r
		}
		return '_'
	}, name)
	for taken[name] {
		name += "_"
	}
	taken[name] = true
	return name
}

// writeEpochs names the covers.
func (s *scaffold) writeEpochs(epochs []dateCovers) {
	s.line("epochs:")
	for _, e := range epochs {
		s.writeEpoch(e)
	}
	dates := 0
	for _, f := range s.scenes {
		if f.date != "" && !slices.ContainsFunc(epochs, func(e dateCovers) bool { return e.date == f.date }) {
			dates++
		}
	}
	if len(epochs) == 0 && dates > 0 {
		f := s.scenes[0]
		pattern := strings.Replace(f.name, f.date, "{date}", 1)
		s.comment(2, "%s: %s", pattern, text.Count(dates, "date"))
		s.line("  find: %s", quoted(pattern))
		s.line("  cover: index")
		s.line("  crosswalk: limits.csv")
		s.decide(2, "the limits between classes of the index: fill in limits.csv")
		s.Files = append(s.Files, DraftFile{"limits.csv", table([][]string{{"from", "to", "note"}, {"(-inf,0.3)", "1", ""}, {"[0.3,inf)", "2", ""}})})
	} else if len(epochs) == 0 {
		s.decide(2, "what is measured, and of which dates")
		s.line("  %q: index", "2020")
	}
	s.line("")
}

func (s *scaffold) writeEpoch(e dateCovers) {
	var names []string
	for _, c := range e.of {
		names = append(names, c.name)
	}
	h := e.of[0].header
	what := fmt.Sprintf("%s: %s × %s cells of %v, %v", s.pattern(names), text.Number(float64(h.Grid.Width), 0), text.Number(float64(h.Grid.Height), 0), h.Type, h.Grid.CRS)
	if n := len(names); n > 1 {
		what = fmt.Sprintf("%s: %s of one date, which are one raster; %v", s.pattern(names), text.Count(n, "tile"), h.Grid.CRS)
	}
	s.Found = append(s.Found, what)
	s.comment(2, "%s", what)
	if e.date == "" {
		s.decide(2, "the date of %s, whose name has none", s.pattern(names))
	}
	if h.Grid.CRS == nil {
		s.decide(2, "the CRS of %s, which states none: add crs: EPSG:NUMBER at the top", names[0])
	}
	for _, l := range e.left {
		s.comment(2, "Left out: %s has the same date but lies on another grid (%v).", l.name, l.header.Grid.CRS)
	}
	nodata := s.nodata(e)
	walk := s.walks[e.date]
	if walk == "" && e.date != "" {
		walk = s.newWalk(e, nodata)
	}
	cover := quoted(s.pattern(names))
	if len(names) > 1 && !strings.ContainsAny(s.pattern(names), "?*") {
		cover = "[" + strings.Join(names, ", ") + "]"
	}
	if walk == "" && nodata == "" {
		s.line("  %s: %s", quoted(e.label), cover)
		return
	}
	s.line("  %s:", quoted(e.label))
	s.line("    cover: %s", cover)
	if walk != "" {
		s.line("    crosswalk: %s", quoted(walk))
	}
	if nodata != "" {
		s.line("    nodata: %s", nodata)
	}
}

// nodata is a value that probably means no data in the covers of an epoch and is not declared.
func (s *scaffold) nodata(e dateCovers) string {
	for _, c := range e.of {
		for _, f := range c.look.Findings {
			if f.Remedy == nil {
				continue
			}
			for _, o := range f.Remedy.Options {
				if o.Option == "nodata" && c.header.NoData == nil {
					s.decide(2, "whether %s means no data in %s: %s", o.Value, c.name, f.What)
					return o.Value
				}
			}
		}
	}
	return ""
}

// newWalk makes a crosswalk for the values of an epoch that are in no class of the legend, "" when there are none.
func (s *scaffold) newWalk(e dateCovers, nodata string) string {
	if s.known == nil {
		return ""
	}
	lines := [][]string{{"from", "to", "note"}}
	unknown := 0
	for _, v := range e.of[0].look.Values {
		if v.Missing || cover.ValueText(v.Value) == nodata {
			continue
		}
		to := ""
		if s.known[int(v.Value)] {
			to = strconv.Itoa(int(v.Value))
		} else {
			unknown++
		}
		lines = append(lines, []string{cover.ValueText(v.Value), to, fmt.Sprintf("%.1f %% of the cells", v.Pct)})
	}
	if unknown == 0 {
		return ""
	}
	name := "codes_" + e.date + ".csv"
	s.Files = append(s.Files, DraftFile{name, table(lines)})
	s.decide(2, "what becomes of the values of %s that %s does not list: fill in the column to of %s", e.of[0].name, s.legend, name)
	return name
}

// pattern is a name for several files: a pattern that finds these and no other, or their list.
func (s *scaffold) pattern(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	prefix, suffix := names[0], names[0]
	same := true
	for _, n := range names[1:] {
		for !strings.HasPrefix(n, prefix) {
			prefix = prefix[:len(prefix)-1]
		}
		for !strings.HasSuffix(n, suffix) {
			suffix = suffix[1:]
		}
		same = same && len(n) == len(names[0])
	}
	middle := "*"
	if n := len(names[0]) - len(prefix) - len(suffix); same && n > 0 && n < 4 {
		middle = strings.Repeat("?", n)
	}
	pattern := prefix + middle + suffix
	if list, err := filepath.Glob(filepath.Join(s.dir, pattern)); err == nil && len(list) == len(names) {
		return pattern
	}
	return strings.Join(names, ", ")
}

// writeRest writes checks, flows, and outputs.
func (s *scaffold) writeRest(epochs []dateCovers) {
	if s.control != "" {
		s.Found = append(s.Found, s.control+": totals known from elsewhere")
		s.line("checks: {control: %s}", quoted(s.control))
	}
	if s.flows != "" {
		s.Found = append(s.Found, s.flows+": names of transitions")
		s.line("flows: %s", quoted(s.flows))
	}
	if s.control+s.flows != "" {
		s.line("")
	}
	zones := ""
	if len(s.zones) > 1 {
		zones = "_{zones}"
	}
	many := len(epochs) > 1 || len(s.scenes) > 1
	s.line("outputs:")
	s.line("  extents: {make: measure, out: \"results/extents%s_{epoch}.csv\"}", zones)
	if many {
		s.line("  change: {make: change, out: \"results/change%s.csv\"}", zones)
		s.line("  matrix: {make: change, table: matrix, out: \"results/matrix%s.csv\"}", zones)
		s.line("  account: {make: account extent, of: matrix, out: \"results/account%s.xlsx\"}", zones)
	}
	if dates := slices.Sorted(maps.Keys(s.samples)); len(dates) > 0 {
		date := dates[0]
		name := s.samples[date]
		s.Found = append(s.Found, name+": reference samples")
		of := ""
		if date != "" && len(epochs) > 1 {
			of = fmt.Sprintf(", epochs: %s", quoted(labelOf(date)))
		}
		s.line("  accuracy: {make: account accuracy, samples: %s%s, out: results/accuracy.csv}", quoted(name), of)
	}
	for _, p := range s.problems {
		s.comment(0, "Could not be read: %s", p)
	}
}
