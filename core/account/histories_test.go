package account

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/cover"
)

// historiesOf reads a table of histories from its text.
func historiesOf(text string) (*Histories, error) {
	return ReadHistories([]string{"h.csv"}, tables(map[string]string{"h.csv": text}))
}

const historiesHead = "zone_id,zone_name,epoch_labels,history,history_codes,course,area,unit,pct_of_zone\n"

// categoryOf has classes 0 to 5 in the categories, in their order.
func categoryOf(code string) string {
	if len(code) == 1 && code[0] >= '0' && code[0] <= '5' {
		return cover.Categories[code[0]-'0']
	}
	return ""
}

// The example of docs/numbers.md, by hand: 100 ha of forest land become grassland between 2000 and 2010, 40 of which are forest land again by 2020.
func TestRemainingByHand(t *testing.T) {
	h, err := historiesOf(historiesHead +
		"Z,,2000;2010;2020,,0;2;2,changed once,60,ha,\n" +
		"Z,,2000;2010;2020,,0;2;0,went and came back,40,ha,\n" +
		"Z,,2000;2010;2020,,0;0;0,stable,900,ha,\n" +
		"Z,,2000;2010;2020,,0;?;0,partly mapped,7,ha,\n" +
		"Z,,2000;2010;2020,,,outside,3,ha,\n")
	require.NoError(t, err)
	list, err := h.Remaining(15, categoryOf)
	require.NoError(t, err)
	at := map[string]RemainingRow{}
	for _, r := range list {
		at[fmt.Sprint(r.Year, r.Category)] = r
	}
	hectares := func(values ...float64) (out []float64) {
		for _, v := range values {
			out = append(out, v/1e4)
		}
		return out
	}
	row := func(key string) []float64 {
		r := at[key]
		return hectares(r.Opening, r.Additions, r.Reductions, r.Closing, r.Remaining, r.Converted)
	}
	// In 2004: 4 of 10 years have gone by, at 10 ha a year.
	assert.InDeltaSlice(t, []float64{970, 0, 10, 960, 960, 0}, row("2004forest land"), 1e-9)
	assert.InDeltaSlice(t, []float64{30, 10, 0, 40, 0, 40}, row("2004grassland"), 1e-9)
	// In 2018, what became grassland before 2003 remains so: 3 of 10 years. Of the 40 ha that go back 8 are still grassland, 0.3 of which remain; 32 are forest land again, all within 15 years.
	assert.InDeltaSlice(t, []float64{928, 4, 0, 932, 900, 32}, row("2018forest land"), 1e-9)
	assert.InDeltaSlice(t, []float64{72, 0, 4, 68, 0.3 * 68, 0.7 * 68}, row("2018grassland"), 1e-9)
	assert.InDelta(t, 32e4, at["2018forest land"].From[2], 1e-6)
	assert.InDelta(t, 0.7*68e4, at["2018grassland"].From[0], 1e-6)
	assert.Equal(t, 7e4, at["2018not mapped"].Closing)
	assert.Equal(t, 3e4, at["2018outside"].Closing)
	assert.Len(t, list, 20*4)
	for _, c := range h.CheckRemaining(list) {
		assert.Equal(t, check.Holds, c.Outcome, c.Text)
	}
}

// A date is its place in the year whose end is a whole number: the same history with the last day of each year gives the same account, and one
// of the middle of 2000 begins with the end of that year, so that 2001 is its first year.
func TestRemainingWithDates(t *testing.T) {
	account := func(labels string) []RemainingRow {
		h, err := historiesOf(historiesHead + "Z,," + labels + ",,0;2,changed once,60,ha,\n")
		require.NoError(t, err)
		list, err := h.Remaining(20, categoryOf)
		require.NoError(t, err)
		return list
	}
	years := account("2000;2010")
	assert.Equal(t, years, account("2000-12-31;2010-12-31"))
	assert.Equal(t, 2001, years[0].Year)
	middle := account("2000-07-01;2010-07-01")
	assert.Equal(t, 2001, middle[0].Year)
	assert.Equal(t, 2009, middle[len(middle)-1].Year)
	// From 2000-07-01 to the end of 2001 there are 183 + 365 of 3,652 days.
	assert.InDelta(t, 60e4*(1-548.0/3652), middle[0].Closing, 60e4*1e-4)
}

// Random histories are followed in small steps of time: each piece converts in one step of each interval, and what it is, since when and from what is noted. The account is that, to the width of a step.
func TestRemainingIsFollowingPieces(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 11))
	for range 30 {
		n := 2 + random.IntN(3)
		years := []int{2000}
		for len(years) < n {
			years = append(years, years[len(years)-1]+1+random.IntN(9))
		}
		var labels []string
		for _, y := range years {
			labels = append(labels, fmt.Sprint(y))
		}
		d := float64(1 + random.IntN(12))
		var text strings.Builder
		text.WriteString(historiesHead)
		type piece struct {
			codes []int
			area  float64
		}
		var pieces []piece
		seen := map[string]bool{}
		for range 12 {
			p := piece{area: 1 + float64(random.IntN(100))}
			var codes []string
			for range n {
				k := random.IntN(3)
				p.codes, codes = append(p.codes, k), append(codes, fmt.Sprint(k))
			}
			if key := strings.Join(codes, ";"); !seen[key] {
				seen[key] = true
				pieces = append(pieces, p)
				fmt.Fprintf(&text, "Z,,%s,,%s,stable,%v,m2,\n", strings.Join(labels, ";"), key, p.area)
			}
		}
		h, err := historiesOf(text.String())
		require.NoError(t, err)
		list, err := h.Remaining(d, categoryOf)
		require.NoError(t, err)
		for _, c := range h.CheckRemaining(list) {
			assert.Equal(t, check.Holds, c.Outcome, c.Text)
		}
		const steps = 40 // of each interval
		for _, r := range list {
			k := 0
			for cover.Categories[k] != r.Category {
				k++
			}
			y := float64(r.Year)
			var rest, converted float64
			from := make([]float64, len(cover.Categories))
			for _, p := range pieces {
				moments := make([]int, n-1)
				cases := int(math.Pow(steps, float64(n-1)))
				for c := range cases {
					for i, left := 0, c; i < n-1; i++ {
						moments[i], left = left%steps, left/steps
					}
					is, origin, since := p.codes[0], -1, math.Inf(-1)
					for i, m := range moments {
						a, b := float64(years[i]), float64(years[i+1])
						at := a + (b-a)*(float64(m)+0.5)/steps
						if at < y && p.codes[i] != p.codes[i+1] {
							is, origin, since = p.codes[i+1], p.codes[i], at
						}
					}
					share := p.area / float64(cases)
					switch {
					case is != k:
					case since > y-d:
						converted += share
						from[origin] += share
					default:
						rest += share
					}
				}
			}
			tolerance := 0.0 // a step of each piece
			for _, p := range pieces {
				tolerance += p.area / steps
			}
			assert.InDelta(t, rest, r.Remaining, tolerance)
			assert.InDelta(t, converted, r.Converted, tolerance)
			assert.InDeltaSlice(t, from, r.From, tolerance)
		}
	}
}

func TestHistoriesThatAreNoTable(t *testing.T) {
	for text, want := range map[string]string{
		historiesHead: "there are no histories in it",
		historiesHead + "Z,,2000;2010,,,stable,1,ha,\n":                             "it stands for several histories (stable)",
		historiesHead + "Z,,2000;2010,,,other,1,ha,\n":                              "it stands for several histories (other)",
		historiesHead + "Z,,2000;2010,,1;2;3,stable,1,ha,\n":                        "does not have a class for each of the epochs 2000, 2010",
		historiesHead + "Z,,2000;2010,,1;2,x,1,ha,\nZ,,2000;2010,,1;2,x,1,ha,\n":    `the history "1;2" of zone Z occurs twice`,
		historiesHead + "Z,,2000;2010,,1;2,x,1,ha,\nY,,2000;2011,,1;2,x,1,ha,\n":    "tables of the same epochs",
		historiesHead + "Z,,2000;2010,,1;2,x,-1,ha,\n":                              "is negative",
		historiesHead + ",,2000;2010,,1;2,x,1,ha,\n":                                "it has no zone_id",
		"zone_id,from_epoch,to_epoch,from_code,to_code,area,unit\nZ,1,2,1,2,1,ha\n": "a table of histories, of a change, is needed",
	} {
		_, err := historiesOf(text)
		assert.ErrorContains(t, err, want)
	}
	for text, want := range map[string]string{
		"Z,,a;b,,0;1,x,1,ha,\n":             "neither a year nor a date",
		"Z,,2010;2000,,0;1,x,1,ha,\n":       "not in the order of time",
		"Z,,2000,,0,x,1,ha,\n":              "there is one epoch only",
		"Z,,2000-02;2000-09,,0;1,x,1,ha,\n": "no whole year between them",
		"Z,,2000;2001,,0;7,x,1,ha,\n":       "the classes 7 have no category",
	} {
		h, err := historiesOf(historiesHead + text)
		require.NoError(t, err)
		_, err = h.Remaining(20, categoryOf)
		assert.ErrorContains(t, err, want)
	}
}
