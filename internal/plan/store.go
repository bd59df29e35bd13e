package plan

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"github.com/zeebo/blake3"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/tally"
)

// Store is the cache folder of a plan:
//
//	CACHEDIR.TAG   says that the folder can be left out of backups
//	lock           held by the run that is at work
//	digests.json   the digests of files, with what shows that a file is the same as when it was read
//	tallies/       what was measured, by the digest of what decides it
//	steps/         what each step was made of, and what it wrote
//	tables/        tables that only other steps read
//
// All of it can be removed at any time. Every entry carries a digest of its content, and one that does not agree with it is removed and made
// again. Files are written under another name and renamed. The methods may be called concurrently.
type Store struct {
	From files.System // where files are read that have a digest

	dir   string
	limit int64
	lock  *flock.Flock

	mu      sync.Mutex
	digests map[string]fileDigest // by absolute path
	asked   map[string]string     // stamps of the files that keys were made of, by absolute path
	moved   bool                  // one of them was changed while a tally may have been measured from it
	changed bool
}

// fileDigest is the digest of a file that a stamp shows to be the same.
type fileDigest struct {
	Stamp  string `json:"stamp"`
	Digest string `json:"blake3"`
	Size   int64  `json:"size"`
}

// cacheTag is the content of CACHEDIR.TAG, whose first line is that of https://bford.info/cachedir/.
const cacheTag = "Signature: 8a477f597d28d172789f06886806bc55\n# What Verdex keeps between runs of a plan. It can be removed at any time.\n"

// OpenStore opens the cache folder of a plan, which it makes if need be. limit is how many bytes of tallies are kept.
func OpenStore(dir string, limit int64) (*Store, error) {
	s := &Store{From: files.Disk, dir: dir, limit: limit, digests: map[string]fileDigest{}, asked: map[string]string{}}
	for _, d := range []string{dir, s.path("tallies"), s.path("steps"), s.path("tables")} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return nil, fmt.Errorf("%s: the cache folder cannot be made (%w): choose another one with cache in the plan", dir, fault.Reason(err))
		}
	}
	if err := s.tag(); err != nil {
		return nil, fmt.Errorf("%s: the cache folder cannot be written to (%w): choose another one with cache in the plan", dir, fault.Reason(err))
	}
	if data, err := s.entry(s.path("digests.json")); err == nil {
		json.Unmarshal(data, &s.digests) // what is wrong is made again
	}
	if s.digests == nil {
		s.digests = map[string]fileDigest{}
	}
	s.lock = flock.New(s.path("lock"), flock.SetPermissions(0o644))
	return s, nil
}

// tag writes the file that says that the folder is a cache, if it is not there. What another run that opens the folder now has removed of it as the rest of a
// killed run is not missed: that run has written the file.
func (s *Store) tag() error {
	path := s.path("CACHEDIR.TAG")
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	err := s.write(path, []byte(cacheTag))
	if _, e := os.Stat(path); e == nil {
		return nil
	}
	return err
}

// OpenExisting opens a cache folder that exists, to read it; it returns nil where there is none.
func OpenExisting(dir string) (*Store, error) {
	if _, err := os.Stat(filepath.Join(dir, "CACHEDIR.TAG")); err != nil {
		return nil, nil
	}
	return OpenStore(dir, 0)
}

func (s *Store) path(names ...string) string {
	return filepath.Join(append([]string{s.dir}, names...)...)
}

// Lock waits until no other run of the plan is at work. waits, when not nil, is called once before the waiting. What a run that was killed has left
// is removed.
func (s *Store) Lock(ctx context.Context, waits func()) error {
	ok, err := s.lock.TryLock()
	if err == nil && !ok {
		if waits != nil {
			waits()
		}
		ok, err = s.lock.TryLockContext(ctx, 100*time.Millisecond)
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil || !ok:
		return fmt.Errorf("%s: the cache folder cannot be locked (%w): choose another one with cache in the plan", s.dir, fault.Reason(err))
	}
	for _, dir := range []string{"", "tallies", "steps", "tables"} {
		s.removeStaged(s.path(dir), stagedPrefix)
	}
	return nil
}

// stagedPrefix begins the names of files of the store that are being written.
const stagedPrefix = ".staged-"

// removeStaged removes files whose names begin with a prefix.
func (s *Store) removeStaged(dir, prefix string) {
	list, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range list {
		if strings.HasPrefix(e.Name(), prefix) {
			os.RemoveAll(filepath.Join(dir, e.Name()))
		}
	}
}

// Mark is the beginning of the names of temporary files of runs of this plan, by which those of a killed run are found.
func (s *Store) Mark() string {
	full, err := filepath.Abs(s.dir)
	if err != nil {
		full = s.dir
	}
	sum := sha256.Sum256([]byte(full))
	return "plan" + hex.EncodeToString(sum[:5]) + "-"
}

// Close ends the use of the folder: the digests of files are kept, and tallies beyond the limit removed, those first that were not used for
// longest.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var err error
	if s.changed {
		var data []byte
		if data, err = json.Marshal(s.digests); err == nil {
			err = s.write(s.path("digests.json"), seal(data))
		}
	}
	if e := s.trim(s.limit); err == nil {
		err = e
	}
	if e := s.lock.Unlock(); err == nil {
		err = e
	}
	return err
}

// write writes a file of the store whole or not at all.
func (s *Store) write(path string, data []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), stagedPrefix+"*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Chmod(f.Name(), 0o644)
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

// seal puts the digest of some bytes before them.
func seal(data []byte) []byte {
	sum := sha256.Sum256(data)
	return append([]byte(hex.EncodeToString(sum[:])+"\n"), data...)
}

// errDamaged is the error of an entry that does not agree with its digest.
var errDamaged = errors.New("the entry is damaged")

// entry reads an entry and removes one that is damaged.
func (s *Store) entry(path string) ([]byte, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	digest, rest, ok := bytes.Cut(data, []byte("\n"))
	sum := sha256.Sum256(rest)
	if !ok || string(digest) != hex.EncodeToString(sum[:]) {
		os.Remove(path)
		return nil, errDamaged
	}
	return rest, nil
}

// Tally reads a tally that was kept, nil for none.
func (s *Store) Tally(key string) *tally.Tally {
	path := s.path("tallies", key)
	data, err := s.entry(path)
	if err != nil {
		return nil
	}
	t, err := tally.Decode(data)
	if err != nil {
		os.Remove(path)
		return nil
	}
	now := time.Now()
	os.Chtimes(path, now, now) // it was used
	return t
}

// Keep keeps a tally and reports whether it did: one that is larger than the limit, and what cannot be written, is not kept, and measured again.
func (s *Store) Keep(key string, t *tally.Tally) bool {
	data, err := t.AppendBinary(nil)
	return err == nil && int64(len(data)) < s.limit && s.write(s.path("tallies", key), seal(data)) == nil
}

// trim removes tallies until at most so many bytes are kept.
func (s *Store) trim(limit int64) error {
	list, err := os.ReadDir(s.path("tallies"))
	if err != nil {
		return err
	}
	var infos []os.FileInfo
	total := int64(0)
	for _, e := range list {
		if info, err := e.Info(); err == nil {
			infos = append(infos, info)
			total += info.Size()
		}
	}
	slices.SortFunc(infos, func(a, b os.FileInfo) int { return cmp.Compare(a.ModTime().UnixNano(), b.ModTime().UnixNano()) })
	for _, info := range infos {
		if total <= limit {
			break
		}
		if err := os.Remove(s.path("tallies", info.Name())); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		total -= info.Size()
	}
	return nil
}

// Contents says what the folder holds.
type Contents struct {
	Dir            string
	Tallies, Steps int
	Bytes          int64 // of all
	Limit          int64 // of tallies
}

// Contents counts what the folder holds.
func (s *Store) Contents() (c Contents) {
	c.Dir, c.Limit = s.dir, s.limit
	filepath.WalkDir(s.dir, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil
		}
		if info, err := e.Info(); err == nil {
			c.Bytes += info.Size()
		}
		switch filepath.Base(filepath.Dir(path)) {
		case "tallies":
			c.Tallies++
		case "steps":
			c.Steps++
		}
		return nil
	})
	return c
}

// Empty removes all that is kept, but the record of what steps wrote: by it their outputs are known to be those of the plan.
func (s *Store) Empty() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.digests, s.changed = map[string]fileDigest{}, true
	err := s.trim(0)
	for _, name := range []string{"tables"} {
		list, e := os.ReadDir(s.path(name))
		err = errors.Join(err, e)
		for _, f := range list {
			err = errors.Join(err, os.Remove(s.path(name, f.Name())))
		}
	}
	return err
}

// Digest returns the BLAKE3 of a file in hexadecimal, which takes a tenth of the time of SHA-256 where processors have no instructions for
// that. A file that is shown to be the same as when it was read last is not read again.
func (s *Store) Digest(path string) (string, error) {
	d, err := s.digest(path)
	return d.Digest, err
}

// KeyDigest returns the digest of a file of which the key of a tally is made. [Store.Unchanged] says later whether the file still has it.
func (s *Store) KeyDigest(path string) (string, error) {
	d, err := s.digest(path)
	if err != nil || files.IsURL(path) {
		return d.Digest, err
	}
	full, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if old, again := s.asked[full]; again && old != d.Stamp {
		s.moved = true
	}
	s.asked[full] = d.Stamp
	return d.Digest, nil
}

// Unchanged reports whether every file that a key was made of since the last call is still the one that had the digest, so that what was measured meanwhile is that of the keys.
func (s *Store) Unchanged() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	same := !s.moved
	for full, stamp := range s.asked {
		info, err := os.Stat(full)
		same = same && err == nil && stampOf(info) == stamp
	}
	s.moved = false
	clear(s.asked)
	return same
}

// DigestOf reads a file and returns its BLAKE3 in hexadecimal and its size.
func DigestOf(path string) (digest string, size int64, err error) {
	f, err := os.Open(path)
	if err != nil {
		return "", 0, fault.Opening(path, err)
	}
	defer f.Close()
	h := blake3.New()
	n, err := io.CopyBuffer(struct{ io.Writer }{h}, struct{ io.Reader }{f}, make([]byte, 1<<20))
	if err != nil {
		return "", 0, fmt.Errorf("%s: it cannot be read (%w)", path, fault.Reason(err))
	}
	return hex.EncodeToString(h.Sum(nil)), n, nil
}

// StateOf is what shows that a file of the web is the one that was read: its validator and its size.
func StateOf(f files.File) string {
	return fmt.Sprintf("%s, %d bytes", f.Validator(), f.Size())
}

// digest is the digest of a file, or of a file of the web its state.
func (s *Store) digest(path string) (fileDigest, error) {
	if files.IsURL(path) {
		f, err := s.From.Open(path)
		if err != nil {
			return fileDigest{}, err
		}
		defer f.Close()
		return fileDigest{Digest: StateOf(f), Size: f.Size()}, nil
	}
	full, err := filepath.Abs(path)
	if err != nil {
		return fileDigest{}, err
	}
	info, err := os.Stat(full)
	if err != nil {
		return fileDigest{}, fault.Opening(path, err)
	}
	if !info.Mode().IsRegular() {
		return fileDigest{}, fmt.Errorf("%s: it is not a file, and what a plan reads is read more than once: name a file", path)
	}
	stamp := stampOf(info)
	s.mu.Lock()
	known, ok := s.digests[full]
	s.mu.Unlock()
	if ok && known.Stamp == stamp {
		return known, nil
	}
	begun := time.Now()
	text, n, err := DigestOf(path)
	if err != nil {
		return fileDigest{}, err
	}
	after, err := os.Stat(full)
	if err != nil || files.Changed(info, after) || n != info.Size() {
		return fileDigest{}, fmt.Errorf("%s: it was changed while it was read: run the plan again", path)
	}
	d := fileDigest{stamp, text, n}
	if begun.Sub(info.ModTime()) > 2*time.Second { // a file may change again within the resolution of its time
		s.mu.Lock()
		s.digests[full], s.changed = d, true
		s.mu.Unlock()
	}
	return d, nil
}
