package tally

import (
	"context"
	"time"

	"github.com/verdex-land/verdex/core/raster"
)

// scoutLead is how many bands the scout is ahead of the workers.
const scoutLead = 6

// scout goes through the bands ahead of the workers and announces the windows that zones touch, for rasters that are fetched from far away. It
// cuts the zones of a band as a worker would, so that the workers find them cut.
func (p *pass) scout(ctx context.Context) {
	announced := 0
	defer func() { // also where it ends early
		for _, b := range p.bands[announced:] {
			close(b.known)
		}
	}()
	c := p.cutter()
	for i, b := range p.bands {
		if first := int64(i * p.across); first+int64(p.across) <= p.from || first >= p.to { // of another part
			close(b.known)
			announced++
			continue
		}
		for int(p.next.Load()-1)/p.across+scoutLead < i {
			select {
			case <-ctx.Done():
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
		if ctx.Err() != nil || b.prepare(c) != nil { // the worker who comes to it reports the error
			return
		}
		var windows []raster.Window
		for col := range p.across {
			if n := int64(i*p.across + col); n < p.from || n >= p.to {
				continue
			}
			for range b.touching(c, col) {
				windows = append(windows, b.window(col))
				break
			}
		}
		raster.AheadOf(windows, p.req.Layers...)
		close(b.known)
		announced++
		b.release()
	}
}
