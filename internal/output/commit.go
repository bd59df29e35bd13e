package output

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
)

// Commit puts all staged outputs in their places and then calls post, the last thing that can fail (nil for nothing).
// When anything fails, everything is as it was before. What goes into pipes and devices cannot be taken back and goes
// last.
func (j *Job) Commit(post func() error) (err error) {
	if err := j.ctx.Err(); err != nil {
		return err
	}
	for _, c := range j.claims { // whatever was asked for was made, or the job has not done what it should
		if c.staged == "" && !c.rules.Maybe {
			return fmt.Errorf("%s: nothing was written to it: what it is asked of makes no such output", c.name)
		}
	}
	j.temporary.hold.Lock() // nobody removes the files while they are renamed
	free := sync.OnceFunc(j.temporary.hold.Unlock)
	defer free()
	defer func() {
		if err != nil {
			j.takeBack()
		}
	}()
	for _, c := range slices.Backward(j.claims) { // what lies beside a file comes after it, and is to be there before it
		if c.staged != "" && !c.stream {
			if err := j.place(c); err != nil {
				return err
			}
		}
	}
	if post != nil {
		if err := post(); err != nil {
			return err
		}
	}
	j.committed = true
	for _, c := range j.claims {
		if c.backup != "" {
			j.temporary.remove(c.backup)
			c.backup = ""
		}
	}
	free() // a pipe may have no reader, and whoever ends the program does not wait for one
	for _, c := range j.claims {
		if c.staged != "" && c.stream {
			if err := j.pour(c); err != nil {
				return err
			}
		}
	}
	return nil
}

// place gives a staged output its name.
func (j *Job) place(c *claim) error {
	if c.old == nil && !c.rules.Folder {
		err := LinkNew(c.staged, c.real)
		if err == nil {
			c.placed = true
			j.temporary.remove(c.staged)
			c.staged = ""
			return nil
		}
		// Another program has made it meanwhile: it is replaced if it might have been replaced when this one began.
		if now, e := os.Stat(c.real); errors.Is(err, os.ErrExist) && c.rules.Replace && !c.rules.Keeps && e == nil && c.replaceableNow(now) {
			c.old = now
		} else {
			return j.refused(c, err)
		}
	}
	if c.old != nil {
		if now, err := os.Stat(c.real); c.rules.Keeps && (err != nil || files.Changed(c.old, now)) {
			return fmt.Errorf("%s: another program has changed it in the meantime, so nothing was written: run the command again", c.name)
		}
		backup, err := j.temporary.name(filepath.Dir(c.real))
		if err != nil {
			return j.refused(c, err)
		}
		if c.rules.Folder || os.Link(c.real, backup) != nil { // there are file systems without links
			if err := os.Rename(c.real, backup); err != nil {
				return j.refused(c, err)
			}
		}
		c.backup = backup
	}
	if err := os.Rename(c.staged, c.real); err != nil {
		return j.refused(c, err)
	}
	c.placed = true
	j.temporary.forget(c.staged)
	c.staged = ""
	return nil
}

// replaceableNow reports whether a file that was made meanwhile may be replaced.
func (c *claim) replaceableNow(now os.FileInfo) bool {
	return now.Mode().IsRegular() && (c.rules.Book == nil || !c.rules.Book(c.real))
}

func (j *Job) refused(c *claim, err error) error {
	if errors.Is(err, os.ErrExist) {
		return fmt.Errorf("%s: another program has created it in the meantime, so nothing was written: choose another name, or replace it with --force", c.name)
	}
	return fmt.Errorf("%s: it could not be written (%w), and nothing was left behind: choose another place", c.name, fault.Reason(err))
}

// LinkNew gives a file a name unless that is taken, even by someone who takes it at this moment; the error is then
// [os.ErrExist]. The file may keep its first name too.
func LinkNew(from, to string) error {
	err := os.Link(from, to)
	if err == nil || errors.Is(err, os.ErrExist) || errors.Is(err, os.ErrNotExist) {
		return err
	}
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL, 0o644) // a file system without links
	if err != nil {
		return err
	}
	f.Close()
	if err := os.Rename(from, to); err != nil {
		os.Remove(to)
		return err
	}
	return nil
}

// takeBack undoes what was placed.
func (j *Job) takeBack() {
	if j.committed {
		return
	}
	for _, c := range j.claims {
		switch {
		case c.placed && c.rules.Folder:
			os.RemoveAll(c.real)
		case c.placed && c.backup == "":
			os.Remove(c.real)
		}
		if c.backup != "" {
			if os.Rename(c.backup, c.real) == nil {
				j.temporary.forget(c.backup)
			}
			c.backup = ""
		}
		c.placed = false
	}
}

// pour copies a staged output into a pipe or a device.
func (j *Job) pour(c *claim) (err error) {
	from, err := os.Open(c.staged)
	if err != nil {
		return err
	}
	defer from.Close()
	if c.real == Standard {
		to := j.Stdout
		if to == nil {
			to = os.Stdout
		}
		if _, err := io.Copy(to, from); err != nil {
			return fmt.Errorf("standard output could not be written to: %w", err)
		}
		return nil
	}
	to, err := os.OpenFile(c.real, os.O_WRONLY, 0)
	if err == nil {
		_, err = io.Copy(to, from)
		if e := to.Close(); err == nil {
			err = e
		}
	}
	if err != nil {
		return fmt.Errorf("%s: it could not be written to (%w): choose another place", c.name, fault.Reason(err))
	}
	return nil
}
