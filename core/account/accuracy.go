package account

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
)

// Samples are counts of reference samples drawn at random within the classes of a map.
type Samples struct {
	Classes []Named
	Counts  [][]int   // by map class (the stratum), then by reference class
	Areas   []float64 // of the map classes, in m²
}

// Accuracy is what samples tell of a map and of the true extents of its classes: the stratified estimators of Olofsson,
// Foody, Herold, Stehman, Woodcock and Wulder, "Good practices for estimating area and assessing accuracy of land change", Remote Sensing
// of Environment 148 (2014), equations 1 to 11. With W_i the share of map class i in the area and n_ij the samples of it
// that are class j on the ground,
//
//	p_ij = W_i·n_ij/n_i.            proportion of the area in cell i, j of the error matrix
//	O    = Σ p_jj                   overall accuracy; variance Σ W_i²·U_i(1−U_i)/(n_i. −1)
//	U_i  = p_ii/p_i.                user's accuracy; variance U_i(1−U_i)/(n_i. −1)
//	P_j  = p_jj/p_.j                producer's accuracy
//	A_j  = A·p_.j                   adjusted area; variance of p_.j: Σ (W_i·p_ij − p_ij²)/(n_i. −1)
//
// Intervals of 95 % are 1.96 standard errors to either side.
type Accuracy struct {
	Classes     []Named
	Proportions [][]float64 // p_ij
	Samples     []int       // of each map class
	Overall     Estimate
	Users       []Estimate // NaN without samples
	Producers   []Estimate // NaN for a class that no sample has on the ground
	Mapped      []float64  // m²
	Adjusted    []Estimate // m²
}

// Estimate is a number and half the width of its 95 % interval.
type Estimate struct{ Value, Half float64 }

// HoldsZero reports whether the interval holds zero.
func (e Estimate) HoldsZero() bool { return e.Value-e.Half <= 0 && e.Value+e.Half >= 0 }

// normal95 is the number of standard errors to either side in an interval of 95 %.
const normal95 = 1.96

// Assess estimates accuracy and areas. A map class with area needs two samples at least.
func Assess(s Samples) (*Accuracy, error) {
	n := len(s.Classes)
	a := &Accuracy{Classes: s.Classes, Mapped: s.Areas, Samples: make([]int, n)}
	total := 0.0
	for i := range n {
		for _, c := range s.Counts[i] {
			a.Samples[i] += c
		}
		total += s.Areas[i]
		switch {
		case s.Areas[i] > 0 && a.Samples[i] < 2:
			return nil, fmt.Errorf("class %s has %d sample(s) where it is mapped, and an interval takes two at least in each class of the map: add samples, or gather it with another class", s.Classes[i].Label(), a.Samples[i])
		case s.Areas[i] <= 0 && a.Samples[i] > 0:
			return nil, fmt.Errorf("class %s has samples where it is mapped, but no area: are these the areas of the map that was sampled?", s.Classes[i].Label())
		}
	}
	if total <= 0 {
		return nil, fmt.Errorf("the classes of the map have no area")
	}
	share := func(i, j int) float64 { // n_ij / n_i.
		if a.Samples[i] == 0 {
			return 0
		}
		return float64(s.Counts[i][j]) / float64(a.Samples[i])
	}
	spread := func(i int, p float64) float64 { // variance of a proportion within a stratum
		if a.Samples[i] == 0 {
			return 0
		}
		return p * (1 - p) / float64(a.Samples[i]-1)
	}
	weights := make([]float64, n)
	columns := make([]float64, n)
	variance := 0.0
	for i := range n {
		weights[i] = s.Areas[i] / total
		row := make([]float64, n)
		for j := range n {
			row[j] = weights[i] * share(i, j)
			columns[j] += row[j]
		}
		a.Proportions = append(a.Proportions, row)
		a.Overall.Value += row[i]
		variance += weights[i] * weights[i] * spread(i, share(i, i))
	}
	a.Overall.Half = normal95 * math.Sqrt(variance)
	nan := Estimate{math.NaN(), math.NaN()}
	for j := range n {
		users, producers := nan, nan
		if a.Samples[j] > 0 {
			users = Estimate{share(j, j), normal95 * math.Sqrt(spread(j, share(j, j)))}
		}
		variance := 0.0
		for i := range n {
			variance += weights[i] * weights[i] * spread(i, share(i, j))
		}
		if columns[j] > 0 {
			p := a.Proportions[j][j] / columns[j]
			v := weights[j] * weights[j] * (1 - p) * (1 - p) * spread(j, share(j, j))
			for i := range n {
				if i != j {
					v += p * p * weights[i] * weights[i] * spread(i, share(i, j))
				}
			}
			producers = Estimate{p, normal95 * math.Sqrt(v) / columns[j]}
		}
		a.Users, a.Producers = append(a.Users, users), append(a.Producers, producers)
		a.Adjusted = append(a.Adjusted, Estimate{columns[j] * total, normal95 * math.Sqrt(variance) * total})
	}
	return a, nil
}

// NewSamples makes room for samples of classes.
func NewSamples(classes []Named) Samples {
	s := Samples{Classes: classes, Areas: make([]float64, len(classes))}
	for range classes {
		s.Counts = append(s.Counts, make([]int, len(classes)))
	}
	return s
}

// ClassOf finds a class by its code or name.
func (s *Samples) ClassOf(text string) (int, bool) {
	for i, c := range s.Classes {
		if c.ID == text || c.Name == text && text != "" {
			return i, true
		}
	}
	return 0, false
}

// ReadCounts reads a CSV with the columns map, reference and count, classes by code or name. Without a legend, classes are
// those that the table names.
func ReadCounts(path string, classes []Named) (Samples, error) {
	rows, err := cover.ReadRows(path, []string{"map", "reference", "count"}, nil)
	if err != nil {
		return Samples{}, err
	}
	if classes == nil {
		seen := map[string]bool{}
		for _, name := range []string{"map", "reference"} {
			for _, r := range rows {
				if v := r.Cell[name]; v != "" && !seen[v] {
					seen[v] = true
					classes = append(classes, Named{ID: v})
				}
			}
		}
	}
	s := NewSamples(classes)
	for _, r := range rows {
		c := cells{path, r}
		var at [2]int
		for k, name := range []string{"map", "reference"} {
			i, ok := s.ClassOf(c.text(name))
			if !ok {
				return s, c.wrong("the %s class %q is not in the legend", name, c.text(name))
			}
			at[k] = i
		}
		n, err := strconv.Atoi(c.text("count"))
		if err != nil || n < 0 {
			return s, c.wrong("the count %q is no whole number", c.text("count"))
		}
		s.Counts[at[0]][at[1]] += n
	}
	return s, nil
}

// ReadAreas reads the areas of map classes: from a tally of measure, or a CSV with the columns class_code, area and unit. Zones and
// rows of one class are added up.
func (s *Samples) ReadAreas(path string) error {
	rows, err := cover.ReadRows(path, []string{"class_code", "area", "unit"}, []string{"class_name", "kind"})
	if err != nil {
		return err
	}
	found := make([]bool, len(s.Classes))
	for _, r := range rows {
		c := cells{path, r}
		if kind := c.text("kind"); kind != "" && kind != "class" {
			continue
		}
		a, err := c.area("area")
		if err != nil {
			return err
		}
		i, ok := s.ClassOf(c.text("class_code"))
		if !ok {
			i, ok = s.ClassOf(c.text("class_name"))
		}
		if !ok {
			if a == 0 {
				continue
			}
			return c.wrong("class %s has area but no samples: sample it too, or leave it out of the areas", strings.TrimSpace(c.text("class_code")+" "+c.text("class_name")))
		}
		found[i] = true
		s.Areas[i] += a
	}
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
