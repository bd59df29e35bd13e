package output

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func job(t *testing.T) *Job {
	t.Helper()
	return New(t.Context(), &Temporaries{})
}

func text(s string) func(io.Writer) error {
	return func(w io.Writer) error { _, err := io.WriteString(w, s); return err }
}

func put(t *testing.T, name, content string) {
	t.Helper()
	require.NoError(t, os.WriteFile(name, []byte(content), 0o644))
}

// holds compares the working folder with what it is to hold, by name and content; a folder holds "/".
func holds(t *testing.T, want map[string]string) {
	t.Helper()
	got := map[string]string{}
	entries, err := os.ReadDir(".")
	require.NoError(t, err)
	for _, e := range entries {
		if e.IsDir() {
			got[e.Name()] = "/"
			continue
		}
		b, err := os.ReadFile(e.Name())
		require.NoError(t, err)
		got[e.Name()] = string(b)
	}
	assert.Equal(t, want, got)
}

// Nothing is visible before the commit, and then everything.
func TestCommitTogether(t *testing.T) {
	t.Chdir(t.TempDir())
	put(t, "old.csv", "old")
	require.NoError(t, os.Chmod("old.csv", 0o600))
	j := job(t)
	for _, name := range []string{"new.csv", "old.csv"} {
		require.NoError(t, j.Claim(name, Rules{Replace: true}))
		require.NoError(t, j.Write(name, text("new")))
	}
	require.NoError(t, j.Claim("folder", Rules{Folder: true}))
	require.NoError(t, j.MakeFolder("folder", func(name string) error { return os.WriteFile(filepath.Join(name, "x"), nil, 0o644) }))
	b, err := os.ReadFile("old.csv")
	require.NoError(t, err)
	assert.Equal(t, "old", string(b))
	assert.NoFileExists(t, "new.csv")
	posted := false
	require.NoError(t, j.Commit(func() error { posted = true; return nil }))
	assert.True(t, posted)
	j.Discard()
	holds(t, map[string]string{"new.csv": "new", "old.csv": "new", "folder": "/"})
	assert.FileExists(t, "folder/x")
	info, err := os.Stat("old.csv")
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "a file that is replaced keeps its mode")
}

// When the posting is refused, everything is as it was.
func TestRefusedPostingLeavesNothing(t *testing.T) {
	t.Chdir(t.TempDir())
	put(t, "old.csv", "old")
	require.NoError(t, os.Mkdir("package", 0o755))
	put(t, "package/list", "old list")
	j := job(t)
	require.NoError(t, j.Folder("deep/er"))
	for _, name := range []string{"new.csv", "old.csv", "deep/er/x.tif"} {
		require.NoError(t, j.Claim(name, Rules{Replace: true}))
		require.NoError(t, j.Write(name, text("new")))
	}
	for _, name := range []string{"package", "fresh"} {
		require.NoError(t, j.Claim(name, Rules{Replace: true, Folder: true, Known: func(string) error { return nil }}))
		require.NoError(t, j.MakeFolder(name, func(string) error { return nil }))
	}
	refusal := errors.New("other content is posted there")
	assert.Equal(t, refusal, j.Commit(func() error { return refusal }))
	j.Discard()
	holds(t, map[string]string{"old.csv": "old", "package": "/"})
	assert.FileExists(t, "package/list")
}

// Of two programs that make one new file the second fails, and what it has staged besides is taken back.
func TestSecondMakerFails(t *testing.T) {
	t.Chdir(t.TempDir())
	first, second := job(t), job(t)
	for i, j := range []*Job{first, second} {
		for _, name := range []string{fmt.Sprintf("own%d", i), "same"} {
			require.NoError(t, j.Claim(name, Rules{}))
			require.NoError(t, j.Write(name, text(name)))
		}
	}
	require.NoError(t, first.Commit(nil))
	assert.ErrorContains(t, second.Commit(nil), "same: another program has created it in the meantime")
	second.Discard()
	holds(t, map[string]string{"own0": "own0", "same": "same"})
}

func TestManyMakersOfOneFile(t *testing.T) {
	t.Chdir(t.TempDir())
	var mu sync.Mutex
	var wait sync.WaitGroup
	done := 0
	jobs := make([]*Job, 32)
	for i := range jobs {
		jobs[i] = job(t)
		require.NoError(t, jobs[i].Claim("same", Rules{}))
		require.NoError(t, jobs[i].Write("same", text("x")))
	}
	for _, j := range jobs {
		wait.Go(func() {
			if j.Commit(nil) == nil {
				mu.Lock()
				done++
				mu.Unlock()
			}
			j.Discard()
		})
	}
	wait.Wait()
	assert.Equal(t, 1, done)
	holds(t, map[string]string{"same": "x"})
}

// A link is followed, and stays a link; one that leads nowhere is refused even where files may be replaced.
func TestLinks(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, os.Mkdir("there", 0o755))
	put(t, "there/target", "old")
	require.NoError(t, os.Symlink("there/target", "link"))
	require.NoError(t, os.Symlink("nowhere", "dangling"))
	require.NoError(t, os.Symlink("there", "folder"))
	assert.ErrorContains(t, job(t).Claim("link", Rules{}), "exists already")
	assert.ErrorContains(t, job(t).Claim("dangling", Rules{Replace: true}), "link to a file that does not exist")
	j := job(t)
	require.NoError(t, j.Claim("link", Rules{Replace: true}))
	assert.ErrorContains(t, j.Claim("folder/target", Rules{Replace: true}), "one file")
	require.NoError(t, j.Claim("there/new", Rules{Maybe: true}))
	assert.ErrorContains(t, j.Claim("folder/new", Rules{}), "one file", "a file that does not exist yet, by two names")
	require.NoError(t, j.Write("link", text("new")))
	require.NoError(t, j.Commit(nil))
	info, err := os.Lstat("link")
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink)
	b, err := os.ReadFile("there/target")
	require.NoError(t, err)
	assert.Equal(t, "new", string(b))
}

// Inputs are refused by any name they have.
func TestInputsAreNotReplaced(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, os.Mkdir("package", 0o755))
	for _, name := range []string{"in.csv", "in.book", "package/zones"} {
		put(t, name, "x")
	}
	require.NoError(t, os.Link("in.csv", "hard"))
	require.NoError(t, os.Symlink("in.csv", "soft"))
	j := job(t)
	j.Read(Input{Role: "table", Path: "in.csv"})
	j.Read(Input{Role: "table", Path: "in.csv"})
	j.Read(Input{Path: "in.book"})
	j.Read(Input{Role: "zones", Path: "package/zones"})
	j.Read(Input{Role: "no file", Path: "bbox:1,2,3,4"})
	assert.Len(t, j.Inputs(), 3)
	var wrong *ConflictError
	for _, name := range []string{"in.csv", "./in.csv", "hard", "soft", "package/../in.csv"} {
		err := j.Claim(name, Rules{Replace: true})
		assert.ErrorContains(t, err, "this command reads it (table), and an input is never replaced", name)
		assert.ErrorAs(t, err, &wrong)
	}
	isBook := func(path string) bool { return strings.HasSuffix(path, ".book") }
	assert.ErrorContains(t, j.Claim("in.book", Rules{Replace: true, Book: isBook}), "a book, which is never replaced")
	known := func(string) error { return nil }
	assert.ErrorContains(t, j.Claim("package", Rules{Replace: true, Folder: true, Known: known}), "reads a file in it, package/zones")
	put(t, "other.book", "x")
	assert.ErrorContains(t, j.Claim("other.book", Rules{Replace: true, Book: isBook}), "a book, which is never replaced")
	require.NoError(t, j.Inputs()[0].Changed())
	put(t, "other", "x")
	require.NoError(t, os.Rename("other", "in.csv"))
	assert.ErrorContains(t, j.Inputs()[0].Changed(), "changed while it was read")
	require.NoError(t, os.Remove("in.book"))
	assert.ErrorContains(t, j.Inputs()[1].Changed(), "removed while it was read")
}

func TestOutputsWithinOneAnother(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, os.Mkdir("p", 0o755))
	j := job(t)
	require.NoError(t, j.Claim("p", Rules{Replace: true, Folder: true, Known: func(string) error { return nil }}))
	assert.ErrorContains(t, j.Claim("p/x.csv", Rules{}), "would lie in the other")
	assert.ErrorContains(t, j.Claim("none/x.csv", Rules{}), "its folder cannot be written to")
	put(t, "file", "")
	assert.ErrorContains(t, j.Folder("file/below"), "it is a file")
	assert.ErrorContains(t, j.Claim("file", Rules{Replace: true, Folder: true}), "name a folder to make")
	assert.ErrorContains(t, j.Claim("p", Rules{Replace: true}), "one file")
	assert.ErrorContains(t, job(t).Claim("p", Rules{Replace: true}), "it is a folder")
	j.Discard()
	holds(t, map[string]string{"p": "/", "file": ""})
}

// A layer that is replaced within its file is not written over what another program has put there meanwhile.
func TestKeptPartsMustNotChange(t *testing.T) {
	t.Chdir(t.TempDir())
	put(t, "a.gpkg", "one")
	j := job(t)
	require.NoError(t, j.Claim("a.gpkg", Rules{Replace: true, Keeps: true, Seeks: true}))
	assert.Equal(t, "a.gpkg", j.Old("a.gpkg"))
	require.NoError(t, j.Write("a.gpkg", text("two")))
	put(t, "a.gpkg", "three")
	assert.ErrorContains(t, j.Commit(nil), "another program has changed it in the meantime")
	j.Discard()
	holds(t, map[string]string{"a.gpkg": "three"})
}

// A job that is called off writes no more, and leaves nothing; nor does a program that ends at once.
func TestCalledOff(t *testing.T) {
	t.Chdir(t.TempDir())
	ctx, cancel := context.WithCancel(t.Context())
	j := New(ctx, &Temporaries{})
	require.NoError(t, j.Claim("a", Rules{}))
	err := j.Write("a", func(w io.Writer) error {
		cancel()
		_, err := io.Copy(w, bytes.NewReader(make([]byte, 1<<20)))
		return err
	})
	assert.ErrorIs(t, err, context.Canceled)
	assert.ErrorIs(t, j.Commit(nil), context.Canceled)
	j.Discard()
	holds(t, map[string]string{})

	temporary := &Temporaries{}
	k := New(t.Context(), temporary)
	require.NoError(t, k.Claim("b", Rules{}))
	require.NoError(t, k.Make("b", func(name string) error {
		put(t, name+"-journal", "")
		return nil
	}))
	temporary.Remove()
	assert.Error(t, k.Commit(nil))
	k.Discard()
	holds(t, map[string]string{})
	assert.Error(t, k.Claim("c", Rules{}))
}

func TestUndeclaredOutput(t *testing.T) {
	assert.ErrorContains(t, job(t).Write("x", text("")), "not declared")
}
