package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/plan"
)

// sameInputs refuses to do a record again when an input is no longer the same.
func (s *session) sameInputs(path string, record *plan.Record) error {
	written := map[string]bool{}
	for _, d := range record.Steps {
		for _, f := range d.Outputs {
			written[f.Path] = true
		}
	}
	var wrong []string
	seen := map[string]bool{}
	for _, d := range record.Steps {
		for _, name := range d.Absent {
			if where := plan.At(path, name); !seen[where] && files.Exists(files.Disk, where) {
				seen[where] = true
				wrong = append(wrong, where+": it was not there, and is read now")
			}
		}
		for _, f := range d.Inputs {
			if written[f.Path] || seen[f.Path] || s.ctx.Err() != nil {
				continue
			}
			seen[f.Path] = true
			where := plan.At(path, f.Path)
			if files.IsURL(where) {
				if why := s.otherState(where, f); why != "" {
					wrong = append(wrong, why)
				}
				continue
			}
			now, _, err := plan.DigestOf(where)
			switch {
			case errors.Is(err, os.ErrNotExist):
				wrong = append(wrong, where+": it is no longer there")
			case err != nil:
				wrong = append(wrong, messageOf(err))
			case now != f.Digest:
				wrong = append(wrong, fmt.Sprintf("%s: it is no longer the same (its digest is %.12s…, and was %.12s…)", where, now, f.Digest))
			}
		}
	}
	if err := s.ctx.Err(); err != nil {
		return err
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%s: %s of the run cannot be read as they were:\n  %s", path, text.Count(len(wrong), "input"), strings.Join(wrong, "\n  "))
	}
	return nil
}

// otherState says why a file of the web is no longer the one that a record has, "" where it is.
func (s *session) otherState(url string, f plan.File) string {
	now, err := s.system.Open(url)
	switch {
	case err != nil:
		return messageOf(err)
	case plan.StateOf(now) != f.Validator:
		return fmt.Sprintf("%s: it is no longer the same (its server says %s, and said %s)", url, now.Validator(), f.Validator)
	}
	return ""
}

// sameOutputs compares what was made with what a record says.
func (r *planRun) sameOutputs(record *plan.Record, done []plan.Done) error {
	var wrong []string
	for _, d := range done {
		for _, f := range d.Outputs {
			for _, old := range record.Steps {
				for _, o := range old.Outputs {
					if old.Name == d.Name && plan.SamePath(plan.At(r.options.Plan[0], o.Path), f.Path) && o.Digest != f.Digest {
						wrong = append(wrong, f.Path)
					}
				}
			}
		}
	}
	if len(wrong) == 0 {
		return nil
	}
	with := ""
	if now := "verdex " + r.version; now != record.Program {
		with = ", made with " + record.Program + ", while this is " + now
	}
	return fmt.Errorf("%s: what was made is not the same as what the record says%s: %s", r.options.Plan[0], with, strings.Join(wrong, ", "))
}
