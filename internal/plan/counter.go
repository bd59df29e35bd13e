package plan

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"github.com/verdex-land/verdex/core/tally"
)

// Counter measures for the steps of a plan: what is kept is reused, and the rest of what all steps ask for is measured in as few passes as
// possible.
type Counter struct {
	Store    *Store // nil to keep nothing
	Fresh    bool   // what is kept is not used
	Threads  int
	Progress func(what string) (tell func(done, total int), end func())

	// Of a part of the plan: which one, and who keeps the sums of it. Nothing that was kept is used then, and every step ends with ErrPart.
	Part tally.Part
	Keep func(key string, t *tally.Tally, sets []tally.Set)

	Measured, Reused int // tallies of one group of layers in one set of zones
	Tiles            int // windows of the grid that were read
}

// ErrPart ends a step of which a part was measured.
var ErrPart = errors.New("the part is measured")

// tallyVersion is part of the keys of tallies: it changes when what is measured changes.
const tallyVersion = "2"

// keyOfTally is the key of a request for one group of layers, "" for what cannot be kept.
func keyOfTally(r *tally.Keyed) string {
	h := sha256.New()
	fmt.Fprintln(h, "tally", tallyVersion, r.ZonesKey, r.Centres)
	for _, s := range r.Sets {
		fmt.Fprintln(h, s.First, s.Centres)
	}
	for _, k := range r.LayerKeys {
		if strings.HasPrefix(k, "~") {
			return ""
		}
		fmt.Fprintln(h, k)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Digest implements [job.Counter].
func (c *Counter) Digest(path string) (string, error) {
	if c.Store == nil {
		return path, nil
	}
	return c.Store.KeyDigest(path)
}

// Count does requests.
func (c *Counter) Count(ctx context.Context, requests []tally.Keyed) ([]*tally.Tally, []error) {
	var missing []tally.Keyed
	var keys []string         // of those
	asked := map[string]int{} // by key: its place among them
	parts := make([][]*tally.Tally, len(requests))
	from := make([][]int, len(requests)) // places among the missing, -1 for what was kept
	for i := range requests {
		for _, one := range tally.Split(requests[i]) {
			key := keyOfTally(&one)
			if key != "" && c.Store != nil && !c.Fresh && c.Part.N == 0 {
				if t := c.Store.Tally(key); t != nil {
					c.Reused++
					parts[i], from[i] = append(parts[i], t), append(from[i], -1)
					continue
				}
			}
			at, known := asked[key]
			if !known || key == "" {
				at = len(missing)
				asked[key] = at
				missing, keys = append(missing, one), append(keys, key)
			}
			parts[i], from[i] = append(parts[i], nil), append(from[i], at)
		}
	}
	errs := make([]error, len(requests))
	if len(missing) > 0 {
		missing[0].Threads, missing[0].Part = c.Threads, c.Part
		end := func() {}
		if c.Progress != nil {
			missing[0].Progress, end = c.Progress("measuring")
		}
		tallies, failed := tally.Together(ctx, missing)
		end()
		keeps := c.Store != nil && c.Store.Unchanged() // or the keys are not those of what was read
		for k, t := range tallies {
			if t == nil {
				continue
			}
			if c.Part.N > 0 {
				if keys[k] == "" { // never: a plan gives every layer a key
					failed[k] = errors.New("a step asks for what cannot be measured in parts: run the plan as a whole")
					continue
				}
				c.Keep(keys[k], t, missing[k].Sets)
				failed[k] = ErrPart
				continue
			}
			c.Measured++
			if c.Tiles += t.Tiles; keys[k] != "" && keeps {
				c.Store.Keep(keys[k], t)
			}
		}
		for i := range requests {
			for g, at := range from[i] {
				if at < 0 {
					continue
				}
				if parts[i][g] = tallies[at]; failed[at] != nil && errs[i] == nil {
					errs[i] = failed[at]
				}
			}
		}
	}
	out := make([]*tally.Tally, len(requests))
	for i := range requests {
		if errs[i] == nil {
			out[i] = tally.Join(requests[i], parts[i])
		}
	}
	return out, errs
}
