package plan

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
)

func store(t *testing.T, limit int64) *Store {
	t.Helper()
	s, err := OpenStore(filepath.Join(t.TempDir(), "cache"), limit)
	require.NoError(t, err)
	return s
}

// small is a raster of a few classes, and a count of the windows that are read of it.
type small struct {
	*raster.Memory
	reads map[raster.Window]int
}

func (s *small) NewReader() raster.Reader { return s }

func (s *small) Read(w raster.Window, dst *raster.Cells) error {
	s.reads[w]++
	return s.Memory.Read(w, dst)
}

func classes(t *testing.T, seed int) *small {
	t.Helper()
	crs, err := earth.Lookup(32633)
	require.NoError(t, err)
	g := raster.Grid{Width: 300, Height: 200, X0: 500000, Y0: 6500000, DX: 30, DY: -30, CRS: crs}
	m := raster.NewMemory("memory", g, raster.Uint8, 64, 64)
	for r := range g.Height {
		for c := range g.Width {
			m.Set(c, r, float64((c*7+r*13+seed*(c/50))%4+1))
		}
	}
	return &small{m, map[raster.Window]int{}}
}

func request(t *testing.T, keys []string, layers ...raster.Source) tally.Keyed {
	t.Helper()
	set, place, err := tally.Whole(layers[0].Header().Grid)
	require.NoError(t, err)
	return tally.Keyed{Request: tally.Request{Layers: layers, Zones: set, Placement: place, Threads: 1}, LayerKeys: keys, ZonesKey: "z"}
}

// What was measured is not measured again, of a group of layers at a time, and a damaged entry is.
func TestTalliesAreKept(t *testing.T) {
	s := store(t, 1<<20)
	a, b, c := classes(t, 1), classes(t, 2), classes(t, 3)
	r := request(t, []string{"a", "b", "c"}, a, b, c)
	r.Groups = [][]int{{0, 1}, {1, 2}}
	want, err := tally.Measure(context.Background(), r.Request)
	require.NoError(t, err)
	count := func(r tally.Keyed, fresh bool) (*tally.Tally, *Counter) {
		k := &Counter{Store: s, Fresh: fresh, Threads: 1}
		got, errs := k.Count(context.Background(), []tally.Keyed{r})
		require.NoError(t, errs[0])
		assert.Equal(t, want.Groups, got[0].Groups)
		assert.Equal(t, len(want.Numbers), len(got[0].Numbers))
		return got[0], k
	}
	_, k := count(r, false)
	assert.Equal(t, []int{2, 0}, []int{k.Measured, k.Reused})
	clear(c.reads)
	_, k = count(r, false)
	assert.Equal(t, []int{0, 2}, []int{k.Measured, k.Reused})
	assert.Empty(t, c.reads)
	changed := r
	changed.LayerKeys = []string{"a", "b", "another c"}
	clear(a.reads)
	_, k = count(changed, false)
	assert.Equal(t, []int{1, 1}, []int{k.Measured, k.Reused}, "only the pair of what changed")
	assert.Empty(t, a.reads)
	_, k = count(r, true)
	assert.Equal(t, 2, k.Measured, "fresh")
	other := r
	other.Centres = true
	k = &Counter{Store: s, Threads: 1}
	_, errs := k.Count(context.Background(), []tally.Keyed{other})
	require.NoError(t, errs[0])
	assert.Equal(t, 2, k.Measured, "edges by centres are another measurement")
	own := r
	own.LayerKeys = []string{"~1", "b", "c"}
	count(own, false)
	_, k = count(own, false)
	assert.Equal(t, []int{1, 1}, []int{k.Measured, k.Reused}, "what has no key of its own is not kept")

	list, err := os.ReadDir(s.path("tallies"))
	require.NoError(t, err)
	for _, e := range list {
		path := s.path("tallies", e.Name())
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		data[len(data)/2] ^= 1
		require.NoError(t, os.WriteFile(path, data, 0o644))
	}
	_, k = count(r, false)
	assert.Equal(t, []int{2, 0}, []int{k.Measured, k.Reused})
}

func TestTalliesAreBounded(t *testing.T) {
	s := store(t, 2000)
	for i := range 10 {
		s.write(s.path("tallies", string(rune('a'+i))), make([]byte, 500))
		at := time.Now().Add(time.Duration(i-20) * time.Hour)
		require.NoError(t, os.Chtimes(s.path("tallies", string(rune('a'+i))), at, at))
	}
	require.NoError(t, s.Lock(context.Background(), nil))
	require.NoError(t, s.Close())
	list, err := os.ReadDir(s.path("tallies"))
	require.NoError(t, err)
	require.Len(t, list, 4)
	assert.Equal(t, "g", list[0].Name(), "those that were used last stay")
	c := s.Contents()
	assert.Equal(t, 4, c.Tallies)
	require.NoError(t, s.Empty())
	assert.Equal(t, 0, s.Contents().Tallies)
}

func TestDigests(t *testing.T) {
	s := store(t, 1<<20)
	path := filepath.Join(t.TempDir(), "x")
	write := func(text string, age time.Duration) {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		at := time.Now().Add(-age)
		require.NoError(t, os.Chtimes(path, at, at))
	}
	write("one", time.Hour)
	one, err := s.Digest(path)
	require.NoError(t, err)
	assert.Len(t, one, 64)
	require.NoError(t, s.Lock(context.Background(), nil))
	require.NoError(t, s.Close())
	again, err := OpenStore(s.dir, 1<<20)
	require.NoError(t, err)
	assert.Len(t, again.digests, 1)
	// Another content of the same size and time is seen, because the system knows when the file was changed.
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte("two"), 0o644))
	require.NoError(t, os.Chtimes(path, info.ModTime(), info.ModTime()))
	two, err := again.Digest(path)
	require.NoError(t, err)
	assert.NotEqual(t, one, two)
	// A file that has just been written may be written again within the resolution of its time.
	write("new", 0)
	_, err = again.Digest(path)
	require.NoError(t, err)
	write("old", time.Hour)
	_, err = again.Digest(filepath.Join(s.dir, "none"))
	assert.ErrorContains(t, err, "cannot be opened")
	_, err = again.Digest(s.dir)
	assert.ErrorContains(t, err, "it is not a file")
	require.NoError(t, os.WriteFile(s.path("digests.json"), []byte("x"), 0o644))
	broken, err := OpenStore(s.dir, 1)
	require.NoError(t, err)
	assert.Empty(t, broken.digests)
}

func TestDigestIsBLAKE3(t *testing.T) {
	path := filepath.Join(t.TempDir(), "empty")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	got, size, err := DigestOf(path)
	require.NoError(t, err)
	assert.Zero(t, size)
	assert.Equal(t, "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262", got) // of the specification
}

func TestOneRunAtATime(t *testing.T) {
	s := store(t, 1)
	require.NoError(t, s.Lock(context.Background(), nil))
	second, err := OpenStore(s.dir, 1)
	require.NoError(t, err)
	waited := make(chan bool, 1)
	done := make(chan error, 1)
	go func() { done <- second.Lock(context.Background(), func() { waited <- true }) }()
	<-waited
	third, err := OpenStore(s.dir, 1)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	assert.ErrorIs(t, third.Lock(ctx, nil), context.DeadlineExceeded)
	require.NoError(t, os.WriteFile(s.path("tallies", stagedPrefix+"1"), nil, 0o644))
	require.NoError(t, s.Close())
	require.NoError(t, <-done)
	assert.NoFileExists(t, s.path("tallies", stagedPrefix+"1"), "what a killed run has left")
	require.NoError(t, second.Close())
}

// An output is known to be the plan's as long as nobody changes it, also after a run that was killed before its end.
func TestWrote(t *testing.T) {
	t.Chdir(t.TempDir())
	s, err := OpenStore("cache", 1<<20)
	require.NoError(t, err)
	require.NoError(t, os.Mkdir("folder", 0o755))
	for _, name := range []string{"a", "folder/b", "other"} {
		require.NoError(t, os.WriteFile(name, []byte(name), 0o644))
	}
	var files []File
	for _, name := range []string{"a", "folder/b"} {
		f, err := s.FileOf("", name)
		require.NoError(t, err)
		files = append(files, f)
	}
	require.NoError(t, s.SetDone(&Done{Name: "x", Outputs: files, Complete: true}))
	assert.True(t, s.Wrote("a"))
	assert.True(t, s.Wrote("./a"))
	assert.True(t, s.Wrote("folder"))
	assert.False(t, s.Wrote("other"))
	assert.False(t, s.Wrote("none"))
	require.NoError(t, os.WriteFile("folder/c", nil, 0o644))
	assert.False(t, s.Wrote("folder"), "there is another file in it")
	require.NoError(t, os.WriteFile("a", []byte("x"), 0o644))
	assert.False(t, s.Wrote("a"))
	// The folder is moved, and the program run elsewhere.
	require.NoError(t, os.Remove("folder/c"))
	require.NoError(t, os.Mkdir("moved", 0o755))
	require.NoError(t, os.Rename("cache", "moved/cache"))
	require.NoError(t, os.Rename("folder", "moved/folder"))
	there, err := OpenExisting("moved/cache")
	require.NoError(t, err)
	assert.True(t, there.Wrote("moved/folder"))
	none, err := OpenExisting("nothing")
	assert.NoError(t, err)
	assert.Nil(t, none)
}

// Steps go on together where they ask for measurements, in their order, and what needs a step that failed is not begun.
func TestSchedule(t *testing.T) {
	a := classes(t, 1)
	steps := []*Step{{Name: "one"}, {Name: "two"}, {Name: "three", Needs: []int{0}}, {Name: "four"}, {Name: "five", Needs: []int{3}}}
	var order []string
	say := func(text string) { order = append(order, text) }
	s := &Schedule{Counter: &Counter{Threads: 1}}
	wrong := errors.New("wrong")
	errs := s.Run(context.Background(), steps, func(i int, counter job.Counter) error {
		say(steps[i].Name)
		switch i {
		case 3:
			return wrong
		case 0, 1, 2:
			got, errs := counter.Count(context.Background(), []tally.Keyed{request(t, []string{"a"}, a)})
			require.NoError(t, errs[0])
			require.Len(t, got[0].Zones, 1)
			say(steps[i].Name + " goes on")
		}
		if i == 1 {
			panic("a mistake")
		}
		return nil
	})
	assert.Equal(t, []string{"one", "two", "four", "one goes on", "two goes on", "three", "three goes on"}, order)
	assert.NoError(t, errs[0])
	assert.ErrorContains(t, errs[1], "an unforeseen fault: a mistake")
	assert.NoError(t, errs[2])
	assert.ErrorIs(t, errs[3], wrong)
	assert.ErrorIs(t, errs[4], ErrNotReached)
	for w, n := range a.reads {
		assert.Equal(t, 2, n, "%v: once for the first two steps, once for the third", w)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	for _, err := range s.Run(ctx, steps, func(int, job.Counter) error { return nil }) {
		assert.ErrorIs(t, err, context.Canceled)
	}
}

// Runs that open a new cache folder at once, one of which removes what killed runs have left, do not disturb one another.
func TestStoreOpenedAtOnce(t *testing.T) {
	for range 1000 {
		dir := filepath.Join(t.TempDir(), "cache")
		var wg sync.WaitGroup
		for i := range 4 {
			wg.Go(func() {
				s, err := OpenStore(dir, 1<<20)
				if assert.NoError(t, err) && i == 0 && assert.NoError(t, s.Lock(t.Context(), nil)) {
					assert.NoError(t, s.Close())
				}
			})
		}
		wg.Wait()
	}
}

// What was measured while an input was changed is not kept: its key is that of another content.
func TestTallyOfAChangedFileIsNotKept(t *testing.T) {
	s := store(t, 1<<20)
	path := filepath.Join(t.TempDir(), "a.tif")
	write := func(text string) { require.NoError(t, os.WriteFile(path, []byte(text), 0o600)) }
	write("one")
	_, err := s.KeyDigest(path)
	require.NoError(t, err)
	assert.True(t, s.Unchanged())
	first, err := s.KeyDigest(path)
	require.NoError(t, err)
	write("other")
	assert.False(t, s.Unchanged())
	second, err := s.KeyDigest(path)
	require.NoError(t, err)
	assert.NotEqual(t, first, second)
	assert.True(t, s.Unchanged(), "it was asked for again")
	_, err = s.KeyDigest(path)
	require.NoError(t, err)
	write("more")
	_, err = s.KeyDigest(path)
	require.NoError(t, err)
	assert.False(t, s.Unchanged(), "some of what is measured has the key of the other content")
}
