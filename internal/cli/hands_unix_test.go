//go:build unix

package cli

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/text"

	"github.com/verdex-land/verdex/internal/demo"
	"github.com/verdex-land/verdex/internal/postgrestest"
)

// program builds the program once.
var program = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "verdex-program")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "verdex")
	out, err := exec.Command("go", "build", "-o", path, "../../cmd/verdex").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return path, nil
})

// built is a command of the built program.
func built(t *testing.T, args ...string) *exec.Cmd {
	t.Helper()
	path, err := program()
	require.NoError(t, err)
	c := exec.Command(path, args...)
	c.Env = append(os.Environ(), "SOURCE_DATE_EPOCH=1764331200") // so that GeoPackages are the same, too
	return c
}

// onBothBooks runs a test on a new SQLite book and a new PostgreSQL book.
func onBothBooks(t *testing.T, test func(t *testing.T, where string)) {
	t.Run("SQLite", func(t *testing.T) { test(t, filepath.Join(t.TempDir(), "land.book")) })
	t.Run("PostgreSQL", func(t *testing.T) { test(t, postgrestest.Database(t)) })
}

// tallyFile writes a long table of n zones with three classes each; by moves area between them.
func tallyFile(t *testing.T, dir, name, epoch string, n int, by float64) string {
	t.Helper()
	var b strings.Builder
	b.WriteString("epoch,zone_id,zone_name,kind,class_code,class_name,area,unit\n")
	for z := range n {
		for k := range 3 {
			fmt.Fprintf(&b, "%s,Z%d,Zone %d,class,%d,Class %d,%g,ha\n", epoch, z, z, k+1, k+1, 100+float64(k)+by*float64(k-1))
		}
	}
	path := filepath.Join(dir, name)
	require.NoError(t, os.WriteFile(path, []byte(b.String()), 0o644))
	return path
}

// Sixteen processes post at once, to accounts of their own and all to one: none is lost, none doubled, and of what contradicts
// itself one is entered.
func TestSixteenPostAtOnce(t *testing.T) {
	onBothBooks(t, func(t *testing.T, where string) {
		dir := t.TempDir()
		verdex(t, "book", "create", where)
		const hands, each = 16, 4
		same := tallyFile(t, dir, "same.csv", "2004", 20, 0)
		var mu sync.Mutex
		won := 0
		var wait sync.WaitGroup
		for h := range hands {
			other := tallyFile(t, dir, fmt.Sprintf("other%d.csv", h), "2020", 20, float64(h+1))
			wait.Add(1)
			go func() {
				defer wait.Done()
				for i := range each {
					own := tallyFile(t, dir, fmt.Sprintf("own%d-%d.csv", h, i), fmt.Sprint(2000+i), 20, float64(h))
					out, err := built(t, "book", "post", where, own, "--account", fmt.Sprintf("hand %d", h), "--wait", "60s").CombinedOutput()
					assert.NoError(t, err, "%s", out)
				}
				out, err := built(t, "book", "post", where, same, "--account", "shared", "--wait", "60s").CombinedOutput()
				assert.NoError(t, err, "%s", out)
				out, err = built(t, "book", "post", where, other, "--account", "contested", "--wait", "60s").CombinedOutput()
				mu.Lock()
				defer mu.Unlock()
				if err == nil {
					won++
				} else {
					assert.Contains(t, string(out), "other content is posted there")
				}
			}()
		}
		wait.Wait()
		assert.Equal(t, 1, won, "one of the contradicting posts is entered")
		out, _ := verdex(t, "book", "verify", where)
		assert.Contains(t, out, fmt.Sprintf("%s, %s, %s: every checksum", text.Count(hands*each+2, "posting"), text.Count(hands*each+2, "event"), text.Count((hands*each+2)*60, "row")))
		out, _ = verdex(t, "book", "history", where, "shared", "--format", "csv")
		assert.Equal(t, 2, strings.Count(out, "\n"), "a head and one posting")
	})
}

// Two hundred posts are killed at any moment: the book verifies, and holds all that were reported as entered.
func TestKilledPostsLeaveABookThatVerifies(t *testing.T) {
	onBothBooks(t, func(t *testing.T, where string) {
		dir := t.TempDir()
		verdex(t, "book", "create", where)
		file := tallyFile(t, dir, "many.csv", "2004", 400, 0)
		begin := time.Now()
		require.NoError(t, built(t, "book", "post", where, file, "--account", "first").Run())
		usual := time.Since(begin)
		r := rand.New(rand.NewPCG(3, 4))
		entered, killed := map[string]bool{}, 0
		for i := range 200 {
			account := fmt.Sprintf("account %d", i)
			c := built(t, "book", "post", where, file, "--account", account)
			var said bytes.Buffer
			c.Stderr = &said
			begin, ended := time.Now(), make(chan error, 1)
			require.NoError(t, c.Start())
			go func() { ended <- c.Wait() }()
			var err error
			// The usual time follows the machine, which may be busy now and then: the first post may have been slow, or quick.
			select {
			case err = <-ended:
				usual = (3*usual + time.Since(begin)) / 4
			case <-time.After(time.Duration(r.Float64() * 1.1 * float64(usual))):
				_ = c.Process.Kill() // it may have ended
				if err = <-ended; time.Since(begin) > usual {
					usual = usual * 5 / 4
				}
			}
			if err != nil {
				killed++
			}
			if strings.Contains(said.String(), "posted as") {
				entered[account] = true
			}
		}
		out, _ := verdex(t, "book", "verify", where)
		assert.Contains(t, out, "every checksum and every balance holds")
		out, _ = verdex(t, "book", "list", where, "--format", "csv")
		for account := range entered {
			assert.Contains(t, out, account+",")
		}
		t.Logf("%d of 200 killed, %d reported as entered", killed, len(entered))
		assert.Greater(t, killed, 50)
		entries, err := os.ReadDir(filepath.Dir(where))
		if err == nil {
			assert.LessOrEqual(t, len(entries), 2, "the book, and at most the journal that the next reader takes back")
		}
	})
}

// A book that may not be written to is read, and posting says so.
func TestReadOnlyBook(t *testing.T) {
	dir, err := os.MkdirTemp("", "verdex-readonly") // t.TempDir is for its owner only
	require.NoError(t, err)
	t.Cleanup(func() { os.Chmod(dir, 0o755); os.RemoveAll(dir) })
	where := filepath.Join(dir, "land.book")
	verdex(t, "book", "create", where)
	file := tallyFile(t, dir, "t.csv", "2004", 2, 0)
	verdex(t, "book", "post", where, file, "--account", "a")
	require.NoError(t, os.Chmod(where, 0o444))
	require.NoError(t, os.Chmod(dir, 0o555))
	path, err := program()
	require.NoError(t, err)
	require.NoError(t, os.Chmod(filepath.Dir(path), 0o755))
	as := func(args ...string) (string, error) {
		c := exec.Command(path, args...)
		c.Dir = dir
		if os.Getuid() == 0 { // to whom nothing is read-only
			c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		}
		out, err := c.CombinedOutput()
		return string(out), err
	}
	out, err := as("book", "show", where, "a")
	require.NoError(t, err, out)
	assert.Contains(t, out, "Class 1")
	out, err = as("book", "verify", where)
	require.NoError(t, err, out)
	out, err = as("book", "post", where, file, "--account", "b")
	require.Error(t, err)
	assert.Contains(t, out, "land.book: the book cannot be written to (permission denied): ask for permission to write")
	out, err = as("book", "create", filepath.Join(dir, "new.book"))
	require.Error(t, err)
	assert.Contains(t, out, "its folder cannot be written to")
}

// The queries of docs/book.md work on both databases, and answer the same.
func TestDocumentedQueries(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, true))
	verdex(t, "run", filepath.Join(dir, "orrin.yaml"))
	where := filepath.Join(dir, "orrin.book")
	address := postgrestest.Database(t)
	verdex(t, "book", "create", address)
	verdex(t, "book", "merge", address, where)
	text, err := os.ReadFile("../../docs/book.md")
	require.NoError(t, err)
	queries := regexp.MustCompile("(?s)```sql\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	require.Len(t, queries, 5)
	for i, q := range queries {
		lite := strings.TrimSpace(run(t, "sqlite3", "-separator", "|", where, q[1]))
		database := address[strings.LastIndexByte(address, '/')+1:]
		big, err := postgrestest.Shared(t).SQL(database, "SET search_path = verdex; "+q[1])
		require.NoError(t, err, big)
		assert.Equal(t, plainNumbers(lite), plainNumbers(strings.TrimSpace(big)))
		assert.GreaterOrEqual(t, strings.Count(lite, "\n"), []int{104, 2, 6, 3, 5}[i], lite)
	}
	big, err := postgrestest.Shared(t).SQL(address[strings.LastIndexByte(address, '/')+1:], "SELECT obj_description('verdex.compositions'::regclass)")
	require.NoError(t, err)
	assert.Contains(t, big, "Extents in percent", "views are explained in the database")
	big, err = postgrestest.Shared(t).SQL(address[strings.LastIndexByte(address, '/')+1:], "SELECT COUNT(*) FROM pg_description d JOIN pg_class c ON c.oid = d.objoid WHERE d.objsubid > 0 AND c.relname IN ('posting', 'compositions')")
	require.NoError(t, err)
	assert.Equal(t, "6", strings.TrimSpace(big), "columns are, too")
	assert.Contains(t, run(t, "sqlite3", where, "SELECT sql FROM sqlite_master WHERE name = 'compositions'"), "-- Extents in percent")
}

// plainNumbers writes numbers without zeros at their end, which databases differ in.
func plainNumbers(answer string) string {
	return regexp.MustCompile(`\.0\b`).ReplaceAllString(answer, "")
}
