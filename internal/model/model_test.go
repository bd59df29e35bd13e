package model

import (
	"context"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
)

const world = "../demo/world/"

// conforms holds a table to its columns: each row has a cell for each, of its type or nil, and the columns that do not depend on the
// job are those of a kind of that name. It returns the rows.
func conforms(t *testing.T, table *Table) (rows [][]any) {
	t.Helper()
	for row := range table.Rows {
		require.Len(t, row, len(table.Columns), table.Name)
		for i, v := range row {
			c := table.Columns[i]
			switch v.(type) {
			case nil:
			case string:
				assert.Equal(t, Text, c.Type, "%s: %s is %q", table.Name, c.Name, v)
			case int:
				assert.Equal(t, Whole, c.Type, "%s: %s is %v", table.Name, c.Name, v)
			case float64:
				assert.Equal(t, Number, c.Type, "%s: %s is %v", table.Name, c.Name, v)
			default:
				t.Errorf("%s: %s holds a %T", table.Name, c.Name, v)
			}
		}
		rows = append(rows, append([]any(nil), row...))
	}
	require.NotEmpty(t, rows, table.Name)
	if table.Count >= 0 {
		assert.Len(t, rows, table.Count, table.Name)
	}
	fits := false
	for _, k := range Kinds {
		if k.Name != table.Name {
			continue
		}
		missing := 0
		for _, c := range k.Columns {
			if !strings.Contains(" "+strings.Join(table.Names(), " ")+" ", " "+c.Name+" ") {
				missing++
			}
		}
		fits = fits || missing == 0
	}
	assert.True(t, fits, "%s has not the columns of its kind: %v", table.Name, table.Names())
	for _, c := range table.Columns {
		assert.NotEmpty(t, c.About, "%s: %s", table.Name, c.Name)
	}
	return rows
}

// at is a cell of a row by the name of its column.
func at(table *Table, row []any, name string) any {
	for i, n := range table.Names() {
		if n == name {
			return row[i]
		}
	}
	return nil
}

func options() (zones job.ZoneOptions, classes job.ClassOptions) {
	zones.Zones, zones.ZoneID = world+"wards.geojson", "code"
	classes.Legend = world + "legend.csv"
	return zones, classes
}

// The rows of a zone make 100 % of it, whatever the layout, and the layouts agree.
func TestTablesOfAMeasure(t *testing.T) {
	zones, classes := options()
	m, err := job.Measure(context.Background(), job.Env{}, job.MeasureOptions{Covers: []string{world + "cover_2020.tif"}, ZoneOptions: zones, ClassOptions: classes, Epoch: "2020"})
	require.NoError(t, err)
	long, wide := ExtentsOf(m.Composition), WideExtentsOf(m.Composition)
	sums, areas := map[string]float64{}, map[string]float64{}
	for _, row := range conforms(t, long) {
		id := at(long, row, "zone_id").(string)
		sums[id] += at(long, row, "pct_of_zone").(float64)
		if name, _ := at(long, row, "class_name").(string); name == "Woodland" {
			areas[id] = at(long, row, "area").(float64)
		}
	}
	assert.Len(t, sums, 5)
	for id, sum := range sums {
		assert.InDelta(t, 100, sum, 1e-9, id)
	}
	for _, row := range conforms(t, wide) {
		assert.Equal(t, areas[at(wide, row, "zone_id").(string)], at(wide, row, "Woodland"))
	}
	conforms(t, Checks(m.Checks))
	for _, with := range []string{world + "wards.geojson"} {
		inner := zones
		inner.Zones, inner.ZoneID = world+"catchments.geojson", "id"
		m, err := job.Measure(context.Background(), job.Env{}, job.MeasureOptions{Covers: []string{world + "cover_2020.tif"}, ZoneOptions: inner, ClassOptions: classes,
			WithinOptions: job.WithinOptions{Within: with, WithinID: "code"}})
		require.NoError(t, err)
		table := ExtentsOf(m.Composition)
		held := 0
		for _, row := range conforms(t, table) {
			if at(table, row, "within_id") != "" {
				held++
			}
		}
		assert.Positive(t, held)
	}
}

// Opening + additions − reductions = closing in every row of a change, its matrix has the same sums, and its parts the same net change.
func TestTablesOfAChange(t *testing.T) {
	zones, classes := options()
	c, err := job.Change(context.Background(), job.Env{}, job.ChangeOptions{Epochs: []string{"2004=" + world + "cover_2004.tif", "2020=" + world + "cover_2020.tif"},
		Crosswalk: []string{"2004=" + world + "codes_2004.csv"}, ZoneOptions: zones, ClassOptions: classes})
	require.NoError(t, err)
	defer c.Close()
	summary := ChangeOf(c.Changes)
	type key struct{ zone, class string }
	net := map[key]float64{}
	for _, row := range conforms(t, summary) {
		code := at(summary, row, "class_code").(string)
		if code == "" {
			continue
		}
		number := func(name string) float64 { return at(summary, row, name).(float64) }
		assert.InDelta(t, number("closing"), number("opening")+number("additions")-number("reductions"), 1e-9)
		net[key{at(summary, row, "zone_id").(string), code}] = number("net_change")
	}
	moved := map[key]float64{}
	moves := TransitionsOf(c.Changes, func(change.Transition) bool { return true })
	for _, row := range conforms(t, moves) {
		from, _ := at(moves, row, "from_code").(string)
		to, _ := at(moves, row, "to_code").(string)
		if from != "" && to != "" {
			zone, a := at(moves, row, "zone_id").(string), at(moves, row, "area").(float64)
			moved[key{zone, from}] -= a
			moved[key{zone, to}] += a
		}
	}
	for k, v := range net {
		assert.InDelta(t, v, moved[k], 1e-6, "%v", k)
	}
	parts := PartsOf(c.Changes)
	for _, row := range conforms(t, parts) {
		if code := at(parts, row, "class_code").(string); code != "" {
			assert.InDelta(t, net[key{at(parts, row, "zone_id").(string), code}], at(parts, row, "net_change").(float64), 1e-6)
		}
	}
	conforms(t, IntensityOf(c.Changes))
}

// Statements, statistics and accuracies have the columns that they say.
func TestTablesOfStatements(t *testing.T) {
	ctx, env := context.Background(), job.Env{}
	zones, classes := options()
	s, err := job.Summarise(ctx, env, job.SummariseOptions{Values: []string{world + "elevation.tif"}, Stats: "count,area,mean,p10,variety,majority", ZoneOptions: zones})
	require.NoError(t, err)
	table := Summary(s)
	for _, row := range conforms(t, table) {
		assert.Equal(t, "ha", at(table, row, "unit"))
		assert.Less(t, at(table, row, "p10").(float64), at(table, row, "mean").(float64))
		assert.Equal(t, math.Trunc(at(table, row, "variety").(float64)), at(table, row, "variety"))
	}
	a, err := job.Accuracy(ctx, env, job.AccuracyOptions{Samples: []string{world + "samples_2020.csv"}, Cover: world + "cover_2020.tif", ClassOptions: classes})
	require.NoError(t, err)
	conforms(t, Accuracy(a))
	matrix := ErrorMatrix(a)
	sum := 0.0
	for _, row := range conforms(t, matrix) {
		sum += at(matrix, row, "total").(float64)
	}
	assert.InDelta(t, 1, sum, 1e-9, "the proportions of an error matrix are those of the whole area")
}

// Each column is defined once, and each kind of table has distinct ones.
func TestKindsAreDefinedOnce(t *testing.T) {
	assert.Greater(t, len(Kinds), 20)
	for _, k := range Kinds {
		seen := map[string]bool{}
		for _, c := range k.Columns {
			assert.False(t, seen[c.Name], "%s has %s twice", k.Name, c.Name)
			seen[c.Name] = true
			assert.Equal(t, columns[c.Name], c)
		}
		assert.NotEmpty(t, k.About)
	}
	assert.Panics(t, func() { pick("no such column") })
	assert.Equal(t, "Woodland", classColumns([]cover.Named{{ID: "3", Name: "Woodland"}})[0].Name)
}
