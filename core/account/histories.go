package account

import (
	"fmt"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/rows"
)

// Histories are what tables of histories hold.
type Histories struct {
	Epochs  []string
	Zones   []cover.Named
	Classes []cover.Named
	List    []History
	Notes   []string // what had to be assumed when tables were read
	outside map[string]float64
	missing []check.Finding
}

// History is the ground of a zone that had one class after another.
type History struct {
	Zone  int      // its place among the zones
	Codes []string // by epoch; "" where it does not map the ground
	M2    float64
}

// ReadHistories reads tables of histories, which have to be of the same epochs and to list every history.
func ReadHistories(paths []string, read Reader) (*Histories, error) {
	h := &Histories{outside: map[string]float64{}}
	parts := percentages{}
	zones, classes, seen := map[string]int32{}, map[string]int32{}, map[string]bool{}
	for _, path := range paths {
		notes, err := read(path, []string{"zone_id", "epoch_labels", "history_codes", "course", "area", "unit"}, []string{"zone_name", "history"}, func(row rows.Row) error {
			return h.add(rows.Line{Path: path, Row: row}, parts, zones, classes, seen)
		})
		if err != nil {
			return nil, hint(err, "a table of histories, of a change, is needed")
		}
		h.Notes = append(h.Notes, notes...)
	}
	if len(h.List) == 0 {
		return nil, fmt.Errorf("%s: there are no histories in it", strings.Join(paths, ", "))
	}
	h.missing = parts.findings()
	return h, nil
}

func (h *Histories) add(c rows.Line, parts percentages, zones, classes map[string]int32, seen map[string]bool) error {
	if c.Text("zone_id") == "" {
		return c.Wrong("it has no zone_id")
	}
	a, err := c.Area("area")
	if err != nil {
		return err
	}
	parts.add(c)
	epochs := strings.Split(c.Text("epoch_labels"), ";")
	switch {
	case h.Epochs == nil:
		h.Epochs = epochs
	case !slices.Equal(h.Epochs, epochs):
		return c.Wrong("it is about the epochs %s, and rows before it about %s: an account is of tables of the same epochs", strings.Join(epochs, ", "), strings.Join(h.Epochs, ", "))
	}
	zone, err := note(&h.Zones, zones, cover.Named{ID: c.Text("zone_id"), Name: c.Text("zone_name")})
	if err != nil {
		return c.Wrong("zone %v", err)
	}
	codes := c.Text("history_codes")
	if codes == "" && c.Text("course") == "outside" {
		h.outside[c.Text("zone_id")] += a
		return nil
	}
	if codes == "" {
		return c.Wrong("it stands for several histories (%s), and the account needs each: write the table without a bound on them", c.Text("course"))
	}
	x := History{Zone: int(zone), Codes: strings.Split(codes, ";"), M2: a}
	if len(x.Codes) != len(epochs) {
		return c.Wrong("the history %q does not have a class for each of the epochs %s", codes, strings.Join(epochs, ", "))
	}
	key := c.Text("zone_id") + "\x00" + codes
	if seen[key] {
		return c.Wrong("the history %q of zone %s occurs twice", codes, c.Text("zone_id"))
	}
	seen[key] = true
	names := strings.Split(c.Text("history"), " › ")
	for e, code := range x.Codes {
		if code == "?" {
			x.Codes[e] = ""
			continue
		}
		class := cover.Named{ID: code}
		if len(names) == len(x.Codes) {
			class.Name = names[e]
		}
		if _, err := note(&h.Classes, classes, class); err != nil {
			return c.Wrong("class %v", err)
		}
	}
	h.List = append(h.List, x)
	return nil
}
