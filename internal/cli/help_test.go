package cli

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The help lists groups of options in the order of the work, and no group that has no place in it.
func TestHelpFollowsTheWork(t *testing.T) {
	for _, command := range [][]string{{"measure"}, {"change"}, {"derive", "rules"}, {"zones", "pick"}, {"reclassify"}} {
		var out, errs bytes.Buffer
		require.Zero(t, Main(append(append([]string{"verdex"}, command...), "--help"), "test", &out, &errs), errs.String())
		var places []int
		for line := range strings.Lines(out.String()) {
			name := strings.TrimSpace(line)
			if strings.HasPrefix(line, "   ") && !strings.HasPrefix(line, "    ") && len(name) > 3 && name == strings.ToUpper(name) && !strings.HasPrefix(name, "-") {
				places = append(places, slices.Index(groupOrder, name))
			}
		}
		require.Greater(t, len(places), 1, command)
		require.True(t, slices.IsSorted(places) && places[0] > 0, "%v: %v", command, places)
	}
}
