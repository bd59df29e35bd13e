package cli

import (
	"bytes"
	_ "embed"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"strings"
	"text/template"
	"unicode"
)

//go:embed slurm.sh.tmpl
var slurmScript string

//go:embed kubernetes.yaml.tmpl
var kubernetesJob string

// writeScript writes what a scheduler needs to do a plan in parts.
func (s *session) writeScript(o *runOptions) error {
	switch {
	case o.Part != "":
		return usage("--part does one part, and --scheduler writes the script that does all: choose one")
	case o.Scheduler == "":
		return usage("--parts says how many parts a script has: name the scheduler with --scheduler")
	case o.Parts < 1:
		return usage("--scheduler needs to know how many parts there are: give them with --parts")
	}
	p, record, err := s.openPlan(o.Plan)
	if err != nil {
		return planError(err)
	}
	if record != nil {
		return usage("%s is a record: name the plan", o.Plan[0])
	}
	measures := false
	for _, step := range p.Steps {
		measures = measures || inParts(step.Command)
	}
	if !measures {
		return fmt.Errorf("%s: no step of it measures anything that could be done in parts: run it as a whole", o.Plan[0])
	}
	name := strings.Trim(regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(baseName(o.Plan[0])), "-"), "-")
	if name == "" {
		name = "plan"
	}
	folder, err := filepath.Abs(".")
	if err != nil {
		return err
	}
	for _, text := range []string{o.Plan[0], folder} {
		if strings.ContainsFunc(text, unicode.IsControl) {
			return fmt.Errorf("%q: it has a line break or another control character in its name, which no script can hold safely: rename it", text)
		}
	}
	fields := struct {
		Name, Folder, Plan, PlanText, Version string
		Parts, Last                           int
	}{name, shellQuoted(folder), shellQuoted(o.Plan[0]), fmt.Sprintf("%q", o.Plan[0]), s.version, o.Parts, o.Parts - 1}
	text := slurmScript
	if o.Scheduler == "kubernetes" {
		text = kubernetesJob
	}
	var b bytes.Buffer
	if err := template.Must(template.New("").Parse(text)).Execute(&b, fields); err != nil {
		return err
	}
	if o.Out == "" {
		s.then(func() error { _, err := s.stdout.Write(b.Bytes()); return err })
		return nil
	}
	return s.Write(o.Out, func(w io.Writer) error { _, err := w.Write(b.Bytes()); return err })
}

// shellQuoted is a text as one word of a shell.
func shellQuoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }
