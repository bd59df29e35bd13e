package spill_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/spill"
)

func ExampleStore() {
	var s spill.Store
	defer s.Close()
	at, err := s.Add([]byte("tile"))
	if err != nil {
		panic(err)
	}
	b := make([]byte, 4)
	err = s.Get(at, b)
	fmt.Println(string(b), err)
	// Output:
	// tile <nil>
}
