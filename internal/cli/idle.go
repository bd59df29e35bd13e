package cli

import (
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
)

// idle refuses an option that has no effect together with the others: whoever types it expects one. What a plan states for all of its
// outputs need not have an effect on each.
func (s *session) idle() error {
	if s.plan != nil {
		return nil
	}
	known, typed := map[string]bool{}, map[string]bool{}
	for _, o := range option.Of(s.options) {
		known[o.Name], typed[o.Name] = true, o.Given(s.options)
	}
	any := func(names ...string) bool {
		return slices.ContainsFunc(names, func(n string) bool { return typed[n] })
	}
	switch {
	case typed["override-crs"] && !any("crs", "zones-crs"):
		return usage("--override-crs lets a CRS that is given replace the one that a file states, and none is given: name it with --crs or --zones-crs, or leave it out")
	case known["layer"] && typed["grid"] && !typed["layer"]:
		return usage("--grid says on whose cells layers meet, and there are no layers: name them with --layer, or leave it out")
	case typed["codes-as-numbers"] && !typed["layer"]:
		return usage("--codes-as-numbers is about conditions over layers, and there are none: leave it out")
	case s.name == "draw shade" && typed["edges"]:
		return usage("--edges has no effect on shaded zones, whose numbers are those of the table: leave it out")
	case known["zones"] && typed["edges"] && !any("zones", "to"):
		return usage("--edges is about zones, and none are named: name them with --zones, or leave it out")
	case slices.Contains([]string{"measure", "clip", "patches", "reclassify"}, s.name) && any("overlap", "resample") && s.oneRaster():
		return usage("--overlap and --resample are about several rasters that are one, and there is one: leave them out")
	case s.name == "summarise" && typed["overlap"] && s.oneRaster():
		return usage("--overlap is about several rasters that are one, and there is one: leave it out")
	}
	return nil
}

// oneRaster reports whether one raster is named, by no list, pattern or catalog.
func (s *session) oneRaster() bool {
	var named []string
	for _, o := range option.Of(s.options) {
		if o.Name == "from-list" && o.Given(s.options) || o.Name == "layer" && o.Given(s.options) {
			return false
		}
		if o.Argument != "" {
			named = append(named, o.Texts(s.options)...)
		}
	}
	paths, err := job.Rasters(s.system, named, "")
	return err == nil && len(paths) == 1 && !strings.HasSuffix(paths[0], ".json") && !strings.Contains(paths[0], "://")
}
