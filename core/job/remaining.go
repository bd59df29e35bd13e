package job

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/text"
)

// HistoriesOptions are those of what is made of tables of histories.
type HistoriesOptions struct {
	Tables       []string `arg:"TABLE..." in:"table"`
	LegendOption `group:"classes"`
	UnitOption   `group:"classes"`
}

// Histories are what tables of histories hold.
type Histories struct {
	*account.Histories
	Unit   area.Unit
	Legend *cover.Legend // nil for none
	*Report
}

// ReadHistories reads tables of histories.
func ReadHistories(ctx context.Context, env Env, o HistoriesOptions) (*Histories, error) {
	_, h, err := readHistories(ctx, env, &o, o)
	return h, err
}

func readHistories(ctx context.Context, env Env, options any, o HistoriesOptions) (*work, *Histories, error) {
	w, report, err := begin(ctx, env, options, false)
	if err != nil {
		return nil, nil, err
	}
	if len(o.Tables) == 0 {
		return nil, nil, fault.Misusef("", "", "no table is named")
	}
	t, err := w.readTerms(ClassOptions{LegendOption: o.LegendOption, By: "class", UnitOption: o.UnitOption})
	if err != nil {
		return nil, nil, err
	}
	s := &statement{work: w, out: &Terms{Legend: t.legend}}
	h, err := account.ReadHistories(o.Tables, s.reader())
	if err != nil {
		return nil, nil, err
	}
	w.note(h.Notes...)
	if h.Classes, err = account.Arrange(h.Classes, s.out.Legend); err != nil {
		return nil, nil, err
	}
	return w, &Histories{h, t.unit, s.out.Legend, report}, nil
}

// RemainingOptions are those of [Remaining].
type RemainingOptions struct {
	Years float64 `opt:"years" default:"20" least:"0.1" most:"1000" help:"for how many <YEARS> land counts as converted"`
	HistoriesOptions
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
	if o.Legend == "" {
		return nil, fault.Misusef("", "", "nothing says which category of land use each class belongs to").By("name a legend that has a column category", "legend", "FILE")
	}
	w, h, err := readHistories(ctx, env, &o, o.HistoriesOptions)
	if err != nil {
		return nil, err
	}
	categories := map[string]string{} // by class
	for _, c := range h.Legend.Classes {
		categories[c.ID()] = c.Category
	}
	list, err := h.Remaining(o.Years, func(code string) string { return categories[code] })
	var none *account.NoCategory
	if errors.As(err, &none) {
		var names []string
		for _, c := range h.Classes { // all of which are in the legend
			if slices.Contains(none.Codes, c.ID) {
				names = append(names, c.ID+" "+c.Name)
			}
		}
		return nil, fault.Errorf("%s: it has no category for %s", o.Legend, text.List(names, 12)).
			Do("fill in its column category: forest land, cropland, grassland, wetlands, settlements or other land")
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", strings.Join(o.Tables, ", "), err)
	}
	w.note(fmt.Sprintf("what changes its category between two epochs does so evenly over the time between them; conversions before %s are not known, and such land counts as remaining", h.Epochs[0]))
	return &RemainingAccount{list, h.Epochs, o.Years, h.Unit, h.CheckRemaining(list), h.Report}, nil
}

// Zones returns the rows of each zone and year.
func (a *RemainingAccount) Zones() iter.Seq[[]account.RemainingRow] {
	return chunks(a.Rows, func(x, y account.RemainingRow) bool { return x.Zone == y.Zone && x.Year == y.Year })
}
