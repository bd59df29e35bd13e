package book

import (
	"fmt"
	"math/rand/v2"
	"os"
	"testing"
	"time"
)

func TestMkMillion(t *testing.T) {
	where := os.Getenv("MK")
	if where == "" {
		t.Skip()
	}
	b := create(t, where)
	// one account of a million rows: 5 epochs, 20,000 zones, ten classes; and 20 others of 10,000 rows
	for e := range 5 {
		p := large("one", fmt.Sprint(2000+4*e), 20000)
		for i := range p.Extents {
			p.Extents[i].M2 += float64(rand.IntN(1000))
		}
		begin := time.Now()
		post(t, b, p)
		fmt.Println(e, time.Since(begin))
	}
	for a := range 20 {
		post(t, b, large(fmt.Sprintf("small %d", a), "2004", 1000))
	}
}
