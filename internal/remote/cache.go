package remote

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// Cache is a folder that keeps what was fetched: a folder for each state of a file, and in it a file for each range of its bytes. Several programs may use it at
// once; what one of them removes, another fetches again. A nil cache keeps nothing.
type Cache struct {
	Dir   string
	Limit int64 // bytes; 0 is 4 GiB

	wrote atomic.Int64
}

const defaultLimit = 4 << 30

// tagName and its text mark a folder as a cache, for programs that make backups.
const (
	tagName  = "CACHEDIR.TAG"
	tagText  = "Signature: 8a477f597d28d172789f06886806bc55\n# Bytes of remote files that Verdex has fetched. verdex cache --empty removes them.\n"
	metaName = "about.json"
)

// entry is a state of a file in the cache. A nil entry keeps nothing.
type entry struct {
	URL      string `json:"url"`
	Size     int64  `json:"size"`
	Etag     string `json:"etag,omitempty"`
	Modified string `json:"modified,omitempty"`
	// Of a file that was fetched as a whole: its digest, by which it is known where the server says nothing of its state. Such a state is used where no
	// server is asked.
	Digest string `json:"digest,omitempty"`

	dir   string
	cache *Cache
}

func (e *entry) validator() string {
	o := object{etag: e.Etag, modified: e.Modified, size: e.Size}
	if o.validate(); !e.asked() {
		return e.Digest
	}
	return o.validator
}

// asked reports whether a server can be asked whether the file is still the same.
func (e *entry) asked() bool { return e.Etag != "" || e.Modified != "" }

// digestOf is a digest of bytes, as text.
func digestOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:16])
}

// folder is where the states of a file are.
func (c *Cache) folder(name string) string { return filepath.Join(c.Dir, digestOf([]byte(name))) }

// find is the state of a file that was fetched last, nil for none.
func (c *Cache) find(name string) *entry {
	if c == nil {
		return nil
	}
	states, _ := os.ReadDir(c.folder(name))
	var best *entry
	var when time.Time
	for _, s := range states {
		e := c.entry(filepath.Join(c.folder(name), s.Name()))
		if e == nil || e.URL != name {
			continue
		}
		if info, err := os.Stat(filepath.Join(e.dir, metaName)); err == nil && (best == nil || info.ModTime().After(when)) {
			best, when = e, info.ModTime()
		}
	}
	return best
}

// entry reads what a folder of the cache holds, nil for nothing.
func (c *Cache) entry(dir string) *entry {
	data, err := os.ReadFile(filepath.Join(dir, metaName))
	if err != nil {
		return nil
	}
	e := &entry{dir: dir, cache: c}
	if json.Unmarshal(data, e) != nil || e.Size < 1 || !e.asked() && e.Digest == "" {
		return nil
	}
	return e
}

// begin makes the folder of a state of a file, and removes older states.
func (c *Cache) begin(o *object) *entry {
	if c == nil || o.size < 1 || o.etag == "" && o.modified == "" && o.whole == nil {
		return nil
	}
	folder := c.folder(o.name)
	e := &entry{URL: o.name, Size: o.size, Etag: o.etag, Modified: o.modified, cache: c}
	if o.whole != nil {
		e.Digest = digestOf(o.whole)
	}
	e.dir = filepath.Join(folder, digestOf([]byte(o.validator+" "+strconv.FormatInt(o.size, 10))))
	if states, err := os.ReadDir(folder); err == nil {
		for _, s := range states {
			if d := filepath.Join(folder, s.Name()); d != e.dir {
				os.RemoveAll(d)
			}
		}
	}
	if os.MkdirAll(e.dir, 0o700) != nil {
		return nil
	}
	if _, err := os.Stat(filepath.Join(c.Dir, tagName)); err != nil {
		_ = replace(filepath.Join(c.Dir, tagName), []byte(tagText)) // only backups miss it
	}
	data, err := json.Marshal(e)
	if err != nil || replace(filepath.Join(e.dir, metaName), data) != nil {
		return nil
	}
	return e
}

// replace writes a file whole or not at all.
func replace(path string, data []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), "new-*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

// touch notes that a state is used.
func (e *entry) touch() {
	now := time.Now()
	_ = os.Chtimes(filepath.Join(e.dir, metaName), now, now) // it may be removed earlier than it should
}

// spans are the ranges that are there, in the order of the file, without any that overlap.
func (e *entry) spans() (out [][2]int64) {
	list, _ := os.ReadDir(e.dir)
	for _, f := range list {
		from, to, ok := strings.Cut(f.Name(), "-")
		start, err1 := strconv.ParseInt(from, 10, 64)
		end, err2 := strconv.ParseInt(to, 10, 64)
		if !ok || err1 != nil || err2 != nil || start < 0 || end <= start || end > e.Size {
			continue
		}
		if info, err := f.Info(); err == nil && info.Size() == end-start+sumBytes {
			out = append(out, [2]int64{start, end})
		}
	}
	slices.SortFunc(out, func(a, b [2]int64) int { return int(min(1, max(-1, a[0]-b[0]))) })
	kept := out[:0]
	for _, s := range out {
		if n := len(kept); n == 0 || s[0] >= kept[n-1][1] {
			kept = append(kept, s)
		}
	}
	return kept
}

// sumBytes is the length of the digest behind the bytes of a range.
const sumBytes = sha256.Size

// read are the bytes of a range, nil when they are not there or not as they were written.
func (e *entry) read(start, end int64) []byte {
	if e == nil {
		return nil
	}
	data, err := os.ReadFile(e.path(start, end))
	if err != nil || int64(len(data)) != end-start+sumBytes {
		return nil
	}
	data, sum := data[:end-start], data[end-start:]
	if is := sha256.Sum256(data); string(is[:]) != string(sum) {
		return nil
	}
	return data
}

func (e *entry) path(start, end int64) string {
	return filepath.Join(e.dir, fmt.Sprintf("%d-%d", start, end))
}

// write keeps the bytes of a range. A cache that is full or cannot be written to keeps less.
func (e *entry) write(start int64, data []byte) {
	if e == nil {
		return
	}
	sum := sha256.Sum256(data)
	if replace(e.path(start, start+int64(len(data))), slices.Concat(data, sum[:])) != nil {
		return
	}
	if e.cache.wrote.Add(int64(len(data))) > e.cache.Most()/4 {
		e.cache.trim()
	}
}

// Most is how many bytes are kept at most.
func (c *Cache) Most() int64 {
	if c.Limit > 0 {
		return c.Limit
	}
	return defaultLimit
}

// Contents are what a cache holds.
type Contents struct {
	Files int   // states of files
	Bytes int64 // of ranges
}

// Contents counts what the cache holds.
func (c *Cache) Contents() (out Contents) {
	seen := map[string]bool{}
	c.walk(func(path string, info fs.FileInfo) {
		out.Bytes += info.Size()
		if dir := filepath.Dir(path); !seen[dir] {
			seen[dir] = true
			out.Files++
		}
	})
	return out
}

// walk visits the ranges of the cache.
func (c *Cache) walk(visit func(path string, info fs.FileInfo)) {
	_ = filepath.WalkDir(c.Dir, func(path string, d fs.DirEntry, err error) error { // what cannot be read is not there
		if err != nil || d.IsDir() || !strings.Contains(d.Name(), "-") || filepath.Dir(path) == filepath.Clean(c.Dir) {
			return nil
		}
		if info, err := d.Info(); err == nil {
			visit(path, info)
		}
		return nil
	})
}

// Empty removes all that the cache holds. A folder that is no cache is left alone.
func (c *Cache) Empty() error {
	if _, err := os.Stat(filepath.Join(c.Dir, tagName)); err != nil {
		return nil
	}
	list, err := os.ReadDir(c.Dir)
	if err != nil {
		return err
	}
	for _, d := range list {
		if d.IsDir() && len(d.Name()) == 32 {
			if err := os.RemoveAll(filepath.Join(c.Dir, d.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}

// trim removes the ranges that were written first until what is left is within the limit.
func (c *Cache) trim() {
	if c.wrote.Swap(0) == 0 {
		return
	}
	type item struct {
		path string
		size int64
		when time.Time
	}
	var all []item
	var sum int64
	c.walk(func(path string, info fs.FileInfo) {
		all = append(all, item{path, info.Size(), info.ModTime()})
		sum += info.Size()
	})
	if sum <= c.Most() {
		return
	}
	slices.SortFunc(all, func(a, b item) int { return a.when.Compare(b.when) })
	for _, i := range all {
		if sum <= c.Most()*9/10 {
			break
		}
		if os.Remove(i.path) == nil {
			sum -= i.size
		}
		if left, err := os.ReadDir(filepath.Dir(i.path)); err == nil && len(left) == 1 && left[0].Name() == metaName {
			os.RemoveAll(filepath.Dir(i.path))
		}
	}
}
