//go:build unix

package cli

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCompletions(t *testing.T) {
	for line, want := range map[string]string{
		"mea":                                 "words measure",
		"":                                    "words look",
		"book po":                             "words post posting",
		"measure --edg":                       "words --edges",
		"measure --qui":                       "words --quiet",
		"measure a.tif --edges ":              "words split centre",
		"measure --edges=c":                   "words --edges=centre",
		"--color al":                          "words always",
		"--threads 2 mea":                     "words measure",
		"measure --zones ":                    "files",
		"measure --out=":                      "files",
		"measure ":                            "files",
		"measure --zone-id ":                  "words",
		"measure -- --ed":                     "files",
		"change --epoch 2004=":                "files",
		"measure --zones $(touch x) --unit k": "words km2",
		"nothing --x ":                        "words look",
	} {
		var b bytes.Buffer
		completeWords(newRoot("test", &b, &b), &b, "zsh", strings.Split(line, " "))
		var got []string
		for l := range strings.Lines(b.String()) {
			word, _, _ := strings.Cut(strings.TrimSpace(l), "\t")
			got = append(got, word)
		}
		text := strings.Join(got, " ")
		if strings.HasSuffix(want, "look") {
			text = text[:min(len(text), len(want))]
		}
		assert.Equal(t, want, text, line)
	}
	var b bytes.Buffer
	completeWords(newRoot("test", &b, &b), &b, "bash", []string{"measure", "--edges", "=", "s"})
	assert.Equal(t, "words\nsplit\t\n", b.String())
}

// Shells complete by our scripts, and run nothing that stands on the line. PowerShell is not among Debian's packages: its script is not run.
func TestShellsComplete(t *testing.T) {
	path, err := program()
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "wards one.geojson"), nil, 0o644))
	t.Log("not run: PowerShell")
	in := func(shell string, args ...string) string {
		t.Helper()
		c := exec.Command(shell, args...)
		c.Dir, c.Env = dir, append(os.Environ(), "HOME="+dir, "XDG_CONFIG_HOME="+dir, "TERM=dumb", "PATH="+filepath.Dir(path)+":"+os.Getenv("PATH"), "VERDEX_BIN="+filepath.Dir(path))
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.NoFileExists(t, filepath.Join(dir, "evil"), shell)
		return string(out)
	}
	got := in("bash", "-c", `eval "$(verdex completion bash)"
t() { COMP_WORDS=("$@"); COMP_CWORD=$(($#-1)); COMPREPLY=(); _verdex; printf '%s|' "${COMPREPLY[@]}"; echo; }
t verdex mea
t verdex measure --edges = ''
t verdex measure '$(touch evil)' '`+"`touch evil`"+`' --unit ''
t verdex measure --zones ''`)
	assert.Equal(t, "measure|\nsplit|centre|\nha|m2|km2|acre|mi2|\n|\n", got)
	got = in("fish", "-c", `verdex completion fish | source
complete -C 'verdex mea'
complete -C 'verdex measure (touch evil) --edges '
complete -C 'verdex measure --zones war'`)
	assert.Contains(t, got, "measure\textent and percent")
	assert.Contains(t, got, "centre")
	assert.Contains(t, got, "wards one.geojson")
	got = in("zsh", "-f", "-c", `zmodload zsh/zpty
zpty z 'zsh -f -i'
zpty -w z 'PS1=; PATH=$VERDEX_BIN:$PATH; autoload -U compinit; compinit -u -D; eval "$(verdex completion zsh)"; bindkey "^I" complete-word; print REA''DY'
zpty -r z o '*READY*'
wait_for() { local all part; for i in {1..100}; do sleep 0.1; while zpty -r -t z part; do all+=$part; done; [[ $all == *$1* ]] && { print found $1; return }; done; print -r -- "no $1 in $all" }
zpty -w -n z $'verdex measure $(touch evil) --edges=s\t'
wait_for split
zpty -w -n z $'\x15verdex acc\t'
wait_for account
zpty -w -n z $'\x15verdex measure --zones war\t'
wait_for one.geojson
zpty -d z`)
	assert.Equal(t, "found split\nfound account\nfound one.geojson\n", strings.ReplaceAll(got, "\\\\", "\\"))
}

func TestVersion(t *testing.T) {
	var out, errs bytes.Buffer
	require.Equal(t, exitDone, Main([]string{"verdex", "version"}, "v1.2.3", &out, &errs), errs.String())
	assert.Equal(t, "verdex v1.2.3\n", out.String())
	out.Reset()
	require.Equal(t, exitDone, Main([]string{"verdex", "version", "--json"}, "v1.2.3", &out, &errs), errs.String())
	assert.Regexp(t, `(?s)^\{\n  "version": "v1\.2\.3",.*"go": "go1\..*"os": "[a-z]+",\n  "arch": "[a-z0-9]+"\n\}\n$`, out.String())
	assert.Equal(t, exitUsage, Main([]string{"verdex", "version", "x"}, "v1.2.3", &out, &errs))
}
