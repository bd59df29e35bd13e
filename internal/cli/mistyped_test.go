package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Mistakes are quoted as they were typed, and answered with what was probably meant.
func TestMistypedOptionsAndCommands(t *testing.T) {
	for typed, want := range map[string]string{
		"measure x.tif --zoneid code":         "there is no option --zoneid; did you mean --zone-id? (verdex measure --help lists the options)",
		"measure x.tif -zone-idd=code":        "there is no option -zone-idd; did you mean --zone-id?",
		"measure x.tif --frobnicate":          "there is no option --frobnicate (verdex measure --help lists the options)",
		"account series x.csv --unti ha":      "there is no option --unti; did you mean --unit? (verdex account series --help lists the options)",
		"--thread 3 look x":                   "there is no option --thread; did you mean --threads? (verdex --help lists the options)",
		"mesure x":                            `there is no command "mesure"; did you mean verdex measure?`,
		"book ist x":                          `there is no command "ist"; did you mean verdex book list?`,
		"accuracy --help":                     `there is no command "accuracy"; did you mean verdex account accuracy?`,
		"verdex --help":                       `there is no command "verdex" (verdex --help lists the commands)`,
		"derive measure":                      `there is no command "measure" below verdex derive: verdex measure stands alone`,
		"reclassify a --min-patch -1":         "--min-patch -1 is out of range: give a number that is not negative",
		"reclassify a --min-patch=nan":        "--min-patch nan is out of range: give a number that is not negative",
		"patches a --min-area inf":            "--min-area inf is out of range: give a number that is not negative",
		"measure a --threads -2":              "--threads -2",
		"measure a --threads few":             "--threads few: this is not what the option takes",
		"measure a --bound pace=nan":          "--bound pace=nan is not a limit: write CHECK=PERCENT",
		"zones circle --at nan,3 --radius 5m": `--at nan,3 does not have the form LON,LAT`,
		"zones circle --at 3,3 --radius infm": `is not a length`,
		"measure a --unit ha --unit km2":      "--unit is given twice: give it once",
		"zones circle --radius 1 --radius 2":  "--radius is given twice: give it once",
		"measure a --nodata":                  "--nodata needs a value",
		"book list b.book --unit furlong":     "there is no option --unit",
		"measure a --nodata 1 --nodata 2":     "--nodata is given 2 times",
	} {
		t.Run(typed, func(t *testing.T) {
			t.Chdir(t.TempDir())
			require.NoError(t, os.WriteFile("a", []byte(asciiGrid(4, 3)), 0o644))
			args := append([]string{"verdex"}, strings.Fields(typed)...)
			if strings.HasPrefix(typed, "zones") {
				args = append(args, "--out", "z.gpkg")
			}
			if strings.HasPrefix(typed, "patches") {
				args = append(args, "--out", "z.geojson")
			}
			var out, errs strings.Builder
			assert.Equal(t, exitUsage, Main(args, "test", &out, &errs), errs.String())
			assert.Contains(t, errs.String(), want)
			assert.Empty(t, out.String())
		})
	}
}

// An expression may begin with a minus, wherever it stands.
func TestExpressionWithMinus(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("a.asc", []byte(asciiGrid(4, 3)), 0o644))
	for _, args := range [][]string{
		{"-a + 9", "--layer", "a=a.asc", "--crs", "EPSG:32633", "--force", "--out", "x.tif"},
		{"--layer", "a=a.asc", "--crs", "EPSG:32633", "-a + 9", "--force", "--out", "x.tif"},
		{"--layer", "a=a.asc", "--nodata", "9", "--crs", "EPSG:32633", "--force", "--out", "x.tif", "-a + 9"},
		{"--layer", "a=a.asc", "--nodata", "9", "--crs", "EPSG:32633", "--force", "--out", "x.tif", "--", "-a + 9"},
	} {
		verdex(t, append([]string{"derive", "expr"}, args...)...)
		out, _ := verdex(t, "look", "x.tif", "--json")
		assert.Contains(t, out, `"value": 8`, "%v", args)
	}
}

// Every command that a message, a help text or a document names exists, with the options that stand behind it.
func TestNamedCommandsExist(t *testing.T) {
	root := newRoot("test", nil, nil)
	named := regexp.MustCompile(`verdex ([a-z]+)(?: ([a-z]+))?([^\n]*)`)
	option := regexp.MustCompile(`(?:^| )--([a-z][a-z-]*)`)
	found := 0
	check := func(where, text string) {
		for _, m := range named.FindAllStringSubmatch(text, -1) {
			c := root.Command(m[1])
			if c == nil {
				// "verdex reads …" in a sentence
				assert.Contains(t, []string{"version", "package", "completion"}, m[1], "%s: there is no command: %s", where, m[0])
				continue
			}
			rest := m[3]
			if len(c.Commands) > 0 && m[2] != "" {
				sub := c.Command(m[2])
				if !assert.NotNil(t, sub, "%s: there is no command: %s", where, m[0]) {
					continue
				}
				c = sub
			}
			found++
			rest, _, _ = strings.Cut(rest, "verdex ")
			rest, _, _ = strings.Cut(rest, "`")
			rest, _, _ = strings.Cut(rest, ", ")
			for _, o := range option.FindAllStringSubmatch(rest, -1) {
				known := slices.Contains(append(flagNames(root), "help", "version"), o[1]) || slices.Contains(flagNames(c), o[1])
				assert.True(t, known, "%s: verdex %s has no option --%s: %s", where, c.Name, o[1], m[0])
			}
		}
	}
	eachLiteral(t, check)
	documents, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	for _, path := range append(documents, "../../README.md") {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		check(path, string(text))
	}
	assert.Greater(t, found, 170)
}
