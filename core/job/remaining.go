package job

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/rows"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector/tables"
)

// RemainingOptions are those of [Remaining].
type RemainingOptions struct {
	Tables       []string `arg:"TABLE..." in:"table"`
	Years        float64  `opt:"years" default:"20" least:"0.1" most:"1000" help:"for how many <YEARS> land counts as converted"`
	LegendOption `group:"classes"`
	UnitOption   `group:"classes"`
}

// RemainingAccount is the account of land remaining in a category and converted to it; the rows of a zone and year lie together.
type RemainingAccount struct {
	Rows   []account.RemainingRow
	Epochs []string
	Years  float64 // the time of transition
	Unit   area.Unit
	Checks []check.Check
	*Report
}

// Remaining makes the account of land remaining in a category of land use, and of land converted to it, of tables of histories. The legend says which category each class belongs to.
func Remaining(ctx context.Context, env Env, o RemainingOptions) (*RemainingAccount, error) {
	w, report, err := begin(ctx, env, &o, false)
	if err != nil {
		return nil, err
	}
	if len(o.Tables) == 0 {
		return nil, fault.Misusef("", "", "no table is named")
	}
	if o.Legend == "" {
		return nil, fault.Misusef("", "", "nothing says which category of land use each class belongs to").By("name a legend with the column category", "legend", "FILE")
	}
	t, err := w.readTerms(ClassOptions{LegendOption: o.LegendOption, By: "class", UnitOption: o.UnitOption})
	if err != nil {
		return nil, err
	}
	h, err := account.ReadHistories(o.Tables, func(name string, needed, optional []string, each func(rows.Row) error) ([]string, error) {
		w.reads("table", name)
		return tables.Each(w.env.files(), name, needed, optional, each)
	})
	if err != nil {
		return nil, err
	}
	w.note(h.Notes...)
	list, err := h.Remaining(o.Years, func(code string) string {
		n, err := strconv.Atoi(code)
		if err != nil {
			return ""
		}
		c, _ := t.legend.Find(n)
		return c.Category
	})
	var none *account.NoCategory
	if errors.As(err, &none) {
		var names []string
		for _, code := range none.Codes {
			name := code
			if n, err := strconv.Atoi(code); err == nil {
				if c, ok := t.legend.Find(n); ok {
					name += " " + c.Name
				}
			}
			names = append(names, name)
		}
		return nil, fault.Errorf("%s: it has no category for %s", o.Legend, text.List(names, 12)).
			Do("fill in its column category: forest land, cropland, grassland, wetlands, settlements or other land")
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", strings.Join(o.Tables, ", "), err)
	}
	w.note(fmt.Sprintf("what changes its category between two epochs does so evenly over the time between them; conversions before %s are not known, and such land counts as remaining", h.Epochs[0]))
	return &RemainingAccount{list, h.Epochs, o.Years, t.unit, h.CheckRemaining(list), report}, nil
}

// Zones returns the rows of each zone and year.
func (a *RemainingAccount) Zones() iter.Seq[[]account.RemainingRow] {
	return chunks(a.Rows, func(x, y account.RemainingRow) bool { return x.Zone == y.Zone && x.Year == y.Year })
}
