package option_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/option"
)

type options struct {
	Edges string  `opt:"edges" choose:"split,centre" help:"<how> cut cells count"`
	Least float64 `opt:"least" default:"0.5" least:"0" help:"smallest <AREA>"`
}

func ExampleOf() {
	o := options{Least: -1}
	for _, opt := range option.Of(&o) {
		fmt.Println(opt.Name, opt.Word(), opt.Choices, opt.Default)
	}
	fmt.Println(option.Check(&o))
	o = options{}
	option.Fill(&o)
	fmt.Println(o)
	// Output:
	// edges how [split centre] split
	// least AREA [] 0.5
	// the option least -1 is out of range: give a number that is not negative
	// {split 0.5}
}
