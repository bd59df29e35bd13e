package accuracy_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/accuracy"
	"github.com/verdex-land/verdex/core/cover"
)

// Two classes of 60 and 40 hectares, with 50 samples each: 5 of those mapped as wood are fields on the ground.
func ExampleAssess() {
	s := accuracy.NewSamples([]cover.Named{{ID: "1", Name: "Wood"}, {ID: "2", Name: "Fields"}})
	s.Areas = []float64{60e4, 40e4}
	s.Add("", 0, 0, 45) // mapped as wood, and wood
	s.Add("", 0, 1, 5)
	s.Add("", 1, 1, 50)
	a, err := accuracy.Assess(s)
	if err != nil {
		panic(err)
	}
	fmt.Printf("overall accuracy %.2f ± %.2f\n", a.Overall.Value, a.Overall.Half)
	fmt.Printf("wood on the ground %.0f ± %.0f ha\n", a.Adjusted[0].Value/1e4, a.Adjusted[0].Half/1e4)
	// Output:
	// overall accuracy 0.94 ± 0.05
	// wood on the ground 54 ± 5 ha
}
