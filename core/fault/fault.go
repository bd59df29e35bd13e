// Package fault words the errors that every reader of files meets.
package fault

import (
	"errors"
	"fmt"
	"io/fs"
)

// Reason is the cause of an error without the path that messages name anyway.
func Reason(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// Opening says that the file at path cannot be opened, why, and what to do.
func Opening(path string, err error) error {
	return fmt.Errorf("%s: cannot be opened (%w): check the path", path, Reason(err))
}
