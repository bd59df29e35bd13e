package cli

import (
	"reflect"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
)

// idle refuses an option that has no effect together with the others: whoever types it expects one. What a plan states for all of its
// outputs need not have an effect on each.
func (s *session) idle() error {
	if s.plan != nil {
		return nil
	}
	known, typed, value := map[string]bool{}, map[string]bool{}, map[string]string{}
	named := false // what arguments name
	for _, o := range option.Of(s.options) {
		named = named || o.Argument != "" && o.Given(s.options)
		chain := fromEnvironment(o.Name) // which holds for all commands, so that it need not have an effect on each
		_, set := chain.Lookup()
		known[o.Name], typed[o.Name], value[o.Name] = true, o.Given(s.options) && !set, strings.Join(o.Texts(s.options), " ")
	}
	any := func(names ...string) bool {
		return slices.ContainsFunc(names, func(n string) bool { return typed[n] })
	}
	over := slices.Contains([]string{"mean", "min", "max"}, value["overlap"])
	switch {
	case typed["override-crs"] && !any("crs", "zones-crs"):
		return usage("--override-crs lets a CRS that is given replace the one that a file states, and none is given: name it with --crs or --zones-crs, or leave it out")
	case known["layer"] && typed["grid"] && !typed["layer"]:
		return usage("--grid says on whose cells layers meet, and there are no layers: name them with --layer, or leave it out")
	case typed["codes-as-numbers"] && !typed["layer"]:
		return usage("--codes-as-numbers is about conditions over layers, and there are none: leave it out")
	case typed["class-field"] && any("edges", "nodata", "approximate", "from-list", "overlap", "resample", "check-all"):
		return usage("--edges, --nodata, --approximate, --from-list, --overlap, --resample and --check-all are about cells, and --class-field is of a cover of polygons: leave them out")
	case any("within-id", "within-name") && !typed["within"]:
		return usage("--within-id and --within-name name fields of the zones of --within, and none are named: leave them out")
	case known["post"] && typed["wait"] && !typed["post"]:
		return usage("--wait is about a book that others write to, and none is posted to: name it with --post, or leave it out")
	case s.name == "draw shade" && typed["edges"]:
		return usage("--edges has no effect on shaded zones, whose numbers are those of the table: leave it out")
	case slices.Contains([]string{"draw difference", "draw pair"}, s.name) && typed["only"]:
		return usage("--only has no effect on a map of change, which shows all of it: leave it out")
	case s.name == "draw shade" && typed["limits"] && any("steps", "breaks"):
		return usage("--steps and --breaks find limits of colours, and --limits gives them: leave one of them out")
	case s.name == "derive composite" && typed["ties"] && value["of"] != "majority":
		return usage("--ties is about the majority of classes, and --of asks for another statistic: leave it out")
	case s.name == "look" && typed["values"] && any("zone-id", "zone-name"):
		return usage("--zone-id and --zone-name have no effect on the values of a field, which --values lists: leave them out")
	case s.name == "look" && typed["quick"] && any("legend", "measurements"):
		return usage("--legend and --measurements are about the values of cells, which --quick does not read: leave them out")
	case s.name == "look" && typed["legend"] && typed["measurements"]:
		return usage("--legend is about classes, and --measurements says that there are none: leave one of the two out")
	case s.name == "account composition" && typed["rank"] && any("round-to-sum", "layout"):
		return usage("--round-to-sum and --layout have no effect on ranks: leave them out")
	case s.name == "account accuracy" && typed["unit"] && value["table"] == "matrix":
		return usage("--unit has no effect on an error matrix, which holds proportions: leave it out")
	case s.name == "summarise" && typed["unit"] && typed["stats"] && !slices.Contains(strings.FieldsFunc(value["stats"], func(r rune) bool { return r == ',' || r == ' ' }), "area"):
		return usage("--unit is that of areas, and --stats asks for none: leave it out")
	case known["show"] && typed["unit"] && value["show"] == "percent":
		return usage("--unit has no effect on percentages: show areas with --show area, or leave it out")
	case slices.Contains([]string{"derive expr", "derive slope"}, s.name) && typed["legend"] && !typed["crosswalk"]:
		return usage("--legend names the classes that a crosswalk makes, and there is none: name it with --crosswalk, or leave it out")
	case s.name == "zones grid" && !named && any("where", "zones-crs"):
		return usage("--where and --zones-crs are about the file of zones that the squares cover, and none is named: leave them out")
	case s.name == "zones grid" && typed["size"] && typed["cells"]:
		return usage("--cells is about squares of the cells of --grid, and --size gives theirs: leave one of the two out")
	case known["zones"] && typed["edges"] && !any("zones", "to"):
		return usage("--edges is about zones, and none are named: name them with --zones, or leave it out")
	case typed["measurements"] && !slices.Contains([]string{"look", "mosaic", "clip", "align", "summarise", "derive composite"}, s.name) && value["resample"] != "bilinear" && !over:
		return usage("--measurements allows --resample bilinear and --overlap mean, min or max, and none of them is asked for: leave it out")
	case typed["overlap"] && !s.joins():
		return usage("--overlap is about several rasters that are one, and there is one: leave it out")
	case typed["resample"] && slices.Contains([]string{"measure", "clip", "patches", "reclassify", "draw map"}, s.name) && !typed["layer"] && !s.joins():
		return usage("--resample is about several rasters that are one, and there is one: leave it out")
	case s.name == "summarise" && typed["resample"] && !typed["per-class"] && !s.joins():
		return usage("--resample is about several rasters, and there is one: leave it out")
	}
	return nil
}

// joins reports whether the command may read several rasters as one: because a list, a pattern, a catalog or a plan is given, or because several rasters are named.
func (s *session) joins() bool {
	of := map[string][]string{}
	for _, o := range option.Of(s.options) {
		switch {
		case o.Name == "from-list" && o.Given(s.options):
			return true
		case o.Name == "epoch" && o.Type.Kind() == reflect.Slice:
			for _, text := range o.Texts(s.options) {
				label, path, _ := strings.Cut(text, "=")
				of[label] = append(of[label], path)
			}
		case o.Argument != "", o.Name == "cover", o.Name == "per-class":
			of[o.Name] = append(of[o.Name], o.Texts(s.options)...)
		}
	}
	for _, named := range of {
		paths, err := job.Rasters(s.system, named, "")
		if err != nil || len(paths) > 1 && s.name != "derive composite" || slices.ContainsFunc(paths, func(p string) bool {
			return slices.Contains([]string{".json", ".yaml", ".yml"}, files.Ext(p)) || strings.ContainsAny(p, "{*?[") || strings.Contains(p, "://")
		}) {
			return true
		}
	}
	return false
}
