//go:build !unix

package bench

import "time"

func processorTime() time.Duration { return 0 }
