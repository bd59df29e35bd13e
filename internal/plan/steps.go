package plan

import "github.com/verdex-land/verdex/core/option"

// Writes are the files that a step writes, as its options name them.
func (s *Step) Writes() (out []string) {
	for _, o := range option.Of(s.Options) {
		if o.Output != "" {
			out = append(out, o.Texts(s.Options)...)
		}
	}
	return out
}

// Posts is the book that a step posts to, "" for none.
func (s *Step) Posts() string { return given[string](s.Options, "post") }

// StepOf is the step that measures an epoch in a set of zones: that of an output, or one that no output has. Either may be nil, for the whole raster
// and for the only epoch.
func (p *Plan) StepOf(z *ZoneSet, e *Epoch) *Step {
	name, label := "", ""
	if z != nil {
		name = z.Name
	}
	if e != nil {
		label = e.Label
	}
	for _, s := range p.Steps {
		if s.Command == "measure" && s.Zones == name && s.Epoch == label && !s.Hidden {
			return s
		}
	}
	return p.MeasureOf(z, e)
}

// MeasureOf is the step that measures the cover of an epoch in a set of zones, whatever the outputs measure.
func (p *Plan) MeasureOf(z *ZoneSet, e *Epoch) *Step { return p.StepFor("measure", z, e) }

// ChangeOf is the step that compares the epochs in a set of zones.
func (p *Plan) ChangeOf(z *ZoneSet) *Step { return p.StepFor("change", z, nil) }

// StepFor is a step that no output has: a command with the options that hold for all. What compares epochs compares those of the labels, or all.
func (p *Plan) StepFor(command string, z *ZoneSet, e *Epoch, labels ...string) *Step {
	n := &node{kind: mapping, key: command, at: p.root.at, keyAt: p.root.at}
	if len(labels) > 0 {
		epochs := &node{kind: list, key: "epochs", at: p.root.at, keyAt: p.root.at}
		for _, l := range labels {
			epochs.items = append(epochs.items, &node{kind: scalar, text: l, at: p.root.at, keyAt: p.root.at})
		}
		n.items = append(n.items, epochs)
	}
	return p.step(n, p.command(command), section{}, z, e)
}

// TableOf is the command with the table that a command makes its statement of, "" for one that takes no tables.
func TableOf(command string) string { return ofTables[command].command }
