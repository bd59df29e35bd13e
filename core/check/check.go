// Package check has what all checks have in common: a question whether a number rings true, and its answer.
package check

import "github.com/verdex-land/verdex/core/text"

// Check is a question whether a number rings true, and its answer.
type Check struct {
	Name     string
	Outcome  Outcome
	Text     string    // what was asked and found, in a sentence
	Findings []Finding // where it falls short
}

// Outcome is that of a check.
type Outcome int

// The outcomes.
const (
	Holds Outcome = iota
	FallsShort
	NotMade
)

// String is the outcome as tables have it.
func (o Outcome) String() string { return [...]string{"holds", "falls short", "not made"}[o] }

// Finding is a place where a check falls short.
type Finding struct {
	Epoch, ZoneID, Class string  // what it concerns; "" for all
	Value                float64 // what was found
	Text                 string
}

// Skipped is a check that reads rasters again, which was not asked for.
func Skipped(name string) Check {
	return Check{Name: name, Outcome: NotMade, Text: "it reads the rasters again, which takes as long as measuring them: ask for all checks"}
}

// Bounds are the limits of checks by name; each has its own meaning, see [DefaultBounds].
type Bounds map[string]float64

// DefaultBounds are the limits that hold unless others are given, all in percent.
var Defaults = Bounds{
	"inside":   1,   // of a zone, that lies outside the raster
	"nodata":   50,  // of a zone, that is no data
	"unlisted": 0,   // of a zone, whose values are in no class
	"mapped":   1,   // of a zone, that one epoch only maps
	"extents":  0.1, // of a zone, by which what two epochs map differs
	"pace":     5,   // of the ground mapped, that changes its class in a year
	"flicker":  10,  // of what changes its class, that has its old one back an epoch later
	"speckle":  1,   // of what changes its class, that does so in single cells
	"edges":    1,   // of a zone, by which the extent of a class differs between split and centre
	"nominal":  1,   // by which cells × nominal size differs from true ground
	"control":  0,   // by which an extent may differ from a control total without tolerance of its own
}

// Names are all checks, in the order in which they are reported.
var Names = []string{"balance", "rows", "outline", "inside", "nodata", "unlisted", "ground", "mapped", "extents", "pace", "vanish", "flicker", "speckle", "steady",
	"edges", "nominal", "control"}

// Judge makes a check of findings.
func Judge(name, holds, short string, findings []Finding) Check {
	c := Check{Name: name, Text: holds, Findings: findings}
	if len(findings) > 0 {
		var texts []string
		for _, f := range findings {
			texts = append(texts, f.Text)
		}
		c.Outcome, c.Text = FallsShort, short+": "+text.List(texts, 5)
	}
	return c
}

// Mapped is the extent of a class in a zone at an epoch, for comparing with control totals.
type Mapped struct {
	Zone, Class, Epoch string
	M2                 float64
}
