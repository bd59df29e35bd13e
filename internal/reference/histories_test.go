package reference

import (
	"slices"
	"strconv"
	"strings"

	"github.com/stretchr/testify/require"
)

// mended is a history in which what lasts for fewer than so many epochs between epochs of one other class is that class. "" is not mapped.
func mended(history []string, steady int) []string {
	h := slices.Clone(history)
	for again := true; again; {
		again = false
		for i := 1; i < len(h) && !again; i++ {
			end := i
			for end < len(h) && h[end] == h[i] {
				end++
			}
			if h[i-1] != h[i] && end < len(h) && end-i < steady && h[i] != "" && h[i-1] != "" && h[i-1] == h[end] {
				for k := i; k < end; k++ {
					h[k] = h[i-1]
				}
				again = true
			}
		}
	}
	return h
}

// courseOf is what a history is: a number as on maps, and its name.
func courseOf(history []string) (int, string) {
	mapped, path := 0, slices.Compact(slices.Clone(history))
	for _, c := range history {
		if c != "" {
			mapped++
		}
	}
	different := map[string]bool{}
	for _, c := range path {
		different[c] = true
	}
	switch {
	case mapped == 0:
		return 0, "never mapped"
	case mapped < len(history):
		return 6, "partly mapped"
	case len(path) == 1:
		return 1, "stable"
	case len(path) == 2:
		return 2, "changed once"
	case len(different) == len(path):
		return 3, "changed and went on"
	case len(path) == 3:
		return 4, "went and came back"
	}
	return 5, "unsteady"
}

// histories compares what each piece of ground went through over several epochs, of rasters that need not have one extent.
func (j *job) histories() {
	g := j.grid()
	n := 3 + j.rng.IntN(3)
	var epochs []*image
	args := []string{"change"}
	var labels []string
	for e := range n {
		m, name := j.epoch(g, 0.2, epochs)
		epochs, labels = append(epochs, m), append(labels, strconv.Itoa(2000+5*e))
		args = append(args, "--epoch", labels[e]+"="+name)
	}
	list, path, _, ok := j.zones(g)
	if !ok || !j.prepare(list, g, false) {
		return
	}
	k, more := j.coding(true)
	args = append(append(args, more...), "--zones", path, "--zone-id", "id", "--format", "csv", "--unit", "m2")
	steady := j.rng.IntN(4)
	if steady > 0 {
		args = append(args, "--steady", strconv.Itoa(steady))
	}
	whole := true // all epochs have the extent of the first
	for _, m := range epochs {
		whole = whole && m.grid == g
	}
	maps := whole && j.chance(0.5)
	with := args
	if maps {
		with = append(slices.Clone(args), "--map-since", j.path("since.tif"), "--map-kind", j.path("kind.tif"), "--map-count", j.path("count.tif"))
	}
	table := func(name string, args []string) ([]map[string]string, bool) {
		return j.run(append(slices.Clone(args), "--table", name)...)
	}
	rows, ok := table("histories", with)
	if !ok {
		return
	}
	// What the cells have been.
	of := make([][][]string, g.Height)
	for r := range g.Height {
		for c := range g.Width {
			var history []string
			for _, m := range epochs {
				history = append(history, k.mapped(m, g, c, r))
			}
			of[r] = append(of[r], mended(history, steady))
		}
	}
	since := func(history []string) int {
		e := n - 1
		for e > 0 && history[e-1] == history[e] {
			e--
		}
		return e
	}
	changes := func(history []string) (count int) {
		for e := 1; e < n; e++ {
			if a, b := history[e-1], history[e]; a != "" && b != "" && a != b {
				count++
			}
		}
		return count
	}
	back, ok := table("flicker", args)
	require.True(j.t, ok, "%s %d: %v", j.kind, j.seed, j.what)
	lasting, ok := table("since", args)
	require.True(j.t, ok, "%s %d: %v", j.kind, j.seed, j.what)
	got := map[string]float64{}
	for _, r := range rows {
		if r["history_codes"] != "" {
			got[strings.Join([]string{r["zone_id"], strings.TrimPrefix(r["history_codes"], "'"), r["course"], r["changes"], r["since_epoch"]}, "|")] += number(j.t, r["area"])
		}
	}
	for _, r := range back {
		got[strings.Join([]string{r["zone_id"], r["epoch_labels"], r["class_code"], r["between_code"]}, "|")] += number(j.t, r["area"])
	}
	for _, r := range lasting {
		got[strings.Join([]string{r["zone_id"], "since", r["class_code"], r["since_epoch"]}, "|")] += number(j.t, r["area"])
	}
	for _, z := range list {
		want := map[string]float64{}
		for r := range g.Height {
			for c := range g.Width {
				h, m2 := of[r][c], z.area2[r][c]
				if m2 == 0 {
					continue
				}
				from := ""
				if h[n-1] != "" {
					from = labels[since(h)]
					want[strings.Join([]string{z.id, "since", h[n-1], from}, "|")] += m2
				}
				var codes []string
				for _, id := range h {
					if id == "" {
						id = "?"
					}
					codes = append(codes, id)
				}
				if _, course := courseOf(h); course != "never mapped" {
					want[strings.Join([]string{z.id, strings.Join(codes, ";"), course, strconv.Itoa(changes(h)), from}, "|")] += m2
				}
				for e := 2; e < n; e++ {
					if h[e] != "" && h[e] == h[e-2] && h[e-1] != "" && h[e-1] != h[e] {
						want[strings.Join([]string{z.id, strings.Join(labels[e-2:e+1], ";"), h[e], h[e-1]}, "|")] += m2
					}
				}
			}
		}
		for x, v := range want {
			require.InDelta(j.t, v, got[x], tolerance(z, g), "%s %d: %v in %v", j.kind, j.seed, x, j.what)
			delete(got, x)
		}
		for x, v := range got {
			if strings.HasPrefix(x, z.id+"|") && !strings.Contains(x, "never mapped") {
				require.InDelta(j.t, 0, v, tolerance(z, g), "%s %d: %v in %v", j.kind, j.seed, x, j.what)
			}
		}
	}
	if !maps {
		return
	}
	j.what = with
	for name, f := range map[string]func(h []string) (v int, missing bool){
		"since.tif": func(h []string) (int, bool) { return since(h) + 1, h[n-1] == "" },
		"kind.tif":  func(h []string) (int, bool) { kind, _ := courseOf(h); return kind, kind == 0 },
		"count.tif": func(h []string) (int, bool) { kind, _ := courseOf(h); return changes(h), kind == 0 },
	} {
		var want [][]cell
		for r := range g.Height {
			want = append(want, nil)
			for c := range g.Width {
				v, missing := f(of[r][c])
				want[r] = append(want[r], cell{float64(v), missing})
			}
		}
		j.compareCells(want, j.read(name, g))
	}
}
