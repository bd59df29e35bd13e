package account

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"
)

// tables serves tables from memory, by name: a line of names and rows, separated by commas.
func tables(list map[string]string) Reader {
	return func(name string, needed, optional []string, each func(rows.Row) error) ([]string, error) {
		lines := strings.Split(strings.TrimSpace(list[name]), "\n")
		head := strings.Split(lines[0], ",")
		for _, n := range needed {
			if !slices.Contains(head, n) {
				return nil, fmt.Errorf("%w %s", rows.ErrNoColumn, n)
			}
		}
		for i, line := range lines[1:] {
			r := rows.Row{Line: i + 2, Cell: map[string]string{}}
			for k, cell := range strings.Split(line, ",") {
				r.Cell[head[k]] = cell
			}
			if err := each(r); err != nil {
				return nil, err
			}
		}
		return []string{"a note of " + name}, nil
	}
}

const movesHead = "zone_id,zone_name,from_epoch,to_epoch,from_code,from_name,to_code,to_name,area,unit\n"

// matrix is a random table of transitions of three zones and four classes, in hectares, and the areas by zone and classes.
func matrix(rng *rand.Rand) (text string, of map[string][4][4]float64) {
	var b strings.Builder
	b.WriteString(movesHead)
	of = map[string][4][4]float64{}
	for _, z := range []string{"W1", "W2", "W3"} {
		var m [4][4]float64
		for i := range 4 {
			for j := range 4 {
				if rng.IntN(3) == 0 {
					continue
				}
				m[i][j] = math.Round(rng.Float64()*1e6) / 1e3
				fmt.Fprintf(&b, "%s,Ward %s,2010,2020,%d,C%d,%d,C%d,%v,ha\n", z, z, i+1, i+1, j+1, j+1, m[i][j])
			}
		}
		fmt.Fprintf(&b, "%s,Ward %s,2010,2020,1,C1,,not mapped,3,ha\n%s,Ward %s,2010,2020,,not mapped,2,C2,4,ha\n%s,Ward %s,2010,2020,,not mapped,,not mapped,5,ha\n%s,Ward %s,2010,2020,,outside,,outside,6,ha\n", z, z, z, z, z, z, z, z)
		of[z] = m
	}
	return b.String(), of
}

// Whatever moves, an extent account balances for every class: opening + additions − reductions = closing, its opening is the sum of a
// row of the matrix and its closing that of a column, and all zones are the sum of the zones.
func TestStatementsBalanceForAnyMatrix(t *testing.T) {
	for seed := range uint64(40) {
		text, want := matrix(rand.New(rand.NewPCG(seed, 9)))
		m, err := ReadMoves([]string{"m"}, tables(map[string]string{"m": text}))
		require.NoError(t, err)
		list := m.Statements(nil)
		require.Len(t, list, 4)
		assert.Equal(t, AllZones, list[3].Zone)
		at := func(code string) int {
			n, err := strconv.Atoi(code)
			require.NoError(t, err)
			return n - 1
		}
		totals := make([]float64, len(m.Classes))
		for _, s := range list {
			e := map[EntryKind]Entry{}
			for _, x := range s.Entries {
				e[x.Kind] = x
			}
			for i, c := range m.Classes {
				assert.InDelta(t, e[Closing].Values[i], e[Opening].Values[i]+e[Additions].Values[i]-e[Reductions].Values[i], 1e-4)
				assert.InDelta(t, e[NetChange].Values[i], e[Closing].Values[i]-e[Opening].Values[i], 1e-9)
				if s.Zone == AllZones {
					assert.InDelta(t, totals[i], e[Closing].Values[i], 1e-4)
					continue
				}
				opening, closing := 0.0, 0.0
				for k := range 4 {
					opening += want[s.Zone.ID][at(c.ID)][k] * 1e4
					closing += want[s.Zone.ID][k][at(c.ID)] * 1e4
				}
				assert.InDelta(t, opening, e[Opening].Values[i], 1e-5)
				assert.InDelta(t, closing, e[Closing].Values[i], 1e-5)
				totals[i] += closing
			}
			if s.Zone != AllZones {
				assert.Equal(t, []float64{3e4, 4e4, 5e4, 6e4}, []float64{s.OnlyFirst, s.OnlySecond, s.Neither, s.Outside})
			}
		}
		for _, c := range CheckStatements(list, m.Classes, check.Defaults) {
			if c.Name == "balance" {
				assert.Equal(t, check.Holds, c.Outcome, c.Text)
			}
		}
	}
}

// A check that could not fail would be none: an account whose closing is changed does not balance.
func TestStatementsThatDoNotBalance(t *testing.T) {
	text, _ := matrix(rand.New(rand.NewPCG(1, 9)))
	m, err := ReadMoves([]string{"m"}, tables(map[string]string{"m": text}))
	require.NoError(t, err)
	list := m.Statements(nil)
	for i := range list[1].Entries {
		if list[1].Entries[i].Kind == Closing {
			list[1].Entries[i].Values[2] += 1e4
		}
	}
	for _, c := range CheckStatements(list, m.Classes, check.Defaults) {
		if c.Name == "balance" {
			assert.Equal(t, check.FallsShort, c.Outcome)
			require.Len(t, c.Findings, 1)
			assert.Equal(t, "W2", c.Findings[0].ZoneID)
		}
	}
}

// Flows gather all that moves and nothing else; the first line that fits counts.
func TestFlowsGatherWhatMoves(t *testing.T) {
	path := filepath.Join(t.TempDir(), "flows.csv")
	require.NoError(t, os.WriteFile(path, []byte("from,to,flow,managed\n1,2,planting,yes\n1;2,3,clearing,yes\n*,3,other clearing,no\n"), 0o644))
	f, err := ReadFlows(files.Disk, path)
	require.NoError(t, err)
	for _, of := range []struct{ from, to, want string }{{"1", "2", "planting"}, {"2", "3", "clearing"}, {"4", "3", "other clearing"}, {"3", "4", OtherChange}} {
		assert.Equal(t, of.want, f.Of(of.from, of.to).Name)
	}
	text, want := matrix(rand.New(rand.NewPCG(3, 9)))
	m, err := ReadMoves([]string{"m"}, tables(map[string]string{"m": text}))
	require.NoError(t, err)
	sums := map[string]float64{}
	for _, r := range m.Flows(f) {
		if r.Zone.ID == "W1" {
			sums[r.Flow.Name] += r.M2
		}
	}
	plain := map[string]float64{}
	for i := range 4 {
		for j := range 4 {
			name := NoChange
			if i != j {
				name = f.Of(fmt.Sprint(i+1), fmt.Sprint(j+1)).Name
			}
			if v := want["W1"][i][j]; v > 0 {
				plain[name] += v * 1e4
			}
		}
	}
	for name, v := range plain {
		assert.InDelta(t, v, sums[name], 1e-5, name)
	}
	// By group, what moves within one does not change.
	grouped, err := ReadMoves([]string{"m"}, tables(map[string]string{"m": text}))
	require.NoError(t, err)
	grouped.group = map[string]string{"1": "a", "2": "a", "3": "b", "4": "b"}
	for _, r := range grouped.Flows(f) {
		if r.Zone.ID == "W1" && r.Flow.Name == NoChange {
			w := want["W1"]
			assert.InDelta(t, plain[NoChange]+1e4*(w[0][1]+w[1][0]+w[2][3]+w[3][2]), r.M2, 1e-5)
		}
		assert.False(t, r.Zone.ID == "W1" && r.Flow.Name == "planting" && r.M2 > 0, "from one class of a group to another")
	}
	// In an account, managed and unmanaged additions make all additions.
	for _, s := range m.Statements(f) {
		sum := 0.0
		for _, e := range s.Entries {
			switch e.Kind {
			case Addition:
				sum += e.Total
			case Additions:
				assert.InDelta(t, e.Total, sum, 1e-4, s.Zone.ID)
			}
		}
	}
	for _, wrong := range []string{"from,to,flow\n", "from,to,flow\n1,2,\n", "from,to,flow,managed\n1,2,a,perhaps\n", "from,to,flow,managed\n1,2,a,yes\n1,3,a,no\n", "from,to,flow\n1;;2,3,a\n"} {
		require.NoError(t, os.WriteFile(path, []byte(wrong), 0o644))
		_, err := ReadFlows(files.Disk, path)
		assert.Error(t, err, wrong)
	}
}

const extents = "epoch,zone_id,zone_name,kind,class_code,class_name,area,unit,pct_of_zone\n" +
	"2010,W1,North,class,1,Wood,30,ha,60\n2010,W1,North,class,2,Fields,15,ha,30\n2010,W1,North,nodata,,,5,ha,10\n" +
	"2010,W2,South,class,1,Wood,10,ha,50\n2010,W2,South,class,2,Fields,10,ha,50\n" +
	"2020,W1,North,class,1,Wood,24,ha,48\n2020,W1,North,class,2,Fields,21,ha,42\n2020,W1,North,nodata,,,5,ha,10\n" +
	"2020,W2,South,class,1,Wood,0.11,km2,55\n2020,W2,South,class,2,Fields,9,ha,45\n"

func readExtents(t *testing.T, text string) *Extents {
	t.Helper()
	e, err := ReadExtents([]string{"e"}, tables(map[string]string{"e": text}))
	require.NoError(t, err)
	return e
}

// Composition, ranks and series of a table by hand.
func TestExtentsByHand(t *testing.T) {
	e := readExtents(t, extents)
	assert.Equal(t, []string{"2010", "2020"}, e.Epochs)
	assert.Equal(t, []string{"a note of e"}, e.Notes)
	var seen []string
	for list := range e.Composition() {
		for _, r := range list {
			seen = append(seen, fmt.Sprintf("%s %s %s %g %.4g %.4g %d", r.Epoch, r.Zone.Label(), r.Class.Name, r.M2, r.PctOfZone, r.PctOfClassified, r.Rank))
		}
	}
	assert.Equal(t, []string{
		"2010 North Wood 300000 60 66.67 1", "2010 North Fields 150000 30 33.33 2", "2010 South Wood 100000 50 50 1", "2010 South Fields 100000 50 50 2",
		"2010 all zones Wood 400000 57.14 61.54 1", "2010 all zones Fields 250000 35.71 38.46 2",
		"2020 North Wood 240000 48 53.33 1", "2020 North Fields 210000 42 46.67 2", "2020 South Wood 110000 55 55 1", "2020 South Fields 90000 45 45 2",
		"2020 all zones Wood 350000 50 53.85 1", "2020 all zones Fields 300000 42.86 46.15 2"}, seen)
	ranks := e.RankZones(cover.Named{ID: "1", Name: "Wood"})
	require.Len(t, ranks, 4)
	assert.Equal(t, "W1", ranks[0].Zone.ID)
	assert.Equal(t, 75.0, ranks[0].PctOfClass)
	for r := range e.Series() {
		if r.Zone.ID == "W1" && r.Class.ID == "1" && r.Epoch == "2020" {
			assert.Equal(t, []float64{-6e4, -20, -2}, []float64{r.SinceFirst, r.PctSinceFirst, r.PctPerYearSinceFirst})
		}
		if r.Epoch == "2010" {
			assert.True(t, math.IsNaN(r.SinceFirst))
		}
	}
	for _, c := range e.Check(check.Defaults) {
		if c.Name == "rows" || c.Name == "extents" {
			assert.Equal(t, check.Holds, c.Outcome, c.Text)
		}
	}
}

// Rows that are missing or doubled, areas that are none, and tables of another kind are found.
func TestTablesThatAreWrong(t *testing.T) {
	lines := strings.SplitAfter(extents, "\n")
	e := readExtents(t, strings.Join(slices.Delete(slices.Clone(lines), 2, 3), ""))
	assert.Len(t, e.missing, 1)
	for text, want := range map[string]string{
		extents + "2020,W2,South,class,2,Fields,9,ha,45\n":        "occurs twice",
		extents + "2020,W2,South,class,2,Meadows,9,ha,45\n":       "is called both",
		extents + "2020,W2,East,class,3,Bog,9,ha,45\n":            "zone W2 is called both",
		extents + "2020,W3,East,class,1,Wood,-9,ha,45\n":          "is negative",
		extents + "2020,W3,East,class,1,Wood,much,ha,45\n":        "is not a number",
		extents + "2020,W3,East,class,1,Wood,9,,45\n":             "the unit is missing",
		extents + "2020,,East,class,1,Wood,9,ha,45\n":             "it has no zone_id",
		extents + "2020,W3,East,trees,1,Wood,9,ha,45\n":           `the kind "trees" is not valid`,
		strings.Replace(extents, "kind", "sort", 1):               "a long table of extents is needed",
		lines[0] + "2020,W1,North,nodata,,,5,ha,10\n":             "there are no extents of classes in it",
		strings.Replace(extents, "class,2,Fields", "class,2,", 1): "is called both",
	} {
		_, err := ReadExtents([]string{"e"}, tables(map[string]string{"e": text}))
		assert.ErrorContains(t, err, want, want)
	}
	_, err := ReadMoves([]string{"m"}, tables(map[string]string{"m": movesHead}))
	assert.ErrorContains(t, err, "there are no transitions in it")
	row := "W1,North,2010,2020,1,Wood,2,Fields,3,ha\n"
	_, err = ReadMoves([]string{"m"}, tables(map[string]string{"m": movesHead + row + row}))
	assert.ErrorContains(t, err, "occurs twice")
}

// Rounded numbers sum to the rounded sum, and none is moved by more than one unit of its last place.
func TestRoundToSumForAnyNumbers(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 8))
	for range 3000 {
		digits := rng.IntN(4)
		values := make([]float64, 1+rng.IntN(9))
		sum := 0.0
		for i := range values {
			values[i] = rng.Float64() * 100
			sum += values[i]
		}
		got := RoundToSum(values, digits)
		scale, total := math.Pow(10, float64(digits)), 0.0
		for i, v := range got {
			total += v
			assert.LessOrEqual(t, math.Abs(v-values[i])*scale, 1+1e-6, "%v %v", values, got)
		}
		assert.InDelta(t, math.Round(sum*scale)/scale, total, 1e-9, "%v to %d: %v", values, digits, got)
	}
}
