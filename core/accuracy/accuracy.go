// Package accuracy estimates from reference samples how true a map is.
package accuracy

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"
	"github.com/verdex-land/verdex/core/text"

	"github.com/verdex-land/verdex/core/cover"
)

// Samples are counts of reference samples drawn at random within strata, which are the classes of the map unless others are named.
type Samples struct {
	Classes []cover.Named // of the map and of the reference
	Counts  [][]int       // by map class, then by reference class
	Areas   []float64     // of the strata, in m²
	// Where the strata are not the classes of the map: their names, the counts of each by map class and reference class, and the
	// areas of the map's classes in m², nil where they are not known.
	Strata    []cover.Named
	ByStratum []map[[2]int]int
	Mapped    []float64
	Notes     []string // what had to be assumed when files were read
}

// stratified gives samples by stratum, whatever the strata are.
func (s Samples) stratified() Samples {
	if s.Strata != nil {
		return s
	}
	s.Strata, s.Mapped = s.Classes, s.Areas
	s.ByStratum = make([]map[[2]int]int, len(s.Classes))
	for i, row := range s.Counts {
		s.ByStratum[i] = map[[2]int]int{}
		for j, n := range row {
			if n > 0 {
				s.ByStratum[i][[2]int{i, j}] = n
			}
		}
	}
	return s
}

// Group gathers the classes of map and reference into those of a legend's groups. The strata stay those that samples were drawn in.
func (s Samples) Group(g *cover.Groups) (Samples, error) {
	s = s.stratified()
	to, err := cover.GroupsOf(s.Classes, g)
	if err != nil {
		return s, err
	}
	out := Samples{Classes: cover.NamedClasses(g.Legend), Areas: s.Areas, Strata: s.Strata}
	at := make([]int, len(s.Classes))
	for i, c := range s.Classes {
		at[i], _ = out.ClassOf(to[c.ID])
	}
	for _, of := range s.ByStratum {
		counts := map[[2]int]int{}
		for c, n := range of {
			counts[[2]int{at[c[0]], at[c[1]]}] += n
		}
		out.ByStratum = append(out.ByStratum, counts)
	}
	if s.Mapped != nil {
		out.Mapped = make([]float64, len(out.Classes))
		for i, a := range s.Mapped {
			out.Mapped[at[i]] += a
		}
	}
	return out, nil
}

// Accuracy is what samples show about a map and of the true extents of its classes, by stratified estimation: Stehman,
// "Estimating area and map accuracy for stratified random sampling when the strata are different from the map classes",
// International Journal of Remote Sensing 35 (2014). With W_h the share of stratum h in the area, n_h its samples, and
// ȳ_h the mean over them of a quantity y that is 0 or 1 for each,
//
//	Ȳ = Σ W_h·ȳ_h                         a proportion of the area; variance Σ W_h²·s²_y/n_h
//	R = Ȳ / X̄                            a ratio of two; variance 1/X̄²·Σ W_h²·(s²_y + R²·s²_x − 2R·s_xy)/n_h
//
// Overall accuracy and the true extent of class j are proportions (map and reference agree; the reference is j), user's and
// producer's accuracy ratios (both are j, of the map is j; both are j, of the reference is j). Where the strata are the classes of
// the map these are the estimators of Olofsson, Foody, Herold, Stehman, Woodcock and Wulder, "Good practices for estimating area and
// assessing accuracy of land change", Remote Sensing of Environment 148 (2014), equations 1 to 11.
//
// Intervals of 95 % are 1.96 standard errors to either side.
type Accuracy struct {
	Classes     []cover.Named
	Proportions [][]float64 // of the area, by map class and reference class
	Samples     []int       // of each map class
	Overall     Estimate
	Users       []Estimate // NaN without samples
	Producers   []Estimate // NaN for a class that no sample has on the ground
	Mapped      []float64  // m²; NaN where it is not known
	Adjusted    []Estimate // m²
}

// Estimate is a number and half the width of its 95 % interval.
type Estimate struct{ Value, Half float64 }

// HoldsZero reports whether the interval holds zero.
func (e Estimate) HoldsZero() bool { return e.Value-e.Half <= 0 && e.Value+e.Half >= 0 }

// normal95 is the number of standard errors to either side in an interval of 95 %.
const normal95 = 1.96

// Assess estimates accuracy and areas. A stratum with area needs two samples at least.
func Assess(s Samples) (*Accuracy, error) {
	ofClasses := s.Strata == nil
	s = s.stratified()
	n := len(s.Classes)
	a := &Accuracy{Classes: s.Classes, Mapped: s.Mapped, Samples: make([]int, n), Proportions: make([][]float64, n)}
	if a.Mapped == nil {
		a.Mapped = make([]float64, n)
		for i := range a.Mapped {
			a.Mapped[i] = math.NaN()
		}
	}
	total := 0.0
	drawn := make([]int, len(s.Strata))
	for h := range s.Strata {
		for c, n := range s.ByStratum[h] {
			drawn[h] += n
			a.Samples[c[0]] += n
		}
		total += s.Areas[h]
		what, where := "class", "where it is mapped"
		if !ofClasses {
			what, where = "stratum", "in it"
		}
		switch {
		case s.Areas[h] > 0 && drawn[h] < 2:
			count := "no sample"
			if drawn[h] == 1 {
				count = "1 sample"
			}
			return nil, fmt.Errorf("%s %s has %s %s, and an interval takes two at least in each: add samples, or gather it with another", what, s.Strata[h].Label(), count, where)
		case s.Areas[h] <= 0 && drawn[h] > 0:
			return nil, fmt.Errorf("%s %s has samples %s, but no area: are these the areas of what was sampled?", what, s.Strata[h].Label(), where)
		}
	}
	if total <= 0 {
		return nil, fmt.Errorf("what was sampled has no area")
	}
	// moments are the sums over strata of means, and of variances and the covariance of the means, of two quantities.
	type quantity func(i, j int) bool
	moments := func(y, x quantity) (my, mx, vy, vx, vxy float64) {
		for h := range s.Strata {
			if drawn[h] == 0 {
				continue
			}
			var ny, nx, both float64
			for c, n := range s.ByStratum[h] {
				iny, inx := y(c[0], c[1]), x(c[0], c[1])
				if iny {
					ny += float64(n)
				}
				if inx {
					nx += float64(n)
				}
				if iny && inx {
					both += float64(n)
				}
			}
			w, m := s.Areas[h]/total, float64(drawn[h])
			my, mx = my+w*(ny/m), mx+w*(nx/m)
			// The variance of a mean of 0s and 1s is p(1-p)/(n-1). Of whole numbers it is exact, so that what does not vary has none.
			k := w * w / (m - 1) / (m * m)
			vy, vx, vxy = vy+k*(ny*(m-ny)), vx+k*(nx*(m-nx)), vxy+k*(both*m-ny*nx)
		}
		return my, mx, vy, vx, vxy
	}
	half := func(variance float64) float64 { return normal95 * math.Sqrt(math.Max(0, variance)) }
	proportion := func(y quantity) Estimate {
		m, _, v, _, _ := moments(y, y)
		return Estimate{m, half(v)}
	}
	ratio := func(y, x quantity) Estimate {
		my, mx, vy, vx, vxy := moments(y, x)
		if mx == 0 {
			return Estimate{math.NaN(), math.NaN()}
		}
		r := my / mx
		return Estimate{r, half(vy+r*r*vx-2*r*vxy) / mx}
	}
	for i := range n {
		a.Proportions[i] = make([]float64, n)
	}
	for h, of := range s.ByStratum {
		for c, k := range of {
			a.Proportions[c[0]][c[1]] += s.Areas[h] / total * (float64(k) / float64(drawn[h]))
		}
	}
	a.Overall = proportion(func(p, q int) bool { return p == q })
	for k := range n {
		right := func(p, q int) bool { return p == k && q == k }
		mapped := func(p, q int) bool { return p == k }
		onGround := func(p, q int) bool { return q == k }
		a.Users, a.Producers = append(a.Users, ratio(right, mapped)), append(a.Producers, ratio(right, onGround))
		area := proportion(onGround)
		a.Adjusted = append(a.Adjusted, Estimate{area.Value * total, area.Half * total})
	}
	return a, nil
}

// NewSamples makes room for samples of classes.
func NewSamples(classes []cover.Named) Samples {
	s := Samples{Classes: classes, Areas: make([]float64, len(classes))}
	for range classes {
		s.Counts = append(s.Counts, make([]int, len(classes)))
	}
	return s
}

// ClassOf finds a class by its code or name.
func (s *Samples) ClassOf(cell string) (int, bool) {
	for i, c := range s.Classes {
		if c.ID == cell || c.Name == cell && cell != "" {
			return i, true
		}
	}
	if code, err := text.Code(cell); err == nil && code != cell {
		return s.ClassOf(code)
	}
	return 0, false
}

// ReadCounts reads a CSV with the columns map, reference and count, classes by code or name. Without a legend, classes are
// those that the table names. strata, unless empty, is a further column that names the stratum of the samples.
func ReadCounts(from files.System, path string, classes []cover.Named, strata string) (Samples, error) {
	needed := []string{"map", "reference", "count"}
	if strata != "" {
		needed = append(needed, strata)
	}
	list, notes, err := rows.Read(from, path, needed, nil)
	if err != nil {
		return Samples{}, err
	}
	if classes == nil {
		seen := map[string]bool{}
		for _, name := range []string{"map", "reference"} {
			for _, r := range list {
				if v := r.Cell[name]; v != "" && !seen[v] {
					seen[v] = true
					classes = append(classes, cover.Named{ID: v})
				}
			}
		}
	}
	s := NewSamples(classes)
	s.Notes = notes
	for _, r := range list {
		c := rows.Line{Path: path, Row: r}
		var at [2]int
		for k, name := range []string{"map", "reference"} {
			i, ok := s.ClassOf(c.Text(name))
			if !ok {
				return s, c.Wrong("the %s class %q is not in the legend", name, c.Text(name))
			}
			at[k] = i
		}
		n, err := strconv.Atoi(c.Text("count"))
		if err != nil || n < 0 {
			return s, c.Wrong("the count %q is not a whole number", c.Text("count"))
		}
		if strata != "" && c.Text(strata) == "" {
			return s, c.Wrong("it has no %s", strata)
		}
		s.Add(c.Text(strata), at[0], at[1], n)
	}
	return s, nil
}

// Add adds n samples of a map class and a reference class, in a stratum unless that is empty.
func (s *Samples) Add(stratum string, i, j, n int) {
	s.Counts[i][j] += n
	if stratum == "" {
		return
	}
	h := slices.IndexFunc(s.Strata, func(x cover.Named) bool { return x.ID == stratum })
	if h < 0 {
		h = len(s.Strata)
		s.Strata = append(s.Strata, cover.Named{ID: stratum})
		s.ByStratum = append(s.ByStratum, map[[2]int]int{})
	}
	s.ByStratum[h][[2]int{i, j}] += n
}

// ReadStrata reads the areas of strata from a CSV with the columns stratum, area and unit (or class_code in the place of stratum). Rows of one
// stratum are added up; one with area needs samples.
func (s *Samples) ReadStrata(from files.System, path string) error {
	s.Areas = make([]float64, len(s.Strata))
	found := make([]bool, len(s.Strata))
	notes, err := eachArea(from, path, []string{"area", "unit"}, []string{"stratum", "class_code", "class_name", "kind"}, func(c rows.Line, a float64) error {
		h := slices.IndexFunc(s.Strata, func(x cover.Named) bool {
			return slices.Contains([]string{c.Text("stratum"), c.Text("class_code"), c.Text("class_name")}, x.ID)
		})
		if h < 0 {
			if a == 0 {
				return nil
			}
			return c.Wrong("the stratum %q has area but no samples: sample it too, or leave it out of the areas", strings.TrimSpace(c.Text("stratum")+c.Text("class_code")))
		}
		s.Areas[h] += a
		found[h] = true
		return nil
	})
	if err != nil {
		return err
	}
	s.Notes = append(s.Notes, notes...)
	for h, ok := range found {
		if !ok {
			return fmt.Errorf("%s: it has no area for the stratum %q, which has samples", path, s.Strata[h].ID)
		}
	}
	return nil
}

// eachArea calls f for each row of a table with an area of a class, in m².
func eachArea(from files.System, path string, needed, optional []string, f func(c rows.Line, m2 float64) error) (notes []string, err error) {
	list, notes, err := rows.Read(from, path, needed, optional)
	if err != nil {
		return nil, err
	}
	for _, r := range list {
		c := rows.Line{Path: path, Row: r}
		if kind := c.Text("kind"); kind != "" && kind != "class" {
			continue
		}
		a, err := c.Area("area")
		if err == nil {
			err = f(c, a)
		}
		if err != nil {
			return nil, err
		}
	}
	return notes, nil
}

// ReadAreas reads the areas of map classes: from a tally of measure, or a CSV with the columns class_code, area and unit. Zones and
// rows of one class are added up.
func (s *Samples) ReadAreas(from files.System, path string) error {
	found := make([]bool, len(s.Classes))
	notes, err := eachArea(from, path, []string{"class_code", "area", "unit"}, []string{"class_name", "kind"}, func(c rows.Line, a float64) error {
		i, ok := s.ClassOf(c.Text("class_code"))
		if !ok {
			i, ok = s.ClassOf(c.Text("class_name"))
		}
		if !ok {
			if a == 0 {
				return nil
			}
			return c.Wrong("class %s has area but no samples: sample it too, or leave it out of the areas", strings.TrimSpace(c.Text("class_code")+" "+c.Text("class_name")))
		}
		found[i] = true
		s.Areas[i] += a
		return nil
	})
	if err != nil {
		return err
	}
	s.Notes = append(s.Notes, notes...)
	for i, ok := range found {
		if !ok {
			n := 0
			for _, c := range s.Counts[i] {
				n += c
			}
			if n > 0 {
				return fmt.Errorf("%s: it has no area for class %s, which has samples", path, s.Classes[i].Label())
			}
		}
	}
	return nil
}
