//go:build !linux

package plan

import (
	"fmt"
	"os"
)

// stampOf describes a file such that another description means that the file may have changed.
func stampOf(info os.FileInfo) string {
	return fmt.Sprint(info.Size(), " ", info.ModTime().UnixNano())
}
