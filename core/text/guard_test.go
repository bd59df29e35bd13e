package text

import (
	"encoding/csv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestGuardedTextIsNoFormulaAndComesBack(t *testing.T) {
	for text, want := range map[string]string{
		"=1+1": "'=1+1", "@sum": "'@sum", "+44": "+44", "-1": "-1", "-1.5e3": "-1.5e3", "-mill": "'-mill", "'=x": "''=x", "O'Tarn": "O'Tarn", "'s Ward": "'s Ward", "": "", "Farm": "Farm",
		"\tx": "'\tx", "''-": "'''-",
	} {
		assert.Equal(t, want, Guard(text))
		assert.Equal(t, text, Unguard(want))
	}
}

func FuzzGuard(f *testing.F) {
	f.Add("=cmd()")
	f.Add("''@")
	f.Fuzz(func(t *testing.T, text string) {
		g := Guard(text)
		if Unguard(g) != text {
			t.Fatalf("%q comes back as %q", text, Unguard(g))
		}
		var b strings.Builder
		w := csv.NewWriter(&b)
		if w.Write([]string{g}); g != "" && strings.ContainsAny(g[:1], "=@\t\r") {
			t.Fatalf("%q is a formula", g)
		}
	})
}
