package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
)

// isPolygonCover reports whether what is to be measured is a file of outlines. A table in text is one only when a field with
// its classes is named.
func isPolygonCover(c *cli.Command, where string) bool {
	path, _ := vectors.Split(where)
	kind, err := vectors.Kind(path)
	return err == nil && kind != "" && (kind != "table" || c.String("class-field") != "")
}

// overlay measures a cover of polygons.
func overlay(ctx context.Context, c *cli.Command, path string, r *reporter) (*account.Composition, error) {
	for _, option := range []string{"crosswalk", "rules", "within", "resample"} {
		if c.String(option) != "" {
			return nil, usage("--%s is for covers of cells, and %s is one of polygons", option, path)
		}
	}
	if c.String("class-field") == "" {
		return nil, usage("%s holds polygons: name the field with their class with --class-field (verdex look %s lists the fields)", path, path)
	}
	if l := c.String("layout"); l != "long" && l != "wide" {
		return nil, usage("--layout %s is not known: choose long or wide", l)
	}
	t, err := readTerms(c)
	if err != nil {
		return nil, err
	}
	l, err := readFeatures(path)
	if err != nil {
		return nil, err
	}
	if text := c.String("crs"); text != "" {
		crs, err := parseCRS(text)
		if err != nil {
			return nil, err
		}
		stated := l.CRS
		if l.CRSAssumed {
			stated = nil
		}
		if err := replaceCRS(c, "crs", path, stated, crs, r); err != nil {
			return nil, err
		}
		l.CRS, l.CRSProblem = crs, ""
	}
	r.notes(l.Notes)
	var set *zone.Set
	if where := c.String("zones"); where != "" {
		if set, err = loadZones(ctx, c, where); err != nil {
			return nil, err
		}
		r.notes(set.Notes)
	} else if err := needZones(c); err != nil {
		return nil, err
	}
	return account.Overlay(ctx, account.OverlayInput{Epoch: c.String("epoch"), Cover: l, Field: c.String("class-field"), Legend: t.legend, Groups: t.groups, Zones: set}, t.unit)
}
