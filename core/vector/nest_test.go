package vector

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// square is a ring that runs clockwise, as shells of shapefiles do.
func square(x, y, size float64) Ring {
	return Ring{{x, y}, {x, y + size}, {x + size, y + size}, {x + size, y}}
}

// shapes are polygons by the extents of their rings, in any order.
func shapes(polygons []Polygon) (out [][][4]float64) {
	for _, p := range polygons {
		var boxes [][4]float64
		for _, r := range p {
			boxes = append(boxes, Box(r))
		}
		out = append(out, boxes)
	}
	return out
}

// Rings that all run the wrong way, and files in which some pieces do, have the same holes as sound ones.
func TestNestWhateverTheDirection(t *testing.T) {
	land, lake, island, pond := square(0, 0, 100), reversed(square(10, 10, 50)), square(20, 20, 30), reversed(square(25, 25, 5))
	other, well := square(200, 0, 50), reversed(square(210, 10, 10))
	alone := square(400, 0, 5)
	want := shapes(Nest([]Ring{land, lake, island, pond, other, well, alone}))
	assert.ElementsMatch(t, [][][4]float64{
		{{0, 0, 100, 100}, {10, 10, 60, 60}}, {{20, 20, 50, 50}, {25, 25, 30, 30}}, {{200, 0, 250, 50}, {210, 10, 220, 20}}, {{400, 0, 405, 5}},
	}, want)
	flip := func(rings ...Ring) (out []Ring) {
		for _, r := range rings {
			out = append(out, reversed(r))
		}
		return out
	}
	for name, rings := range map[string][]Ring{
		"all":       flip(land, lake, island, pond, other, well, alone),
		"one piece": append(flip(land, lake, island, pond), other, well, alone),
		"the other": append(flip(other, well), land, lake, island, pond, alone),
		"order":     flip(pond, well, island, alone, lake, other, land),
	} {
		assert.ElementsMatch(t, want, shapes(Nest(rings)), name)
	}
}
