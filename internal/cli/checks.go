package cli

import (
	"fmt"
	"strings"

	"github.com/verdex-land/verdex/core/check"

	"github.com/verdex-land/verdex/internal/model"
)

// strictOption makes a check that falls short count.
type strictOption struct {
	Strict bool `opt:"strict" help:"end with status 3 when a check falls short or there is a warning"`
}

// checkOutput says what becomes of checks.
type checkOutput struct {
	strictOption
	Checks string `opt:"checks" out:"table" help:"write what the checks found to <FILE>, in the format that its ending chooses"`
}

// writeChecks stages what checks found where it is to go.
func (s *session) writeChecks(o checkOutput, checks []check.Check) error {
	if o.Checks == "" {
		return nil
	}
	d, err := s.destinationOf("checks", o.Checks)
	if err != nil {
		return err
	}
	return s.write(d, model.Checks(checks))
}

// reportChecks notes the checks that hold by name, and warns of the others. It returns errStrict when one falls short, or the
// reporter has warned, and that counts.
func (s *session) reportChecks(o checkOutput, checks []check.Check) error {
	if s.plan != nil {
		s.plan.checks = append(s.plan.checks, checks...)
	}
	holding := s.warnOf(checks)
	if len(holding) > 0 {
		s.Note("checks that hold: " + strings.Join(holding, ", "))
	}
	return s.strict(o.Strict)
}

// warnOf warns of checks that fall short, and returns the names of those that hold.
func (s *session) warnOf(checks []check.Check) (holding []string) {
	for _, c := range checks {
		switch c.Outcome {
		case check.Holds:
			holding = append(holding, c.Name)
		case check.FallsShort:
			s.Warn(fmt.Sprintf("check %s: %s", c.Name, c.Text))
		}
	}
	return holding
}

// drawn warns of the checks that fall short for the data of a figure. A step of a plan does not repeat them: the tables of the plan report the same checks.
func (s *session) drawn(checks []check.Check) {
	if s.plan == nil {
		s.warnOf(checks)
	}
}

// strict returns errStrict where warnings count and there were some.
func (s *session) strict(counts bool) error {
	if counts && s.warned > 0 {
		return errStrict
	}
	return nil
}
