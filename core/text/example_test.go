package text_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/text"
)

func ExampleParse() {
	t, err := text.Parse([]byte("zone;area\nW1;12,5\n"), text.Options{})
	fmt.Println(t.Head, t.Rows, err)
	fmt.Println(text.Count(1, "zone"), text.Count(1200, "zone"), text.List([]string{"W1", "W2", "W3", "W4"}, 2))
	// Output:
	// [zone area] [[W1 12.5]] <nil>
	// 1 zone 1,200 zones W1, W2 and 2 more
}
